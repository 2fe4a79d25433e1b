"""The verb `compare`: two sides, record by record: who moved and how far, which outcomes changed, who is right.

A side is a job, a job as it stood before, or a table of known positions. Nothing is sent.
"""

import heapq
import math
from array import array
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol

from yellowtor.answers.history import RecordStanding
from yellowtor.answers.judging.calibrating import Decision
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import distance_m

WORST = 20  # pairs that are named
SHOWN = 1_000  # pairs that a map shows
QUANTILES = (0.5, 0.75, 0.9, 0.95, 0.99)
Z = 1.959964  # of the normal distribution, for 95 %


class Side(Protocol):
    """One side of a comparison. is_truth: its positions are known to be right."""

    name: str
    is_truth: bool

    def pages(self) -> Iterator[Sequence[tuple[str, RecordStanding]]]:
        """Every record with its key, in pages."""

    def standing(self, keys: Sequence[str]) -> Mapping[str, RecordStanding]:
        """The records with these keys that it has."""


class ComparedPair(NamedTuple):
    """A record on both sides, and the distance between its positions in metres."""

    away_m: float
    key: str
    one: RecordStanding
    other: RecordStanding


@dataclass
class Comparison:
    """Counts of records; distances in metres of those with a position on both sides.

    outcomes counts pairs of outcomes; only are the records that one side has alone. decisions says of each position of
    the side that is not the truth whether it is right. farthest has the pairs that are farthest apart, most first.
    keeps_keys: the keys of those with both positions, and of the moved ones, are kept.
    """

    names: tuple[str, str]
    tolerance_m: float
    records: int = 0
    moved: int = 0
    distances: "array[float]" = field(default_factory=lambda: array("d"))
    outcomes: Counter[tuple[Outcome | None, Outcome | None]] = field(default_factory=Counter)
    only: list[int] = field(default_factory=lambda: [0, 0])
    decisions: list[Decision] = field(default_factory=list)
    truth: int | None = None
    placed_keys: set[str] = field(default_factory=set)
    moved_keys: set[str] = field(default_factory=set)
    keeps_keys: bool = False
    _heap: list[tuple[float, str, RecordStanding, RecordStanding]] = field(default_factory=list)

    @property
    def farthest(self) -> list[ComparedPair]:
        """The pairs that are farther apart than the tolerance, the farthest first."""
        return [ComparedPair(*one) for one in sorted(self._heap, key=lambda one: (-one[0], one[1]))]

    @property
    def quantiles(self) -> dict[float, float]:
        """The distances that these shares of the records do not exceed, in metres; empty if there are none."""
        ordered = sorted(self.distances)
        if not ordered:
            return {}
        return {share: ordered[min(len(ordered) - 1, math.ceil(share * len(ordered)) - 1)] for share in QUANTILES}

    def add(self, key: str, one: RecordStanding, other: RecordStanding) -> None:
        """Take a record that both sides have."""
        self.records += 1
        self.outcomes[one.outcome, other.outcome] += 1
        if one.position is None or other.position is None:
            return
        away = distance_m(one.position, other.position)
        self.distances.append(away)
        if self.keeps_keys:
            self.placed_keys.add(key)
        if self.truth is not None:
            judged = (one, other)[1 - self.truth]
            confidence = 1.0 if judged.confidence is None else judged.confidence
            self.decisions.append(Decision(confidence, away <= self.tolerance_m))
        if away > self.tolerance_m:
            self.moved += 1
            if self.keeps_keys:
                self.moved_keys.add(key)
            push = heapq.heappush if len(self._heap) < SHOWN else heapq.heappushpop
            push(self._heap, (away, key, one, other))


def compare(one: Side, other: Side, tolerance_m: float) -> Comparison:
    """Compare two sides; a record is moved if its positions are farther apart than the tolerance (metres)."""
    truth = 0 if one.is_truth else 1 if other.is_truth else None
    found = Comparison((one.name, other.name), tolerance_m, truth=truth)
    for page in one.pages():
        there = other.standing([key for key, _ in page])
        for key, standing in page:
            if key in there:
                found.add(key, standing, there[key])
            else:
                found.only[0] += 1
    for page in other.pages():
        here = one.standing([key for key, _ in page])
        found.only[1] += sum(1 for key, _ in page if key not in here)
    return found


class Estimate(NamedTuple):
    """A share of the whole as a sample shows it, with the ends of its 95 % interval."""

    share: float
    low: float
    high: float


def estimate(strata: Iterable[tuple[int, int, int]]) -> Estimate:
    """The share of the whole, from strata of (records, drawn, of these with the property).

    The interval is Wilson's (1927) for a sample of the size that has the same variance as the weighted one (Kish 1965).
    """
    used = [(records, drawn, hits) for records, drawn, hits in strata if drawn]
    total = sum(records for records, _, _ in used)
    if not total:
        return Estimate(0.0, 0.0, 1.0)
    share = sum(records * hits / drawn for records, drawn, hits in used) / total
    size = total**2 / sum(records**2 / drawn for records, drawn, _ in used)
    return Estimate(share, *wilson(share, size))


def wilson(share: float, size: float) -> tuple[float, float]:
    """Wilson's interval (95 %) of a share that was seen in a sample of this size.

    >>> [round(end, 3) for end in wilson(0.1, 100)]
    [0.055, 0.174]
    """
    middle = share + Z**2 / (2 * size)
    spread = Z * math.sqrt(share * (1 - share) / size + Z**2 / (4 * size**2))
    scale = 1 + Z**2 / size
    low, high = round((middle - spread) / scale, 12), round((middle + spread) / scale, 12)
    return max(0.0, low), min(1.0, high)
