"""The columns that answers can be written into. A new column is an entry in COLUMNS."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any

from yellowtor.addresses.line_template import LineTemplate
from yellowtor.answers.geography.levels import Level
from yellowtor.answers.geography.projection import Point, Projection, ewkb
from yellowtor.answers.record_answers import EXTRA, NO_PARTS, Answer, Answers
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position, distance_m
from yellowtor.contracts.subject import AskedPosition

MATCHED = "matched_"  # begins the names of columns for the parts of the matched address
TEXTS: dict[Outcome | None, str] = {None: "", **{outcome: outcome.value for outcome in Outcome}}
USUAL_LENGTH = 24


@dataclass(frozen=True)
class ColumnRules:
    """What a job says about all columns: the lines of a postal address, a coordinate system, the direction."""

    in_reverse: bool = False
    postal: Sequence[LineTemplate] = ()
    projection: Projection | None = None


@dataclass(frozen=True)
class Cells:
    """The answers for many records, and what several columns are made from. A point is None if it is not sure."""

    answers: Answers
    points: Sequence[Point | None]
    rules: ColumnRules

    @cached_property
    def parts(self) -> list[Mapping[str, str]]:
        """The parts of the matched address. In reverse they are the answer, and given only if it is sure."""
        found = zip(self.answers.column("parts"), self.points, strict=True)
        return [parts if parts and (point or not self.rules.in_reverse) else NO_PARTS for parts, point in found]

    @cached_property
    def letters(self) -> list[list[str]]:
        """The lines of each postal address, without empty ones."""
        return [
            [line for template in self.rules.postal if (line := template.fill(lambda name: parts.get(name, "")))]  # noqa: B023
            for parts in self.parts
        ]

    @cached_property
    def projected(self) -> list[tuple[float | None, float | None]]:
        """Easting and northing; None if there is no point, or none in that coordinate system."""
        assert self.rules.projection is not None, "the job has one"
        there = iter(self.rules.projection.project([point for point in self.points if point]))
        found = [next(there) if point else None for point in self.points]
        return [pair if pair and all(map(math.isfinite, pair)) else (None, None) for pair in found]


@dataclass(frozen=True)
class AnswerColumn:
    """A column: its key in a job, what the documentation says, and its values for many records.

    needs are the fields of an answer that the values are made from. samples are values that a database is tried with
    before anything is asked; else a text of usual_length characters, or a number.
    """

    name: str
    description: str
    values: Callable[[Cells], Sequence[Any]]
    needs: frozenset[str] = frozenset()
    is_number: bool = False
    samples: Sequence[Any] = ()
    usual_length: int = USUAL_LENGTH

    def sample(self) -> Sequence[Any]:
        """Values to try a column of a database with."""
        if self.samples:
            return self.samples
        return [1.5] if self.is_number else [("Lorem ipsum " * 20)[: self.usual_length]]


def _field(name: str, description: str, **more: Any) -> AnswerColumn:
    """A column that shows a field of the answer."""
    return AnswerColumn(name, description, lambda cells: cells.answers.column(name), frozenset({name}), **more)


def _part(name: str, description: str, **more: Any) -> AnswerColumn:
    """A column that shows a part of the matched address."""
    part = name.removeprefix(MATCHED)
    return AnswerColumn(
        name, description, lambda cells: [p.get(part) for p in cells.parts], frozenset({"parts"}), **more
    )


def _postal_line(at: int, cells: Cells) -> list[str | None]:
    return [lines[at] if at < len(lines) else None for lines in cells.letters]


def _matched(cells: Cells) -> Sequence[Any]:
    texts = cells.answers.column("matched")
    if not cells.rules.in_reverse:
        return texts
    return [text if point else None for text, point in zip(texts, cells.points, strict=True)]


def _distance(answer: Answer, point: Point | None) -> float | None:
    """Metres from the position that was asked about to the place answered."""
    asked = answer.address
    if point is None or not isinstance(asked, AskedPosition) or not asked.lat:
        return None
    return round(distance_m(asked.position, Position(*point)), 1)


def _distances(cells: Cells) -> list[float | None]:
    return [_distance(answer, point) for answer, point in zip(cells.answers, cells.points, strict=True)]


def _side(at: int, cells: Cells) -> list[float | None]:
    return [point and point[at] for point in cells.points]


PARTS = frozenset({"parts"})
ORDINALS = ("The first of those lines.", "The second.", "The third.", "The fourth.")
COLUMNS: Sequence[AnswerColumn] = (
    AnswerColumn(
        "latitude", "Degrees, WGS 84, six decimals.", partial(_side, 0), is_number=True, samples=(47.123456, -9.654321)
    ),
    AnswerColumn(
        "longitude", "Degrees, WGS 84, six decimals.", partial(_side, 1), is_number=True, samples=(12.123456, -9.654321)
    ),
    AnswerColumn(
        "outcome",
        "How the record ended.",
        lambda cells: [TEXTS[outcome] for outcome in cells.answers.column("outcome")],
        samples=[outcome.value for outcome in Outcome],
    ),
    _field("confidence", "Probability that the point is right, 0 to 1.", is_number=True, samples=(0.9876, 1.0)),
    _field("level", "The level of the position.", samples=["", *(level.value for level in Level)]),
    AnswerColumn(
        "matched",
        "The address that the service answered.",
        _matched,
        frozenset({"matched"}),
        usual_length=80,
    ),
    _part("matched_number", "House number of the address that the service answered.", usual_length=4),
    _part("matched_street", "Its street."),
    _part("matched_town", "Its town."),
    _part("matched_postcode", "Its postcode.", usual_length=8),
    _part("matched_region", "Its region."),
    _part("matched_country", "Its country.", usual_length=2),
    AnswerColumn(
        "postal",
        "The lines of a postal address for a letter (`write.postal`), in one cell.",
        lambda cells: ["\n".join(lines) or None for lines in cells.letters],
        PARTS,
        usual_length=80,
    ),
    *(
        AnswerColumn(f"postal_{at + 1}", text, partial(_postal_line, at), PARTS, usual_length=80)
        for at, text in enumerate(ORDINALS)
    ),
    AnswerColumn(
        "distance_m",
        "In reverse: metres from the point to the place answered.",
        _distances,
        frozenset({"address"}),
        is_number=True,
        samples=(12.3,),
    ),
    AnswerColumn(
        "reasons",
        "Why the confidence is what it is.",
        lambda cells: ["; ".join(reasons) for reasons in cells.answers.column("reasons")],
        frozenset({"reasons"}),
        usual_length=120,
    ),
    AnswerColumn(
        "geo",
        "The point as a `geo:` URI (RFC 5870), which opens in map programs.",
        lambda cells: [point and f"geo:{point[0]},{point[1]}" for point in cells.points],
        samples=("geo:-47.123456,-112.123456",),
    ),
    AnswerColumn(
        "x",
        "Easting of the point in the coordinate system `write.crs`.",
        lambda cells: [x for x, _ in cells.projected],
        is_number=True,
        samples=(1234567.891,),
    ),
    AnswerColumn(
        "y",
        "Northing of the point in the coordinate system `write.crs`.",
        lambda cells: [y for _, y in cells.projected],
        is_number=True,
        samples=(1234567.891,),
    ),
    AnswerColumn(
        "geometry",
        "The point as a PostGIS geometry (EWKB, SRID 4326).",
        lambda cells: [ewkb(*point) if point else None for point in cells.points],
    ),
    _field("service", "The service that answered.", usual_length=12),
    _field("asked_at", "When the answer came: ISO 8601, UTC.", samples=("2026-01-31T12:34:56.789+00:00",)),
)
BY_NAME = {column.name: column for column in COLUMNS}
NUMBERS = {column.name for column in COLUMNS if column.is_number}


def column_of(name: str) -> AnswerColumn:
    """The column with this name; a field of the description's own has a column too."""
    return BY_NAME[name] if not name.startswith(EXTRA) else _part(name, "")
