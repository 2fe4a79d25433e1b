"""Reading a reply: which kind it is, and which candidates it offers, whatever its shape.

A coordinate is only ever taken from a field that the description names and that holds a number (or the
text of one) on the globe. A position of 0,0 is no answer: a reply that offers nothing else is unreadable.
"""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from http import HTTPStatus
from typing import Any, NamedTuple

from yellowtor.answers.geography.coordinate_text import read_angle, read_number, read_pair
from yellowtor.answers.geography.geometry import Inside, coarsened, point_inside
from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.replies.body_text import CantOpenError, quoted
from yellowtor.answers.replies.candidate import NONE, Candidate
from yellowtor.answers.replies.json_paths import Fields, Finder, Getter, Holder, TooDeepError
from yellowtor.answers.replies.kind_rules import MATCH_S, UNOPENED, Rule, SeenReply, by_status
from yellowtor.answers.replies.kinds import Kind
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.reply_formats import JsonShape, Shape
from yellowtor.contracts.position import Area, Position, is_null_island

PAGES = "yellowtor-pages"  # the note on a reply of several pages: the lengths of their bodies
PROBLEM = "application/problem+json"  # RFC 9457
FARTHEST = 1e9  # of a coordinate, in whatever units
LONGEST_TEXT = 1_000  # characters of a text that parts are taken from
QUOTED = 60  # characters of a text that can't be read
JSON = JsonShape()
WGS84 = 4326  # EPSG
UNKNOWN = (None, None)  # level and method
OWN = {"score", "radius", "partial"}  # what a service says of its answer, among the parts until a candidate is made


@dataclass(frozen=True, slots=True)
class Reading:
    """How a service's replies are read: compiled rules, paths and its words for levels.

    holder tells whether the list that the candidates are in is there; listed is the path to them, for messages.

    A position is in two fields, or is one (an array, or a text), its longitude first if lon_first. to_degrees turns
    a position in another coordinate system (epsg) into degrees (latitude, longitude). scale is how many units of a
    plain number make one degree, or one unit of that system. score is (worst, best).
    """

    rules: Sequence[Rule]
    candidates: Finder
    holder: Holder = lambda _: False
    listed: str = ""
    latitude: Getter | None = None
    longitude: Getter | None = None
    parts: Fields = lambda _: {}  # of an address, and level, label, score, partial, radius
    box: Sequence[Getter] = ()  # west, south, east, north; or one path to the four
    message: Finder | None = None
    levels: Mapping[str, tuple[Level, Method | None]] = field(default_factory=dict)
    level: tuple[Level | None, Method | None] = UNKNOWN  # of a candidate that does not say its own
    shape: Shape = JSON
    position: Getter | None = None
    lon_first: bool = False
    decimal: str = "."
    scale: float = 1.0
    epsg: int | None = None
    to_degrees: Callable[[float, float], tuple[float, float]] | None = None
    score: tuple[float, float] = (0.0, 1.0)
    partial: frozenset[str] = frozenset()
    own: Fields | None = None  # fields that the description adds
    splits: Sequence[tuple[Getter, Any]] = ()  # texts, and the expressions whose named groups are parts
    looks: Mapping[str, Getter] = field(default_factory=dict)  # the way to each field, by its name


class Read(NamedTuple):
    """What a reply was found to say. `remarks` tell what was passed over, and why; `because` what decided the kind.

    lasting: the same request would bring the same reply, however often it is sent. unknown_levels are words for levels
    that the description does not know.
    """

    kind: Kind
    candidates: Sequence[Candidate] = ()
    message: str = ""
    remarks: Sequence[str] = ()
    because: str = ""
    lasting: bool = False
    unknown_levels: Sequence[str] = ()


TOO_DEEP = Read(Kind.UNREADABLE, message="the reply is nested too deeply for a path with ..", lasting=True)


def read_reply(reading: Reading, status: int, body: bytes, headers: Mapping[str, str] | None = None) -> Read:
    """The kind of a reply and the candidates in it, of all its pages. Never raises, whatever the bytes are."""
    try:
        return _read(reading, status, body, headers)
    except TooDeepError:
        return TOO_DEEP


def _read(reading: Reading, status: int, body: bytes, headers: Mapping[str, str] | None) -> Read:
    if headers and PAGES in headers:
        body, *others = _pages(body, headers)
        read, places = _opened(reading, status, body, headers)
        for page in others:
            places = [*places, *_opened(reading, status, page, headers)[1]]
    else:
        read, places = _opened(reading, status, body, headers or {})
    if read.kind is not Kind.ANSWERED:
        return read
    candidates = []
    remarks = []
    unknown = list[str]()
    for place in places:
        made = _candidate(reading, place, unknown)
        candidates.append(made) if isinstance(made, Candidate) else remarks.append(made)
    if candidates:
        return Read(Kind.ANSWERED, candidates, read.message, remarks, read.because, unknown_levels=unknown)
    if places:
        return Read(Kind.UNREADABLE, (), read.message or remarks[0], remarks, "no position could be read", lasting=True)
    return read


def _pages(body: bytes, headers: Mapping[str, str]) -> list[bytes]:
    """The pages that a reply was put together from."""
    ends = [int(length) for length in headers.get(PAGES, "").split(",") if length.isdigit()]
    return [body[sum(ends[:at]) : sum(ends[: at + 1])] for at in range(len(ends))] or [body]


def read_meaning(reading: Reading, status: int, body: bytes, headers: Mapping[str, str] | None = None) -> Read:
    """What read_reply() says of a reply, but for its candidates: all that asking needs, in a fraction of the time."""
    if PAGES in (headers or {}):
        return read_reply(reading, status, body, headers)
    try:
        read, places = _opened(reading, status, body, headers or {})
        if read.kind is Kind.ANSWERED and not any(isinstance(_position(reading, p), Position) for p in places):
            return _read(reading, status, body, headers)
    except TooDeepError:
        return TOO_DEEP
    return read


def read_kind(reading: Reading, status: int, body: bytes, headers: Mapping[str, str]) -> Kind:
    """What the rules, or else the status, say of a reply as a whole; its candidates are not looked at."""
    try:
        read, _ = _opened(reading, status, body, headers)
    except TooDeepError:
        return Kind.UNREADABLE
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
        body = _pages(body, headers)[0]
        first = next(iter(reading.candidates(reading.shape.open(body, headers.get("content-type", "")))), None)
    except (CantOpenError, TooDeepError):
        return {}
    if first is None:
        return {}
    try:
        found = {name: get(first) for name, get in reading.looks.items()}
    except TooDeepError:
        return {}
    return {name: as_written(value) or ("" if value is None else str(value)) for name, value in found.items()}


def box_names(count: int) -> Sequence[str]:
    """What the paths to a box are called, which are four or one."""
    return [f"box {side}" for side in ("west", "south", "east", "north")] if count == 4 else ["box"][:count]


def _opened(reading: Reading, status: int, body: bytes, headers: Mapping[str, str]) -> tuple[Read, Sequence[Any]]:
    """What the reply as a whole says, and the places in it that nobody has looked at yet."""
    trouble = ""
    data = UNOPENED
    try:
        data = reading.shape.open(body, headers.get("content-type", ""))
    except CantOpenError as error:
        trouble = str(error)
    seen = SeenReply(status, headers, body, data, {})
    for rule in reading.rules:
        if rule.holds(seen):
            ruled = True
            kind = rule.kind
            because = f"rule {rule.number} of the description"
            break
    else:
        ruled = False
        kind = by_status(status)
        because = f"the status {status} (RFC 9110); no rule holds"
    lasting = kind is Kind.UNREADABLE and (status >= 300 or status == 204)
    if trouble:
        if kind is Kind.ANSWERED:
            why = f"{because}, but the body can't be read" if ruled else "the body is not what was promised"
            return Read(Kind.UNREADABLE, message=trouble, because=why, lasting=status == 204), ()
        message = trouble if ruled or 200 <= status < 300 else f"{_phrase(status)}; {trouble}"
        return Read(kind, message=message, because=because, lasting=lasting), ()
    message = _message(reading, data, headers) or ("" if kind.is_answer else _said(status, body))
    if kind is not Kind.ANSWERED:
        return Read(kind, message=message, because=because, lasting=lasting), ()
    places = reading.candidates(data)
    if places:
        return Read(kind, message=message, because=because), places
    if reading.holder(data):
        return Read(Kind.NOTHING_FOUND, message=message, because="the list of candidates is empty"), ()
    missing = f"there is no list of candidates{reading.listed and f' at {reading.listed}'} in the reply"
    return Read(Kind.UNREADABLE, message=f"{missing}: {quoted(body)}", because=missing, lasting=True), ()


def _message(reading: Reading, data: Any, headers: Mapping[str, str]) -> str:
    """What the service says in words; where the description names no place, that of problem details (RFC 9457)."""
    found = [text for value in reading.message(data) if (text := as_written(value))] if reading.message else []
    if not found and isinstance(data, dict) and headers.get("content-type", "").startswith(PROBLEM):
        told = (as_written(data.get("title")), as_written(data.get("detail")))
        found = [": ".join(filter(None, told))]
    return " ".join(" ".join(found).split())[:300] if found else ""


def _said(status: int, body: bytes) -> str:
    """What came, for a service that says nothing in words."""
    return f"{_phrase(status)}, with {quoted(body)}" if len(body.strip()) > 2 else _phrase(status)


def _phrase(status: int) -> str:
    """What a status says in words (RFC 9110), for a service that says nothing itself."""
    try:
        return f"the status {status} {HTTPStatus(status).phrase}"
    except ValueError:
        return f"the status {status}"


def _candidate(reading: Reading, item: Any, unknown: list[str]) -> Candidate | str:
    """The candidate in this part of a reply, or why there is none. Unknown words for levels are added to unknown."""
    position = _position(reading, item)
    if isinstance(position, str):
        return position
    parts = reading.parts(item)
    if reading.splits:
        for get, pattern in reading.splits:
            parts = {**_split(pattern, as_written(get(item))), **parts}
    word = parts.pop("level", "")
    level, method = reading.levels.get(word, UNKNOWN) if word else reading.level
    if word and level is None:
        unknown.append(word)
    label = parts.pop("label", "")
    box = _box(reading, item) if reading.box else None
    reach_m = None
    if reading.position is not None and isinstance(geometry := reading.position(item), dict):
        found = point_inside(geometry)
        assert isinstance(found, Inside), "there is a position"
        level = coarsened(level, found)
        reach_m = found.reach_m or None
    extra = reading.own(item) if reading.own else NONE
    if parts.keys().isdisjoint(OWN):
        return Candidate(position, level, method, label, parts, box, reach_m, None, False, extra)
    score, radius = (_number(parts.pop(name, None), reading.decimal) for name in ("score", "radius"))
    worst, best = reading.score
    return Candidate(
        position,
        level,
        method,
        label,
        partial=parts.pop("partial", "") in reading.partial,
        parts=parts,
        box=box,
        radius_m=max(radius, reach_m or 0.0) if radius is not None and radius >= 0 else reach_m,
        score=None if score is None else min(1.0, max(0.0, (score - worst) / (best - worst))),
        extra=extra,
    )


def _split(pattern: Any, text: str) -> dict[str, str]:
    """The named groups of an expression in a text; nothing where it takes too long."""
    try:
        found = pattern.search(text[:LONGEST_TEXT], timeout=MATCH_S)
    except TimeoutError:
        return {}
    return {name: value.strip() for name, value in found.groupdict().items() if value} if found else {}


def _position(reading: Reading, item: Any) -> Position | str:
    """The position in this part of a reply, or why there is none."""
    found: Any = None
    if reading.latitude is not None and reading.longitude is not None:
        lat = reading.latitude(item)
        lon = reading.longitude(item)
        if type(lat) is not float or type(lon) is not float or reading.scale != 1:
            found = (lat, lon)
            lat = _coordinate(reading, lat, "lat")
            lon = _coordinate(reading, lon, "lon")
    elif reading.position is not None:
        found = reading.position(item)
        if isinstance(found, dict):
            inside = point_inside(found)
            if isinstance(inside, str):
                return f"{inside} is no position: passed over"
            lat, lon = inside[:2]
        else:
            lat, lon = _pair(reading, found)
    else:
        return "the description names no position"
    if lat is None or lon is None:
        return _unread(found)
    if reading.to_degrees:
        if not (-FARTHEST < lat < FARTHEST and -FARTHEST < lon < FARTHEST):
            return f"the position {lat:g}, {lon:g} is not on the globe: passed over"
        if not lat and not lon:
            return "the position 0,0 is no answer: passed over"
        lat, lon = reading.to_degrees(lat, lon)
    try:
        position = Position(lat, lon)
    except ValueError as error:
        return f"{error}: passed over"
    return "the position 0,0 is no answer: passed over" if is_null_island(lat, lon) else position


def _unread(found: Any) -> str:
    """Why what stands where a position should be is none."""
    if found is None or found in ((None, None), "", ("", "")):
        return "a place without a position was passed over"
    text = ", ".join(map(str, found)) if isinstance(found, tuple) else str(found)
    quoted = f"{text[:QUOTED]}…" if len(text) > QUOTED else text
    return f"{quoted!r} can't be read as a position: passed over"


def _pair(reading: Reading, value: Any) -> tuple[float | None, float | None]:
    """Latitude and longitude from an array of two or more, or from a text; None for what is neither."""
    first_axis, second_axis = ("lon", "lat") if reading.lon_first else ("lat", "lon")
    if isinstance(value, list) and len(value) >= 2:
        first = _coordinate(reading, value[0], first_axis)
        second = _coordinate(reading, value[1], second_axis)
    elif isinstance(value, str) and (pair := read_pair(value, reading.decimal)):
        if pair.srid not in {None, reading.epsg or WGS84} or not (pair.plain or _is_degrees(reading)):
            return None, None
        first, second = (pair.first / reading.scale, pair.second / reading.scale) if pair.plain else pair[:2]
        first_axis = pair.axes[0] if pair.axes else first_axis
    else:
        return None, None
    return (second, first) if first_axis == "lon" else (first, second)


def _coordinate(reading: Reading, value: Any, axis: str) -> float | None:
    """One coordinate in degrees (or the units of the coordinate system): a number, or the text of an angle."""
    if type(value) is str:
        angle = read_angle(value, reading.decimal)
        if angle is None or angle.axis not in {"", axis} or not (angle.plain or _is_degrees(reading)):
            return None
        return angle.value / reading.scale if angle.plain else angle.value
    number = _number(value, reading.decimal)
    return None if number is None else number / reading.scale


def _is_degrees(reading: Reading) -> bool:
    """Whether positions may have marks of degrees and hemispheres."""
    return reading.to_degrees is None and reading.scale == 1


def _number(value: Any, decimal: str = ".") -> float | None:
    """The number that a value is, or says in text; None for a truth, and for what is not finite."""
    if type(value) is str:
        value = read_number(value, decimal)
    if type(value) is int and abs(value) < 2**63:
        value = float(value)
    return value if type(value) is float and -math.inf < value < math.inf else None


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
    if reading.scale != 1:
        sides = [side / reading.scale for side in sides]
    west, south, east, north = sides
    if not (-90 <= south <= north <= 90 and -180 <= west <= 180 and -180 <= east <= 180):
        return None
    return Area(west, south, east, north)
