"""What the answers to the other records of a job say of an answer.

A point that many different streets get is where the service puts what it does not know. A point far from those of the
other records of the same town is perhaps in another town of that name.
"""

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace
from itertools import chain, islice
from typing import NamedTuple

from yellowtor.addresses.canonical import canonical
from yellowtor.addresses.keys import digest
from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.parsing.words import Word, street_of
from yellowtor.addresses.similarity import similar
from yellowtor.answers.geography.levels import Level
from yellowtor.answers.geography.outliers import cluster_of
from yellowtor.answers.judging.causes import FAR, ONE_POINT
from yellowtor.answers.judging.judgement import Judgement
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position, distance_m, length
from yellowtor.contracts.subject import Subject

FEW = 4  # streets that may meet at one point
MOST = 40  # nothing changes with more of them
RIGHT = 2  # of the streets with one point: those of a corner
OTHER_STREET = 0.6  # names that are less alike are two streets; else one of them is a typing error
POINTS = 500  # of a town: enough for its middle
FAR_M = 50_000.0
FAR_ODDS = 0.1  # wrong answers are far away so much more often (measured on made-up worlds: 0.03)
NUMBER = re.compile(r"\d+\w?")
FINE = tuple(level.value for level in Level if level.rank <= Level.SEGMENT.rank)


class OtherRecords(NamedTuple):
    """streets is the number of different streets with the same point, 0 if they are few.

    away_m is the distance from the other records of the town in metres, 0 if it is near them.
    """

    streets: int = 0
    away_m: float = 0.0


ALONE = OtherRecords()


def town_key(asked: Subject) -> str:
    """Equal for the records of one town; empty where no town is asked for."""
    if not isinstance(asked, Address) or not asked.town:
        return ""
    return digest(canonical(asked.town), canonical(asked.region), canonical(asked.country))[:12]


class StreetCount:
    """Counts different streets among addresses, up to MOST."""

    def __init__(self) -> None:
        self._streets: list[tuple[Word, ...]] = []
        self._seen: set[str] = set()

    def add(self, asked: Subject) -> None:
        """Count the street of this address, if it is a new one."""
        if not isinstance(asked, Address) or len(self._streets) >= MOST:
            return
        text = NUMBER.sub("", f"{asked.street} {asked.whole}")
        if text in self._seen:
            return
        self._seen.add(text)
        street = street_of(parse(asked).street).core
        if street and all(similar(street, other) < OTHER_STREET for other in self._streets):
            self._streets.append(street)

    @property
    def streets(self) -> int:
        """The number of different streets; 0 if they are few."""
        return len(self._streets) if len(self._streets) >= FEW else 0


def far_from_the_others(points: Iterable[tuple[int, Position]]) -> Iterator[tuple[int, float]]:
    """Those of a town's points (each with a number) that are far from most of the others: metres, in whole km."""
    rest = iter(points)
    first = list(islice(rest, POINTS))
    cluster = cluster_of([position for _, position in first], FAR_M)
    for number, position in chain(first, rest) if cluster else ():
        if cluster and cluster.is_far(position):
            yield number, round(distance_m(cluster.middle, position), -3)


def among_others(judgement: Judgement, others: OtherRecords, thresholds: Thresholds) -> Judgement:
    """The judgement with the other records as evidence. It never raises the confidence."""
    if judgement.candidate is None or judgement.confidence is None:
        return judgement
    value = judgement.confidence.value
    said = []
    cause = ""
    if others.streets and thresholds.tolerance_m < Level.ADDRESS_AREA.reach_m:
        value = min(value, RIGHT / others.streets)
        count = f"{MOST} or more" if others.streets >= MOST else f"{others.streets}"
        said.append(f"the service answers this point for {count} different streets")
        cause = ONE_POINT
    if others.away_m:
        value = value * FAR_ODDS / (value * FAR_ODDS + 1 - value)
        said.append(f"the point is {length(others.away_m)} from the other records of this town")
        cause = cause or FAR
    if not said:
        return judgement
    confidence = replace(judgement.confidence, value=round(value, 3), reasons=(*said, *judgement.confidence.reasons))
    placed = judgement.outcome is Outcome.PLACED and value >= thresholds.place_at
    return replace(
        judgement,
        outcome=Outcome.PLACED if placed else Outcome.DOUBTFUL,
        reasons=(*said, *judgement.reasons),
        confidence=confidence,
        cause=cause if judgement.outcome is Outcome.PLACED and not placed else judgement.cause,
    )
