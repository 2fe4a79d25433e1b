"""Explains a judgement: every candidate, every piece of evidence with its weight, and what would change the outcome."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import NamedTuple

from yellowtor.addresses.side_by_side import AlignedPart, side_by_side
from yellowtor.answers.judging.causes import CAUSES, FAR, OF_FEATURE, ONE_POINT
from yellowtor.answers.judging.confidence import CERTAIN, estimate, fit, model, value_of
from yellowtor.answers.judging.evidence import Evidence, evidence_alone, said, weigh
from yellowtor.answers.judging.features import Feature, features
from yellowtor.answers.judging.judgement import Judgement, judged
from yellowtor.answers.judging.other_records import ALONE, OtherRecords, among_others
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome

LARGER = (1.5, 2, 3, 5, 10, 20, 50, 100)  # tolerances that are tried


class Weighed(NamedTuple):
    """All evidence with one cause: its reasons, its part of the log-odds (0 or less), the confidence without it."""

    cause: str
    reasons: tuple[str, ...]
    log_odds: float
    without: float


class Offered(NamedTuple):
    """A candidate, and the confidence that it would have if it were the only one."""

    candidate: Candidate
    confidence: float


@dataclass(frozen=True)
class Explanation:
    """How one reply about one address was judged.

    evidence has the heaviest first; agreeing are the reasons that lower nothing. tolerance_m is a larger tolerance with
    which the record would be placed, None if there is none.
    """

    offered: Sequence[Offered]
    aligned: Sequence[AlignedPart]
    evidence: Sequence[Weighed]
    agreeing: Sequence[str]
    judgement: Judgement
    tolerance_m: float | None


def explain(
    asked: Address, candidates: Sequence[Candidate], thresholds: Thresholds, others: OtherRecords = ALONE
) -> Explanation:
    """Explain how these candidates (at least one) are judged; others is what the job's other records say."""
    alone = [evidence_alone(asked, candidate, thresholds.area) for candidate in candidates]
    best, evidence = weigh(asked, candidates, thresholds, partial(fit, thresholds=thresholds))
    found = list(features(evidence, thresholds.tolerance_m, thresholds.level))
    weights = model().weights
    alone_judged = judged(best, evidence, thresholds)
    judgement = among_others(alone_judged, others, thresholds)
    weighed = _weighed(found, evidence, thresholds, weights)
    weighed = sorted([*_of_others(alone_judged, judgement), *weighed], key=lambda one: one.log_odds)
    heavy = {one.cause for one in weighed}
    return Explanation(
        [Offered(one, estimate(its, thresholds).value) for one, its in zip(candidates, alone, strict=True)],
        side_by_side(asked, said(best)),
        weighed,
        [one.reason for one in found if one.reason and OF_FEATURE[one.name] not in heavy],
        judgement,
        _tolerance(asked, candidates, thresholds, others),
    )


def _weighed(
    found: Sequence[Feature], evidence: Evidence, thresholds: Thresholds, weights: Mapping[str, float]
) -> list[Weighed]:
    """The causes that lower the confidence, heaviest first."""
    made = []
    for cause in CAUSES:
        mine = [one for one in found if OF_FEATURE[one.name] == cause]
        log_odds = sum(weights.get(one.name, 0.0) * one.amount for one in mine)
        if log_odds < 0:
            rest = [one for one in found if one not in mine]
            share = 1.0 if any(one.name == "rivals" for one in mine) else evidence.share
            reasons = tuple(one.reason for one in mine if one.reason)
            made.append(Weighed(cause, reasons, log_odds, value_of(rest, share, thresholds)))
    return made


def _of_others(alone: Judgement, among: Judgement) -> list[Weighed]:
    """What the other records change."""
    if alone.confidence is None or among.confidence is None or alone is among:
        return []
    before, after = (min(max(one.value, 1e-3), CERTAIN) for one in (alone.confidence, among.confidence))
    reasons = among.reasons[: len(among.reasons) - len(alone.reasons)]
    log_odds = math.log(after / (1 - after)) - math.log(before / (1 - before))
    return [Weighed(among.cause if among.cause in {ONE_POINT, FAR} else FAR, reasons, log_odds, alone.confidence.value)]


def _tolerance(
    asked: Address, candidates: Sequence[Candidate], thresholds: Thresholds, others: OtherRecords
) -> float | None:
    """The smallest of some larger tolerances with which the record would be placed."""
    for times in LARGER:
        larger = replace(thresholds, tolerance_m=thresholds.tolerance_m * times)
        best, evidence = weigh(asked, candidates, larger, partial(fit, thresholds=larger))
        if among_others(judged(best, evidence, larger), others, larger).outcome is Outcome.PLACED:
            return larger.tolerance_m
    return None
