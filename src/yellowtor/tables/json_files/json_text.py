"""Changes values in JSON text (RFC 8259); all other text stays as it is.

Long numbers, spellings, spaces and line breaks are kept.
"""

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

_DECODER = json.JSONDecoder(strict=False)
_BLANKS = " \t\r\n"


class TextSpan(NamedTuple):
    """The span of a value in the text."""

    start: int
    end: int


class Members(NamedTuple):
    """The members of an object: the span of each value by its name, and how another one is added at `end`."""

    values: Mapping[str, TextSpan]
    end: int
    before_name: str  # what stands between the comma and a name
    before_value: str  # between a name and its value, the colon with it


def members(text: str, at: int) -> Members:
    """The members of the object that begins at `at`. The text is known to be valid JSON."""
    values: dict[str, TextSpan] = {}
    before_name = ""
    before_value = ": "
    end = at + 1
    at += 1
    while text[name_at := _skip(text, at)] != "}":
        name, name_end = _DECODER.raw_decode(text, name_at)
        value_at = _skip(text, text.index(":", name_end) + 1)
        _, end = _DECODER.raw_decode(text, value_at)
        values[name] = TextSpan(value_at, end)
        before_name = text[at:name_at]
        before_value = text[name_end:value_at]
        at = _skip(text, end)
        at += text[at] == ","
    if len(values) == 1 and not before_name and before_value.endswith(" "):
        before_name = " "
    return Members(values, end, before_name, before_value)


def elements(text: str, at: int) -> Iterator[TextSpan]:
    """Where the elements of the array that begins at `at` stand."""
    at = _skip(text, at + 1)
    while text[at] != "]":
        _, end = _DECODER.raw_decode(text, at)
        yield TextSpan(at, end)
        at = _skip(text, end)
        if text[at] == ",":
            at = _skip(text, at + 1)


def edits(text: str, at: int, changes: Mapping[Sequence[str], Any]) -> list[tuple[TextSpan, str]]:
    """The edits that give the object at `at` these values at these paths.

    Missing objects on a path are created; a missing member is not created for null. Raises ValueError if a path leads
    through a value that is not an object.
    """
    found = members(text, at)
    added = []
    done: list[tuple[TextSpan, str]] = []
    by_name: dict[str, dict[Sequence[str], Any]] = {}
    for path, value in changes.items():
        by_name.setdefault(path[0], {})[path[1:]] = value
    for name, inner in by_name.items():
        span = found.values.get(name)
        if span and () not in inner and text[span.start] == "{":
            done += edits(text, span.start, inner)
        elif span and () not in inner and text[span.start : span.end] != "null":
            raise ValueError(f"{name!r} holds {text[span.start : span.end][:40]}, which is not an object")
        elif (value := _nested(inner)) != (json.loads(text[span.start : span.end]) if span else None):
            if span:
                done.append((span, _json(value)))
            else:
                added.append(f"{found.before_name}{_json(name)}{found.before_value}{_json(value)}")
    if added:
        comma = "," if found.values else ""
        done.append((TextSpan(found.end, found.end), comma + ",".join(added)))
    return done


def edited(text: str, done: Sequence[tuple[TextSpan, str]]) -> str:
    """The text with the edits carried out."""
    pieces = []
    last = 0
    for span, new in sorted(done):
        pieces += [text[last : span.start], new]
        last = span.end
    return "".join(pieces) + text[last:]


def _nested(inner: Mapping[Sequence[str], Any]) -> Any:
    """The value that these paths make; None where all of it is."""
    if () in inner:
        return inner[()]
    made: dict[str, dict[Sequence[str], Any]] = {}
    for path, value in inner.items():
        if value is not None:
            made.setdefault(path[0], {})[path[1:]] = value
    return {name: _nested(deeper) for name, deeper in made.items()} or None


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)


def _skip(text: str, at: int) -> int:
    while text[at] in _BLANKS:
        at += 1
    return at
