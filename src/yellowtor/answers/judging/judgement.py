"""How a record ends: from a reply's candidates to exactly one outcome."""

from collections.abc import Sequence
from dataclasses import dataclass

from yellowtor.addresses.keys import digest
from yellowtor.answers.judging.causes import COARSE, OUTSIDE
from yellowtor.answers.judging.confidence import Confidence, estimate, fit, model
from yellowtor.answers.judging.evidence import Evidence, weigh
from yellowtor.answers.judging.features import level_of
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome, Reason

CONTRADICTS = 0.5  # a part that agrees less is another one
RULES = "aligned-4"  # enters the judgement key: other rules judge kept replies anew


def judgement_key(thresholds: Thresholds, reading_key: str) -> str:
    """The digest of all that a judgement depends on beside the reply."""
    return digest(RULES, model().version, reading_key, thresholds.key())


@dataclass(frozen=True, slots=True)
class Judgement:
    """An outcome with its candidate (if any), its confidence and its reasons.

    cause is why it is doubtful, by name; forbidden: a rule of the job forbids placing it, whatever the confidence.
    """

    outcome: Outcome
    reasons: tuple[Reason, ...]
    candidate: Candidate | None = None
    confidence: Confidence | None = None
    cause: str = ""
    forbidden: bool = False


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
    best, evidence = weigh(asked, candidates, thresholds, lambda one: fit(one, thresholds))
    if not _confirms(evidence, context):
        return Judgement(Outcome.UNPLACED, ("the answer confirms only what the job fixed",))
    return judged(best, evidence, thresholds)


def judged(best: Candidate, evidence: Evidence, thresholds: Thresholds) -> Judgement:
    """The outcome of a candidate by its evidence."""
    confidence = estimate(evidence, thresholds)
    forbidden = _forbidden(evidence, thresholds)
    reasons = confidence.reasons
    cause = confidence.cause
    if forbidden:
        cause, why = forbidden
        reasons = (why, *(reason for reason in reasons if reason != why))
    if confidence.value >= thresholds.place_at and not forbidden:
        return Judgement(Outcome.PLACED, reasons, best, confidence)
    return Judgement(Outcome.DOUBTFUL, reasons, best, confidence, cause, bool(forbidden))


def _forbidden(evidence: Evidence, thresholds: Thresholds) -> tuple[str, str] | None:
    """The rule of the job that forbids placing this, as its cause and its reason."""
    if evidence.inside is False:
        return OUTSIDE, "the point lies outside the job's area"
    for part in thresholds.must_agree:
        value = getattr(evidence.alignment, part)
        if value is not None and value < CONTRADICTS:
            name = "house number" if part == "number" else part
            return name, f"judge.must_agree: the {name} is another one"
    level = level_of(evidence)
    if thresholds.level and level.rank > thresholds.level.rank:
        return COARSE, f"judge.level: the point stands for more than {thresholds.level}"
    return None


def _confirms(evidence: Evidence, context: frozenset[str]) -> bool:
    """Whether any part of the record's own, street or coarser, is confirmed by the answer."""
    parts = {"street", "town", "postcode", "region"} - context
    return any((getattr(evidence.alignment, part) or 0) > 0.7 for part in parts)
