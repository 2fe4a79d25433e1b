"""What the answers of other services say of the best one: they support it, or they name another place."""

from collections.abc import Mapping
from dataclasses import replace

from yellowtor.answers.judging.causes import RIVALS
from yellowtor.answers.judging.confidence import CERTAIN
from yellowtor.answers.judging.judgement import Judgement
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import distance_m, length

INDEPENDENCE = 0.5  # services often share their data: the second one counts half


def compared(best: Judgement, others: Mapping[str, Judgement], thresholds: Thresholds) -> Judgement:
    """The best judgement with the answers of the other services, by their names, as evidence.

    A point within the tolerance supports it. A point farther away than the tolerance and what both points stand for is
    another place; one of the two is wrong.
    """
    if best.candidate is None or best.confidence is None:
        return best
    wrong = 1 - best.confidence.value
    against = 0.0
    said: list[str] = []
    for name, other in others.items():
        if other.candidate is None or other.confidence is None:
            continue
        away = distance_m(best.candidate.position, other.candidate.position)
        if away <= thresholds.tolerance_m and other.candidate.reach_m <= thresholds.tolerance_m:
            wrong *= (1 - other.confidence.value) ** INDEPENDENCE
            said.append(f"{name} answers the same place")
        elif away > thresholds.tolerance_m + best.candidate.reach_m + other.candidate.reach_m:
            against = max(against, other.confidence.value)
            said.append(f"{name} answers another place, {length(away)} away")
    if not said:
        return best
    value = 1 - wrong
    value = round(min(value * (1 - against) / (value * (1 - against) + wrong), CERTAIN), 3) if value else 0.0
    confidence = replace(best.confidence, value=value, reasons=(*said, *best.confidence.reasons))
    placed = value >= thresholds.place_at and not best.forbidden
    return replace(
        best,
        outcome=Outcome.PLACED if placed else Outcome.DOUBTFUL,
        reasons=(*said, *best.reasons),
        confidence=confidence,
        cause="" if placed else RIVALS if best.outcome is Outcome.PLACED else best.cause,
    )
