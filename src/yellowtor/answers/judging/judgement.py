"""How a record ends: from a reply's candidates to exactly one outcome."""

from collections.abc import Sequence
from dataclasses import dataclass

from yellowtor.addresses.keys import digest
from yellowtor.addresses.parsing.parse import parse
from yellowtor.answers.judging.confidence import Confidence, estimate, fit, model
from yellowtor.answers.judging.evidence import Evidence, weigh
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome, Reason
from yellowtor.contracts.position import Area

RULES = "aligned-1"  # enters the judgement key: other rules judge kept replies anew


@dataclass(frozen=True, slots=True)
class Thresholds:
    """What a job accepts: tolerance in metres, the confidence from which a point is placed, its area."""

    tolerance_m: float
    place_at: float
    area: Area | None = None

    def judgement_key(self, reading_key: str) -> str:
        return digest(RULES, model().version, reading_key, repr(self))


@dataclass(frozen=True, slots=True)
class Judgement:
    """An outcome with its candidate (if any), its confidence and its reasons."""

    outcome: Outcome
    reasons: tuple[Reason, ...]
    candidate: Candidate | None = None
    confidence: Confidence | None = None


def judge(
    asked: Address,
    context: frozenset[str],
    kind: Kind,
    message: str,
    candidates: Sequence[Candidate],
    thresholds: Thresholds,
) -> Judgement:
    """Judge a reply to the question about asked.

    context names the parts that the job fixed: an answer that confirms nothing else confirms nothing.
    """
    if not kind.is_answer:
        return Judgement(Outcome.FAILED, (f"{kind}: {message}" if message else str(kind),))
    if not candidates:
        return Judgement(Outcome.UNPLACED, (message or "the service found nothing",))
    tolerance_m = thresholds.tolerance_m
    best, evidence = weigh(parse(asked), candidates, thresholds.area, tolerance_m, lambda one: fit(one, tolerance_m))
    if not _confirms(evidence, context):
        return Judgement(Outcome.UNPLACED, ("the answer confirms only what the job fixed",))
    confidence = estimate(evidence, tolerance_m)
    placed = confidence.value >= thresholds.place_at and evidence.inside is not False
    return Judgement(Outcome.PLACED if placed else Outcome.DOUBTFUL, confidence.reasons, best, confidence)


def _confirms(evidence: Evidence, context: frozenset[str]) -> bool:
    """Whether any part of the record's own, street or coarser, is confirmed by the answer."""
    parts = {"street", "town", "postcode", "region"} - context
    return any((getattr(evidence.alignment, part) or 0) > 0.7 for part in parts)
