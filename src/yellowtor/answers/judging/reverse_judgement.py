"""How a record ends that is asked about in reverse: from the places that a reply offers to one address, or none.

Confidence is the probability that the address is that of the point: what is at most the job's tolerance away. A product
of factors, each from one feature and with its reason.
"""

import math
from collections.abc import Iterator, Sequence

from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.judging.causes import COARSE, RIVALS
from yellowtor.answers.judging.confidence import Confidence
from yellowtor.answers.judging.judgement import Judgement
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position, distance_m, length

VERSION = "nearby-1"  # enters the judgement key of what is asked in reverse
Factor = tuple[float, str, str]  # from 0 to 1, the reason, and the cause by its name
CERTAIN = 0.98  # no service is surer than this about anything
AS_NEAR_M = 5.0  # two places whose distances differ by less are about as near


def judge_nearby(
    asked: Position, kind: Kind, message: str, candidates: Sequence[Candidate], thresholds: Thresholds
) -> Judgement:
    """Judge a reply to the question what is at this position."""
    if not kind.is_answer:
        return Judgement(Outcome.FAILED, (f"{kind}: {message}" if message else str(kind),))
    if not candidates:
        return Judgement(Outcome.UNPLACED, (message or "the service found nothing there",))
    judged = [
        (_confidence(asked, candidate, candidates, thresholds.tolerance_m), candidate) for candidate in candidates
    ]
    confidence, best = max(judged, key=lambda pair: (pair[0].value, -distance_m(asked, pair[1].position)))
    if confidence.value >= thresholds.place_at:
        return Judgement(Outcome.PLACED, confidence.reasons, best, confidence)
    return Judgement(Outcome.DOUBTFUL, confidence.reasons, best, confidence, confidence.cause)


def _confidence(
    asked: Position, candidate: Candidate, all_of_them: Sequence[Candidate], tolerance_m: float
) -> Confidence:
    away = distance_m(asked, candidate.position)
    factors = [
        *_distance(away, tolerance_m),
        *_fineness(candidate.level, candidate.method, candidate.reach_m, tolerance_m),
        *_rivals(asked, away, candidate, all_of_them),
        *_own_word(candidate.score, partial=candidate.partial),
    ]
    value = CERTAIN * math.prod(factor for factor, _, _ in factors)
    factors.sort(key=lambda found: found[0])
    reasons = tuple(reason for _, reason, _ in factors)
    return Confidence(round(value, 3), reasons, cause=factors[0][2])


def _distance(away: float, tolerance_m: float) -> Iterator[Factor]:
    factor = 1.0 if away <= tolerance_m else 0.95 * tolerance_m / away
    yield factor, f"the place answered is {length(away)} from the point", "distance"


def _rivals(asked: Position, away: float, candidate: Candidate, all_of_them: Sequence[Candidate]) -> Iterator[Factor]:
    """Other addresses, as fine, that are about as near."""
    rivals = [
        other
        for other in all_of_them
        if other.level == candidate.level
        and dict(other.parts) != dict(candidate.parts)
        and distance_m(asked, other.position) < away + AS_NEAR_M
    ]
    if rivals:
        said = "another address is" if len(rivals) == 1 else f"{len(rivals)} other addresses are"
        yield 1 / (1 + len(rivals)), f"{said} about as near", RIVALS


def _fineness(level: Level | None, method: Method | None, reach_m: float, tolerance_m: float) -> Iterator[Factor]:
    """The factor of the level: the ratio of the tolerance to its reach in metres."""
    named = str(level) if level else "unknown level"
    named = f"an {named}" if named[0] in "aeiou" else f"a {named}"
    if reach_m > tolerance_m:
        yield 0.95 * tolerance_m / reach_m, f"the point stands for {named}, up to {length(reach_m)} away", COARSE
    else:
        yield 1.0, f"the point stands for {named}", COARSE
    if method is Method.INTERPOLATED:
        yield 0.7, "the point is interpolated between neighbours", "interpolated"


def _own_word(score: float | None, *, partial: bool) -> Iterator[Factor]:
    """What the service says of itself counts against an answer, never for it."""
    if partial:
        yield 0.7, "the service says that only a part matched", "unsure service"
    if score is not None and score < 0.5:
        yield 0.5 + score, f"the service itself is not sure ({score:.2f} of 1)", "unsure service"
