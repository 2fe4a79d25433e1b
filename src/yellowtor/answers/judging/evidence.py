"""The best of the candidates, and the evidence about it."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from yellowtor.addresses.alignment import Alignment
from yellowtor.addresses.exact import exact
from yellowtor.addresses.parsing.words import words_of
from yellowtor.addresses.readings import best_reading
from yellowtor.addresses.similarity import AGREES
from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Area, Position, distance_m


@dataclass(frozen=True, slots=True)
class Evidence:
    """What speaks for and against a candidate. Distances in metres.

    share is the candidate's part of the fit of all candidates that lie elsewhere, 0 to 1; rivals is their number,
    spread_m the distance of the farthest.
    """

    level: Level | None
    method: Method | None
    reach_m: float
    alignment: Alignment
    inside: bool | None
    score: float | None = None  # the service's own, 0 to 1
    partial: bool = False  # the service says that only a part matched
    rivals: int = 0
    spread_m: float = 0.0
    share: float = 1.0


Fit = Callable[[Evidence], float]  # the log-odds of a candidate alone
LEAD = 3.0  # log-odds: who writes a name that exists means it, not one that is alike
NEGLIGIBLE = 0.002  # of the fit of the best: such a candidate is no rival


def said(candidate: Candidate) -> Mapping[str, str]:
    """The parts that a candidate confirms, and its label."""
    return {**candidate.parts, "label": candidate.label} if candidate.label else candidate.parts


def weigh(
    asked: Address, candidates: Sequence[Candidate], thresholds: Thresholds, fit: Fit
) -> tuple[Candidate, Evidence]:
    """The candidate (of at least one) that fits best, and the evidence about it."""
    alone = [evidence_alone(asked, candidate, thresholds.area) for candidate in candidates]
    return choose(candidates, alone, thresholds.tolerance_m, fit)


def choose(
    candidates: Sequence[Candidate], alone: Sequence[Evidence], tolerance_m: float, fit: Fit
) -> tuple[Candidate, Evidence]:
    """The candidate that fits best by itself, and its evidence with its rivals.

    A rival is a candidate that lies farther than the tolerance and is neither the street or town of the best nor
    something in it. Rivals at one place are one.
    """
    if len(candidates) == 1:
        return candidates[0], alone[0]
    fits = [fit(evidence) for evidence in alone]
    best, *others = sorted(range(len(candidates)), key=lambda i: _order(fits[i], candidates[i]))
    places: list[Position] = []
    odds = 0.0
    for i in others:
        there = candidates[i].position
        lead = _names_that_differ(alone[i]) - _names_that_differ(alone[best])
        odds_there = math.exp(min(0.0, fits[i] - fits[best] - LEAD * max(0, lead)))
        if odds_there < NEGLIGIBLE:
            continue
        near = distance_m(candidates[best].position, there) <= tolerance_m
        if near or _contains(candidates[i], candidates[best]) or _contains(candidates[best], candidates[i]):
            continue
        if all(distance_m(there, place) > tolerance_m for place in places):
            places.append(there)
            odds += odds_there
    if not places:
        return candidates[best], alone[best]
    spread = max(distance_m(candidates[best].position, place) for place in places)
    found = replace(alone[best], rivals=len(places), spread_m=spread, share=1 / (1 + odds))
    return candidates[best], found


def _names_that_differ(evidence: Evidence) -> int:
    """The number of parts of the question that the candidate has in other words."""
    alignment = evidence.alignment
    values = (alignment.number, alignment.street, alignment.town, alignment.postcode, alignment.region)
    return sum(value is not None and value < AGREES for value in values)


def _order(fit: float, candidate: Candidate) -> tuple[float, ...]:
    """The best fit first; of equal ones the finer, then the one with the higher score. Never by place in the list."""
    return (-round(fit, 9), _rank(candidate), -(candidate.score or 0.0), *candidate.position)


def _rank(candidate: Candidate) -> int:
    """How coarse it is: by its level; of one without a level, by its finest part."""
    if candidate.level:
        return candidate.level.rank
    parts = candidate.parts
    finest = ((Level.BUILDING, "number"), (Level.SEGMENT, "street"), (Level.ADDRESS_AREA, "town"))
    return next((level.rank for level, part in finest if parts.get(part)), len(Level))


def _contains(coarse: Candidate, fine: Candidate) -> bool:
    """Whether the first is the street or the town of the second: coarser, and all that it says is said of both."""
    if not coarse.parts and not fine.parts:
        return _rank(coarse) >= _rank(fine) and _segments(coarse.label) < _segments(fine.label)
    if _rank(coarse) <= _rank(fine) or not coarse.parts:
        return False
    return all(fine.parts.get(part) in {text, None} for part, text in coarse.parts.items() if part != "number")


@lru_cache(maxsize=2_000)
def _segments(label: str) -> frozenset[tuple[str, ...]]:
    """The names between the commas of a label, without numbers."""
    names = (tuple(word for word in words_of(one) if word.isalpha()) for one in label.split(","))
    return frozenset(filter(None, names))


def evidence_alone(asked: Address, candidate: Candidate, area: Area | None) -> Evidence:
    """The evidence about one candidate, as if the service had offered no other."""
    answered = said(candidate)
    return Evidence(
        candidate.level,
        candidate.method,
        candidate.reach_m,
        exact(asked, answered) or best_reading(asked, answered)[1],
        inside=area.holds(candidate.position) if area else None,
        score=candidate.score,
        partial=candidate.partial,
    )
