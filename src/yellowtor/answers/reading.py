"""Reading a reply: which kind it is, and which candidates it offers, whatever its shape.

A coordinate is only ever taken from a field that the description names and that holds a number (or the
text of one) on the globe. A position of 0,0 is no answer: a reply that offers nothing else is unreadable.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from http import HTTPStatus
from typing import Any, NamedTuple

from yellowtor.answers.candidate import NONE, Candidate
from yellowtor.answers.kinds import Kind
from yellowtor.answers.levels import Level, Method
from yellowtor.answers.paths import Fields, Finder, Getter
from yellowtor.answers.position import Area, Position, is_null_island
from yellowtor.answers.rules import Rule, Seen, by_status
from yellowtor.answers.shapes import CantOpenError, JsonShape, Shape
from yellowtor.answers.values import as_written

PROBLEM = "application/problem+json"  # RFC 9457
_NUMBERS = {".": re.compile(r"[-+]?\d+(?:\.\d+)?"), ",": re.compile(r"[-+]?\d+(?:,\d+)?")}
JSON = JsonShape()
UNKNOWN = (None, None)  # level and method
OWN = {"score", "radius", "partial"}  # what a service says of its answer, among the parts until a candidate is made


@dataclass(frozen=True, slots=True)
class Reading:
    """How a service's replies are read: compiled rules, paths and its words for levels.

    A position is in two fields, or is one (an array, or a text), its longitude first if lon_first. to_degrees turns
    a position in another coordinate system into degrees (latitude, longitude). score is (worst, best).
    """

    rules: Sequence[Rule]
    candidates: Finder
    latitude: Getter | None = None
    longitude: Getter | None = None
    parts: Fields = lambda _: {}  # of an address, and level, label, score, partial, radius
    box: Sequence[Getter] = ()  # west, south, east, north; or one path to the four
    message: Finder | None = None
    levels: Mapping[str, tuple[Level, Method | None]] = field(default_factory=dict)
    shape: Shape = JSON
    position: Getter | None = None
    lon_first: bool = False
    decimal: str = "."
    to_degrees: Callable[[float, float], tuple[float, float]] | None = None
    score: tuple[float, float] = (0.0, 1.0)
    partial: frozenset[str] = frozenset()
    own: Fields | None = None  # fields that the description adds
    looks: Mapping[str, Getter] = field(default_factory=dict)  # the way to each field, by its name


class Read(NamedTuple):
    """What a reply was found to say. `remarks` tell what was passed over, and why; `because` what decided the kind."""

    kind: Kind
    candidates: Sequence[Candidate] = ()
    message: str = ""
    remarks: Sequence[str] = ()
    because: str = ""


def read_reply(reading: Reading, status: int, body: bytes, headers: Mapping[str, str] | None = None) -> Read:
    """The kind of a reply and the candidates in it. Never raises, whatever the bytes are."""
    read, places = _opened(reading, status, body, headers or {})
    if read.kind is not Kind.ANSWERED:
        return read
    candidates, remarks = [], []
    for place in places:
        made = _candidate(reading, place)
        candidates.append(made) if isinstance(made, Candidate) else remarks.append(made)
    if candidates:
        return Read(Kind.ANSWERED, candidates, read.message, remarks, read.because)
    if places:
        return Read(Kind.UNREADABLE, (), read.message or remarks[0], remarks, "no position could be read")
    return Read(Kind.NOTHING_FOUND, (), read.message, because="the list of candidates is empty or not there")


def read_meaning(reading: Reading, status: int, body: bytes, headers: Mapping[str, str] | None = None) -> Read:
    """What read_reply() says of a reply, but for its candidates: all that asking needs, in a fraction of the time."""
    read, places = _opened(reading, status, body, headers or {})
    if read.kind is Kind.ANSWERED and not any(isinstance(_position(reading, p), Position) for p in places):
        return read_reply(reading, status, body, headers)
    return read


def read_kind(reading: Reading, status: int, body: bytes, headers: Mapping[str, str]) -> Kind:
    """What the rules, or else the status, say of a reply as a whole; its candidates are not looked at."""
    read, _ = _opened(reading, status, body, headers)
    return read.kind


@dataclass(frozen=True, slots=True)
class Looked:
    """What a path of a description found in the first candidate; None where there is none."""

    name: str
    path: str
    found: str | None


def look_up(reading: Reading, body: bytes, headers: Mapping[str, str]) -> dict[str, str]:
    """What each field's path finds in the first candidate, as text, by the field's name; empty for nothing."""
    try:
        first = next(iter(reading.candidates(reading.shape.open(body, headers.get("content-type", "")))), None)
    except CantOpenError:
        return {}
    if first is None:
        return {}
    found = {name: get(first) for name, get in reading.looks.items()}
    return {name: as_written(value) or ("" if value is None else str(value)) for name, value in found.items()}


def box_names(count: int) -> Sequence[str]:
    """What the paths to a box are called, which are four or one."""
    return [f"box {side}" for side in ("west", "south", "east", "north")] if count == 4 else ["box"][:count]


def _opened(reading: Reading, status: int, body: bytes, headers: Mapping[str, str]) -> tuple[Read, Sequence[Any]]:
    """What the reply as a whole says, and the places in it that nobody has looked at yet."""
    trouble, data = "", None
    try:
        data = reading.shape.open(body, headers.get("content-type", ""))
    except CantOpenError as error:
        trouble = str(error)
    seen = Seen(status, headers, body, data, {})
    for rule in reading.rules:
        if rule.holds(seen):
            ruled, kind, because = True, rule.kind, f"rule {rule.number} of the description"
            break
    else:
        ruled, kind, because = False, by_status(status), f"the status {status} (RFC 9110); no rule holds"
    if trouble:
        if not ruled and kind in {Kind.ANSWERED, Kind.NOTHING_FOUND} and status != 404:
            kind, because = Kind.UNREADABLE, "the body is not what was promised"
        if kind is Kind.ANSWERED:
            kind, because = Kind.UNREADABLE, f"{because}, but the body can't be read"
        return Read(kind, message=trouble, because=because), ()
    message = _message(reading, data, headers) or ("" if kind.is_answer else _phrase(status))
    return Read(kind, message=message, because=because), reading.candidates(data) if kind is Kind.ANSWERED else ()


def _message(reading: Reading, data: Any, headers: Mapping[str, str]) -> str:
    """What the service says in words; where the description names no place, that of problem details (RFC 9457)."""
    found = [text for value in reading.message(data) if (text := as_written(value))] if reading.message else []
    if not found and isinstance(data, dict) and headers.get("content-type", "").startswith(PROBLEM):
        told = (as_written(data.get("title")), as_written(data.get("detail")))
        found = [": ".join(filter(None, told))]
    return " ".join(" ".join(found).split())[:300] if found else ""


def _phrase(status: int) -> str:
    """What a status says in words (RFC 9110), for a service that says nothing itself."""
    try:
        return f"the status {status} {HTTPStatus(status).phrase}"
    except ValueError:
        return f"the status {status}"


def _candidate(reading: Reading, item: Any) -> Candidate | str:
    """The candidate in this part of a reply, or why there is none."""
    position = _position(reading, item)
    if isinstance(position, str):
        return position
    parts = reading.parts(item)
    level, method = reading.levels.get(parts.pop("level", ""), UNKNOWN)
    label, box = parts.pop("label", ""), _box(reading, item) if reading.box else None
    extra = reading.own(item) if reading.own else NONE
    if parts.keys().isdisjoint(OWN):
        return Candidate(position, level, method, label, parts, box, None, None, False, extra)
    score, radius = (_number(parts.pop(name, None), reading.decimal) for name in ("score", "radius"))
    worst, best = reading.score
    return Candidate(
        position, level, method, label,
        partial=parts.pop("partial", "") in reading.partial,
        parts=parts,
        box=box,
        radius_m=radius if radius is not None and radius >= 0 else None,
        score=None if score is None else min(1.0, max(0.0, (score - worst) / (best - worst))),
        extra=extra,
    )  # fmt: skip


def _position(reading: Reading, item: Any) -> Position | str:
    """The position in this part of a reply, or why there is none."""
    if reading.position is not None:
        first, second = _pair(reading.position(item), reading.decimal)
        lat, lon = (second, first) if reading.lon_first else (first, second)
    elif reading.latitude is not None and reading.longitude is not None:
        lat, lon = reading.latitude(item), reading.longitude(item)
        if type(lat) is not float or type(lon) is not float:
            lat, lon = _number(lat, reading.decimal), _number(lon, reading.decimal)
    else:
        return "the description names no position"
    if lat is None or lon is None:
        return "a place without a position was passed over"
    if reading.to_degrees:
        if not lat and not lon:
            return "the position 0,0 is no answer: passed over"
        lat, lon = reading.to_degrees(lat, lon)
    try:
        position = Position(lat, lon)
    except ValueError as error:
        return f"{error}: passed over"
    return "the position 0,0 is no answer: passed over" if is_null_island(lat, lon) else position


def _pair(value: Any, decimal: str) -> tuple[float | None, float | None]:
    """Two numbers from an array of at least two, or from a text in which just two stand."""
    if isinstance(value, list) and len(value) >= 2:
        return _number(value[0], decimal), _number(value[1], decimal)
    if isinstance(value, str) and len(found := _NUMBERS[decimal].findall(value)) == 2:
        return _number(found[0], decimal), _number(found[1], decimal)
    return None, None


def _number(value: Any, decimal: str = ".") -> float | None:
    """The number that a value is, or says in text."""
    if type(value) is float and -1e9 < value < 1e9:
        return value
    if type(value) not in {int, float, str}:  # True is no number
        return None
    try:
        number = float(value if decimal == "." or type(value) is not str else value.replace(decimal, "."))
    except (ValueError, OverflowError):
        return None
    return number if abs(number) < 1e9 else None


def _box(reading: Reading, item: Any) -> Area | None:
    sides = [get(item) for get in reading.box]
    if len(sides) == 1 and type(sides[0]) is list:
        sides = sides[0]
    if len(sides) != 4:
        return None
    if not (type(sides[0]) is type(sides[1]) is type(sides[2]) is type(sides[3]) is float):
        sides = [_number(side, reading.decimal) for side in sides]
        if None in sides:
            return None
    west, south, east, north = sides
    if not (-90 <= south <= north <= 90 and -180 <= west <= 180 and -180 <= east <= 180):
        return None
    return Area(west, south, east, north)
