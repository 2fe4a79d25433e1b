"""The named features on which the judgement of one answer rests. Nothing else may enter a confidence."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellowtor.addresses.compare import Agreement, compare, split_number
from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Area, distance_m

WEIGHTS = {"number": 2.0, "street": 3.0, "town": 3.0, "postcode": 1.5, "region": 0.5, "country": 3.0}


@dataclass(frozen=True, slots=True)
class Evidence:
    """What speaks for and against a candidate. Distances in metres, agreement from 0 to 1 or None."""

    level: Level | None
    method: Method | None
    reach_m: float
    agreement: Agreement
    asked_number: bool
    rivals: int
    spread_m: float
    inside: bool | None
    score: float | None = None  # the service's own, 0 to 1
    partial: bool = False  # the service says that only a part matched


def agreement_score(agreement: Agreement) -> float:
    """The weighted mean of the parts that can be compared; 0 when none can."""
    known = [(value, WEIGHTS[part]) for part in WEIGHTS if (value := getattr(agreement, part)) is not None]
    return sum(v * w for v, w in known) / sum(w for _, w in known) if known else 0.0


def _merit(agreement: Agreement, candidate: Candidate) -> float:
    """Of candidates that agree about as well, the better is the finer one, and the one that the service prefers."""
    rank = candidate.level.rank if candidate.level else len(Level)
    return agreement_score(agreement) - 0.02 * rank + 0.05 * (candidate.score or 0.0)


def _said(candidate: Candidate) -> Mapping[str, str]:
    """The parts that a candidate confirms; of one without any, its label."""
    return candidate.parts or ({"label": candidate.label} if candidate.label else {})


def weigh(asked: Address, candidates: Sequence[Candidate], area: Area | None) -> tuple[Candidate, Evidence]:
    """The best of the candidates (at least one) and the evidence about it.

    A rival is another candidate that agrees nearly as well and lies further off than both may reach.
    """
    number, _ = split_number(asked.number, asked.street or asked.whole.split(",")[0])
    if len(candidates) == 1:
        (only,) = candidates
        return only, _evidence(only, compare(asked, _said(only)), bool(number), (), area)
    agreements = [compare(asked, _said(candidate)) for candidate in candidates]
    merits = [_merit(agreement, c) for agreement, c in zip(agreements, candidates, strict=True)]
    at = max(range(len(candidates)), key=lambda i: (merits[i], -i))
    best = candidates[at]
    apart = [
        distance_m(best.position, other.position)
        for i, other in enumerate(candidates)
        if i != at and merits[at] - merits[i] < 0.06 and not _contradicts(agreements[i], agreements[at])
    ]
    return best, _evidence(best, agreements[at], bool(number), apart, area)


def _evidence(
    best: Candidate, agreement: Agreement, asked_number: bool, apart: Sequence[float], area: Area | None
) -> Evidence:
    reach_m = best.reach_m
    far = [distance for distance in apart if distance > 2 * reach_m]
    return Evidence(
        best.level,
        best.method,
        reach_m,
        agreement,
        asked_number,
        rivals=len(far),
        spread_m=max(far, default=0.0),
        inside=area.holds(best.position) if area else None,
        score=best.score,
        partial=best.partial,
    )


def _contradicts(rival: Agreement, best: Agreement) -> bool:
    """Whether a rival is ruled out by a part that the best one confirms."""
    return any(getattr(rival, part) == 0 and getattr(best, part) == 1 for part in ("number", "postcode", "country"))
