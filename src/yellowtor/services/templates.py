"""Templates with `{variables}`: URLs (RFC 6570), header fields and request bodies.

Each value is escaped for its place, so that no address can change the structure of a request.
"""

import html
import json
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any
from urllib.parse import urlencode

from uritemplate import URITemplate

_NAME = re.compile(r"\{([A-Za-z_]\w*)\}")
_NO_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")
_NO_HEADER = re.compile(r"[\x00-\x1f\x7f]+")
_MISSING = object()
_NUMBERS: dict[str, Callable[[str], float]] = {"{limit}": int, "{lat}": float, "{lon}": float}  # alone, in JSON


def names_in(text: Any) -> set[str]:
    """The variables that a template names; one of JSON may be a table or a list."""
    if isinstance(text, str):
        return set(_NAME.findall(text))
    if isinstance(text, Mapping):
        return {name for value in text.values() for name in names_in(value)}
    return {name for value in text for name in names_in(value)} if isinstance(text, list) else set()


def expand(template: URITemplate, values: Mapping[str, str]) -> str:
    """The URL that a URI template gives for these values (RFC 6570)."""
    return template.expand(dict[str, Any](values))


def fill(text: str, values: Mapping[str, str], escaped: Callable[[str], str] = str) -> str:
    """The template with its variables' values in; one without a value becomes nothing."""
    return _NAME.sub(lambda found: escaped(values.get(found[1], "")), text)


def header_text(text: str, values: Mapping[str, str]) -> str:
    """A header field's value: no line ends, and what is not ASCII percent-encoded."""
    line = _NO_HEADER.sub(" ", fill(text, values)).strip()
    return "".join(c if c.isascii() else "".join(f"%{byte:02X}" for byte in c.encode()) for c in line)


def json_value(template: Any, values: Mapping[str, str], questions: Sequence[Any] = ()) -> Any:
    """A value of JSON; `{questions}` alone becomes the list of them. Empty variables leave their keys out."""
    if isinstance(template, str):
        if template == "{questions}":
            return list(questions)
        filled = _lone(template, values)
        number = _NUMBERS.get(template)
        return number(filled) if number and filled is not _MISSING else filled
    if isinstance(template, Mapping):
        made = {key: json_value(value, values, questions) for key, value in template.items()}
        return {key: value for key, value in made.items() if value is not _MISSING}
    if isinstance(template, list):
        return [value for item in template if (value := json_value(item, values, questions)) is not _MISSING]
    return template


def json_bytes(template: Any, values: Mapping[str, str], questions: Sequence[Any] = ()) -> bytes:
    """A body of JSON (RFC 8259)."""
    return json.dumps(json_value(template, values, questions), ensure_ascii=False).encode()


def form_bytes(fields: Mapping[str, str], values: Mapping[str, str]) -> bytes:
    """A body as a form. A field with only an empty variable is left out."""
    filled = {name: _lone(text, values) for name, text in fields.items()}
    return urlencode({name: text for name, text in filled.items() if text is not _MISSING}).encode()


def xml_text(template: str, values: Mapping[str, str], questions: str = "") -> str:
    """A text of XML; questions is one already."""
    pieces = [fill(piece, values, _escaped) for piece in template.split("{questions}")]
    return questions.join(pieces)


def _escaped(text: str) -> str:
    return html.escape(_NO_XML.sub("", text))


def _lone(text: str, values: Mapping[str, str]) -> Any:
    alone = _NAME.fullmatch(text)
    return _MISSING if alone and not values.get(alone[1]) else fill(text, values)
