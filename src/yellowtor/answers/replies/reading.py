"""Reads a reply: its kind and its candidates, in any format.

A coordinate only comes from a field that the description names, with a number (or its text) on the globe. 0,0 is not
an answer: a reply with no other position is unreadable.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from http import HTTPStatus
from typing import Any, NamedTuple

from yellowtor.answers.geography.geometry import Inside, coarsened, point_inside
from yellowtor.answers.replies.body_text import CantOpenError, quoted
from yellowtor.answers.replies.candidate import NONE, Candidate
from yellowtor.answers.replies.json_paths import TooDeepError
from yellowtor.answers.replies.kind_rules import MATCH_S, UNOPENED, SeenReply, by_status
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.position_reading import plain_number, read_box, read_position
from yellowtor.answers.replies.reading_rules import UNKNOWN, Reading
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.position import Position

PAGES = "yellowtor-pages"  # the note on a reply of several pages: the lengths of their bodies
PROBLEM = "application/problem+json"  # RFC 9457
LONGEST_TEXT = 1_000  # characters of a text that parts are taken from
OWN = {"score", "radius", "partial"}  # what a service says of its answer, among the parts until a candidate is made


class Read(NamedTuple):
    """What was read from a reply. `remarks` say what was skipped and why, `because` what decided the kind.

    lasting: the same request would get the same reply again. unknown_levels are words for levels that the description
    does not know.
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
    """The pages of a reply."""
    ends = [int(length) for length in headers.get(PAGES, "").split(",") if length.isdigit()]
    return [body[sum(ends[:at]) : sum(ends[: at + 1])] for at in range(len(ends))] or [body]


def read_meaning(reading: Reading, status: int, body: bytes, headers: Mapping[str, str] | None = None) -> Read:
    """As read_reply(), without the candidates: enough for asking, and much faster."""
    if PAGES in (headers or {}):
        return read_reply(reading, status, body, headers)
    try:
        read, places = _opened(reading, status, body, headers or {})
        if read.kind is Kind.ANSWERED and not any(isinstance(read_position(reading, p), Position) for p in places):
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
    """What a path found in the first candidate; None if there is no candidate."""

    name: str
    path: str
    found: str | None


def look_up(reading: Reading, body: bytes, headers: Mapping[str, str]) -> dict[str, str]:
    """What each field's path finds in the first candidate, as text, by the field's name; empty for nothing."""
    try:
        body = _pages(body, headers)[0]
        first = next(iter(reading.candidates(reading.format.open(body, headers.get("content-type", "")))), None)
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
    """The kind of the reply, and its candidates, not read yet."""
    trouble = ""
    data = UNOPENED
    try:
        data = reading.format.open(body, headers.get("content-type", ""))
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
        texts = (as_written(data.get("title")), as_written(data.get("detail")))
        found = [": ".join(filter(None, texts))]
    return " ".join(" ".join(found).split())[:300] if found else ""


def _said(status: int, body: bytes) -> str:
    """A message for a service without error messages."""
    return f"{_phrase(status)}, with {quoted(body)}" if len(body.strip()) > 2 else _phrase(status)


def _phrase(status: int) -> str:
    """What a status says in words (RFC 9110), for a service that says nothing itself."""
    try:
        return f"the status {status} {HTTPStatus(status).phrase}"
    except ValueError:
        return f"the status {status}"


def _candidate(reading: Reading, item: Any, unknown: list[str]) -> Candidate | str:
    """The candidate in this part of a reply, or why there is none. Unknown words for levels are added to unknown."""
    position = read_position(reading, item)
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
    box = read_box(reading, item) if reading.box else None
    reach_m = None
    if reading.position is not None and isinstance(geometry := reading.position(item), dict):
        found = point_inside(geometry)
        assert isinstance(found, Inside), "there is a position"
        level = coarsened(level, found)
        reach_m = found.reach_m or None
    extra = reading.own(item) if reading.own else NONE
    if parts.keys().isdisjoint(OWN):
        return Candidate(position, level, method, label, parts, box, reach_m, None, False, extra)
    score, radius = (plain_number(parts.pop(name, None), reading.decimal) for name in ("score", "radius"))
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
