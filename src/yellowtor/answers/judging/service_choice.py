"""What several services say of one address: when one answer is good enough, and which of them wins."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from yellowtor.answers.geography.levels import Level
from yellowtor.answers.judging.agreement import compared
from yellowtor.answers.judging.judgement import Judgement
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.contracts.outcome import Outcome

POINTS = (Outcome.PLACED, Outcome.DOUBTFUL)


@dataclass(frozen=True, slots=True)
class AskNext:
    """When the next service is asked: for which of the answers of the one before.

    below is a confidence, coarser_than the coarsest level that will do (None: any).
    """

    below: float
    nothing_found: bool = True
    failed: bool = True
    coarser_than: Level | None = None
    outside_area: bool = True

    def wants_more(self, judgement: Judgement, thresholds: Thresholds) -> bool:
        """Whether another service is to be asked after this answer."""
        if judgement.outcome is Outcome.FAILED:
            return self.failed
        if judgement.candidate is None or judgement.confidence is None:
            return self.nothing_found
        level = judgement.candidate.level
        area = thresholds.area
        coarse = self.coarser_than is not None and (level is None or level.rank > self.coarser_than.rank)
        outside = area is not None and not area.holds(judgement.candidate.position)
        return coarse or (self.outside_area and outside) or judgement.confidence.value < self.below


class Settled(NamedTuple):
    """The result of all answers to an address: the best judgement, its service, and whether it is good enough."""

    judgement: Judgement
    service: str
    enough: bool


def settle(
    judged: Mapping[str, Judgement],
    silent: Sequence[str],
    ask_next: AskNext,
    thresholds: Thresholds,
    *,
    compares: bool = True,
) -> Settled:
    """The best of the judgements (at least one, by the service's name, in the order in which services are asked).

    silent are the services that have not replied yet. As long as one of them is to be asked, an address without a
    point waits. compares: points of several services are evidence for and against the best one.
    """
    enough = not all(ask_next.wants_more(judgement, thresholds) for judgement in judged.values())
    points = {name: j for name, j in judged.items() if j.outcome in POINTS}
    if points:
        service = max(points, key=lambda name: _merit(points[name]))
        others = {name: judgement for name, judgement in points.items() if name != service}
        best = compared(points[service], others, thresholds) if others and compares else points[service]
        return Settled(best, service, enough)
    failed = [name for name, j in judged.items() if j.outcome is Outcome.FAILED]
    service = (failed or list(judged))[0]
    reasons = judged[service].reasons
    if len(judged) + len(silent) > 1:
        reasons = tuple(f"{name}: {'; '.join(j.reasons)}" for name, j in judged.items())
    if silent and not enough:
        reasons += tuple(f"{name} has not been asked yet" for name in silent)
        return Settled(Judgement(Outcome.WAITING, reasons), service, enough)
    return Settled(Judgement(judged[service].outcome, reasons), service, enough)


def _merit(judgement: Judgement) -> tuple[bool, float]:
    return judgement.outcome is Outcome.PLACED, judgement.confidence.value if judgement.confidence else 0.0
