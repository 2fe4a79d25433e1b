"""The shapes that replies come in: JSON, XML, delimited text. Each opens a body and says how paths find things in it.

Nothing that a reply holds is run, expanded or fetched: an XML document with entities of its own is refused.
"""

import csv
import io
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple, Protocol

from yellowtor.answers.paths import Fields, Finder, Getter, compile_fields, compile_first, compile_path, fields_by
from yellowtor.answers.values import plain

_ENTITY = re.compile(rb"<!\s*ENTITY", re.IGNORECASE)
_NAMES = re.compile(r"((?:(?:[A-Za-z_]\w*:)?[A-Za-z_]\w*(?:/(?!@)|(?=/@)|$))*)/?(?:@([A-Za-z_]\w*))?")
_NULL = re.compile(rb"(?<!\\)((?:\\\\)*)\\u0000")
_CHARSET = re.compile(r"""charset\s*=\s*["']?([\w.:-]+)""", re.IGNORECASE)
ENTITIES = "the reply declares entities of its own, which are never expanded"
_DEEPEST = 250  # columns that a path may speak of


class CantOpenError(Exception):
    """A body is not of the shape that was promised; what it is instead."""


class Shape(Protocol):
    """How bodies of one shape are opened, and read by paths."""

    accept: str  # the media types that are asked for (RFC 9110 section 12.5.1)

    def open(self, body: bytes, content_type: str) -> Any:
        """What paths look at. Raises CantOpenError."""

    def finder(self, path: str) -> Finder:
        """All that a path finds. Raises ValueError for a path that does not parse."""

    def getter(self, path: str) -> Getter:
        """The first thing that a path finds, as a plain value; None for nothing."""

    def fields(self, paths: Mapping[str, str]) -> Fields:
        """The first thing that each of these finds, as a text by its name; none for nothing. Raises ValueError."""

    def part(self, found: Sequence[Any]) -> bytes:
        """A body, in UTF-8, that holds only what a path found: of JSON and XML the first, of text all lines."""


class JsonShape:
    """JSON (RFC 8259), by JSONPath (RFC 9535)."""

    accept = "application/json"

    def open(self, body: bytes, content_type: str) -> Any:
        import orjson

        if b"\\u0000" in body:  # a character that says nothing, and that PostgreSQL keeps in no text
            body = _NULL.sub(rb"\1", body)
        try:
            return orjson.loads(body)
        except ValueError as error:
            del content_type
            raise CantOpenError(_instead(body, "JSON", (b"{", b"["))) from error

    def finder(self, path: str) -> Finder:
        return compile_path(path)

    def getter(self, path: str) -> Getter:
        return compile_first(path)

    def fields(self, paths: Mapping[str, str]) -> Fields:
        return compile_fields(paths)

    def part(self, found: Sequence[Any]) -> bytes:
        import orjson

        return orjson.dumps(found[0])


class XmlShape:
    """XML, by XPath 1.0 with the namespaces that the description names."""

    accept = "application/xml, text/xml"

    def __init__(self, namespaces: Mapping[str, str]) -> None:
        self._namespaces = dict(namespaces)
        self._parser: Any = None

    def open(self, body: bytes, content_type: str) -> Any:
        from lxml import etree

        if self._parser is None:
            self._parser = etree.XMLParser(
                resolve_entities=False, no_network=True, load_dtd=False, dtd_validation=False, huge_tree=False
            )
        if _ENTITY.search(body[:65_536].translate(None, b"\0")):
            raise CantOpenError(ENTITIES)
        try:
            root = etree.fromstring(body, self._parser)
        except (etree.XMLSyntaxError, ValueError) as error:
            del content_type
            raise CantOpenError(_instead(body, "XML", (b"<",))) from error
        dtd: Any = root.getroottree().docinfo.internalDTD
        if dtd is not None and any(dtd.iterentities()):  # in an encoding that hid them
            raise CantOpenError(ENTITIES)
        if etree.QName(root).localname.lower() == "html":  # a page may be well-formed
            raise CantOpenError("a web page came where XML was promised")
        return root

    def finder(self, path: str) -> Finder:
        find = self._compiled(path)

        def find_all(node: Any) -> list[Any]:
            found = find(node)
            return list(found) if isinstance(found, list) else [found]

        return find_all

    def getter(self, path: str) -> Getter:
        find = self._compiled(path)

        def get(node: Any) -> Any:
            found = find(node)
            first = next(iter(found), None) if isinstance(found, list) else found
            return plain(first)

        return self._quick(path, get) or get

    def fields(self, paths: Mapping[str, str]) -> Fields:
        return fields_by({name: self.getter(path) for name, path in paths.items()})

    def part(self, found: Sequence[Any]) -> bytes:
        from lxml import etree

        made: bytes = etree.tostring(found[0], encoding="utf-8", with_tail=False)
        return made

    def _quick(self, path: str, otherwise: Getter) -> Getter | None:
        """A getter for a path of names, a few times as fast: its last step may be an attribute."""
        plain_path = _NAMES.fullmatch(path)
        if not plain_path:
            return None
        steps = [name for name in plain_path[1].split("/") if name]
        clark = "/".join(f"{{{self._namespaces[p]}}}{n}" if p else n for p, _, n in (s.rpartition(":") for s in steps))
        attribute = plain_path[2]

        def get(node: Any) -> Any:
            found = node.find(clark) if clark else node
            if found is None:
                return None
            if not attribute:
                return plain(found) if len(found) else found.text or ""
            told = found.get(attribute)
            return otherwise(node) if told is None else told

        return get

    def _compiled(self, path: str) -> Callable[[Any], Any]:
        from lxml import etree

        try:
            found: Callable[[Any], Any] = etree.XPath(path, namespaces=self._namespaces, smart_strings=False)
            found(etree.Element("nothing"))  # an unknown prefix or function shows only here
        except etree.XPathError as error:
            raise ValueError(f"{path!r} is not an XPath: {error}") from error
        return found


class Line(NamedTuple):
    """A line of delimited text: its cells, and where those with a name stand."""

    cells: Sequence[str]
    names: Mapping[str, int]

    def cell(self, column: int | str) -> str | None:
        at = column if isinstance(column, int) else self.names.get(column, -1)
        return self.cells[at].strip() if 0 <= at < len(self.cells) else None


class TextShape:
    """Delimited text (RFC 4180), by columns: their numbers from 1, or their names where there is a header."""

    accept = "text/csv, text/plain"

    def __init__(self, delimiter: str, *, header: bool) -> None:
        self._delimiter, self._header = delimiter, header

    def open(self, body: bytes, content_type: str) -> Any:
        if looks_like_page(body):
            raise CantOpenError(_instead(body, "delimited text", ()))
        told = _CHARSET.search(content_type)
        try:
            text = body.decode(told[1] if told else "utf-8-sig").replace("\0", "")
        except (UnicodeDecodeError, LookupError) as error:
            raise CantOpenError(f"the reply is no text: {error}") from error
        try:
            lines = csv.reader(io.StringIO(text, newline=""), delimiter=self._delimiter, strict=True)
            rows = [row for row in lines if row]
        except csv.Error as error:
            raise CantOpenError(f"the reply is no delimited text: {error}") from error
        if not rows:
            raise CantOpenError("the reply is empty")
        names = {name.strip(): at for at, name in enumerate(rows.pop(0))} if self._header else {}
        return [Line(row, names) for row in rows]

    def finder(self, path: str) -> Finder:
        get = self.getter(path)

        def find(data: Any) -> list[Any]:
            lines = data if isinstance(data, list) else [data]
            return [value for line in lines if (value := get(line)) is not None]

        return find

    def getter(self, path: str) -> Getter:
        if not path.isdecimal() and not self._header:
            raise ValueError(f"{path!r} is no column: say its number, from 1, or header = true")
        column: int | str = int(path) - 1 if path.isdecimal() else path
        if isinstance(column, int) and not 0 <= column < _DEEPEST:
            raise ValueError(f"{path!r} is no column: they are counted from 1 to {_DEEPEST}")
        return lambda line: line.cell(column)

    def fields(self, paths: Mapping[str, str]) -> Fields:
        return fields_by({name: self.getter(path) for name, path in paths.items()})

    def part(self, found: Sequence[Any]) -> bytes:
        lines = [list(line.cells) for line in found]
        if self._header:
            lines.insert(0, list(found[0].names))
        text = io.StringIO(newline="")
        csv.writer(text, delimiter=self._delimiter).writerows(lines)
        return text.getvalue().encode()


def looks_like_page(body: bytes) -> bool:
    """Whether the body is a web page, which nobody promises."""
    return body[:200].lstrip().lower().startswith((b"<!doctype html", b"<html"))


def _instead(body: bytes, promised: str, starts: tuple[bytes, ...]) -> str:
    """What a body is that is not what was promised."""
    if not body.strip():
        return "the reply is empty"
    if looks_like_page(body):
        return f"a web page came where {promised} was promised"
    if starts and body.lstrip().startswith(starts):
        return f"the reply is cut short or damaged after {len(body)} bytes"
    return f"the reply is not {promised}"
