"""The shapes that replies come in: JSON, XML, delimited text. Each opens a body and says how paths find things in it.

Nothing that a reply holds is run, expanded or fetched: an XML document with entities of its own is refused.
"""

import codecs
import csv
import io
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple, Protocol

from yellowtor.answers.replies.body_text import (
    NUL_SHOWN,
    UTF_8,
    CantOpenError,
    charset,
    decoded,
    instead,
    looks_like_page,
    quoted,
)
from yellowtor.answers.replies.json_paths import (
    Fields,
    Finder,
    Getter,
    Holder,
    compile_fields,
    compile_first,
    compile_holder,
    compile_path,
    fields_by,
)
from yellowtor.answers.replies.plain_values import plain

_ENTITY = re.compile(rb"<!\s*ENTITY", re.IGNORECASE)
_NAMES = re.compile(r"((?:(?:[A-Za-z_]\w*:)?[A-Za-z_]\w*(?:/(?!@)|(?=/@)|$))*)/?(?:@([A-Za-z_]\w*))?")
_NULL = re.compile(rb"(?<!\\)((?:\\\\)*)\\u0000")
ENTITIES = "the reply declares entities of its own, which are never expanded"
_DEEPEST = 250  # columns that a path may speak of


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

    def holder(self, path: str) -> Holder:
        """Whether the list of candidates that a path runs through is in a body, for only then it may be empty."""

    def part(self, found: Sequence[Any]) -> bytes:
        """A body, in UTF-8, that holds only what a path found: of JSON and XML the first, of text all lines."""


class JsonShape:
    """JSON (RFC 8259), by JSONPath (RFC 9535)."""

    accept = "application/json"

    def __init__(self, encoding: str | None = None, *, lines: bool = False) -> None:
        self._encoding = encoding
        self._lines = lines
        if lines:
            self.accept = "application/jsonl, application/x-ndjson, application/json"

    def open(self, body: bytes, content_type: str) -> Any:
        import orjson

        if self._encoding or not body[:1].isascii() or b"\0" in body[:4]:
            body = decoded(body, content_type, self._encoding).encode(errors="replace")
        if b"\\u0000" in body:  # a character that says nothing, and that PostgreSQL keeps in no text
            body = _NULL.sub(rb"\1" + NUL_SHOWN.encode(), body)
        try:
            if self._lines:
                if not body.strip():
                    raise CantOpenError("the reply is empty")
                return [orjson.loads(line) for line in body.splitlines() if line.strip()]
            return orjson.loads(body)
        except ValueError as error:
            # RFC 8259 defines no charset for JSON: UTF-8 is tried first.
            if not self._encoding and charset(content_type).lower() not in UTF_8:
                return JsonShape("utf-8", lines=self._lines).open(decoded(body, content_type, None).encode(), "")
            raise CantOpenError(instead(body, "JSON", (b"{", b"["))) from error

    def holder(self, path: str) -> Holder:
        return compile_holder(path)

    def finder(self, path: str) -> Finder:
        return compile_path(path)

    def getter(self, path: str) -> Getter:
        return compile_first(path)

    def fields(self, paths: Mapping[str, str]) -> Fields:
        return compile_fields(paths)

    def part(self, found: Sequence[Any]) -> bytes:
        import orjson

        return (codecs.BOM_UTF8 if self._encoding else b"") + orjson.dumps(found[0])


class XmlShape:
    """XML, by XPath 1.0 with the namespaces that the description names."""

    accept = "application/xml, text/xml"

    def __init__(self, namespaces: Mapping[str, str], encoding: str | None = None) -> None:
        self._namespaces = dict(namespaces)
        self._encoding = encoding
        self._parser: Any = None

    def open(self, body: bytes, content_type: str) -> Any:
        from lxml import etree

        if self._parser is None:
            self._parser = etree.XMLParser(
                encoding=self._encoding,
                resolve_entities=False,
                no_network=True,
                load_dtd=False,
                dtd_validation=False,
                huge_tree=False,
            )
        if _ENTITY.search(body[:65_536].translate(None, b"\0")):
            raise CantOpenError(ENTITIES)
        try:
            root = etree.fromstring(body, self._parser)
        except (etree.XMLSyntaxError, ValueError, LookupError) as error:
            del content_type
            raise CantOpenError(instead(body, "XML", (b"<",))) from error
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

    def holder(self, path: str) -> Holder:
        parent, _, last = path.rpartition("/")
        if not parent or parent.endswith("/") or "]" in last.split("[")[0]:  # of //place nobody knows where the list is
            return lambda _: False
        find = self._compiled(parent)

        def holds(root: Any) -> bool:
            found = find(root)
            return isinstance(found, list) and any(hasattr(node, "tag") and not len(node) for node in found)

        return holds

    def part(self, found: Sequence[Any]) -> bytes:
        from lxml import etree

        made: Any = etree.tostring(found[0], encoding=self._encoding or "utf-8", with_tail=False)
        return bytes(made)

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


class TextRow(NamedTuple):
    """A line of delimited text: its cells, and where those with a name stand."""

    cells: Sequence[str]
    names: Mapping[str, int]

    def cell(self, column: int | str) -> str | None:
        at = column if isinstance(column, int) else self.names.get(column, -1)
        return self.cells[at].strip() if 0 <= at < len(self.cells) else None


class TextShape:
    """Delimited text (RFC 4180), by columns: their numbers from 1, or their names where there is a header."""

    accept = "text/csv, text/plain"

    def __init__(self, delimiter: str, *, header: bool, encoding: str | None = None, needs: Sequence[str] = ()) -> None:
        self._delimiter = delimiter
        self._header = header
        self._encoding = encoding
        self._needs = [name for name in needs if header and not name.isdecimal()]

    def open(self, body: bytes, content_type: str) -> Any:
        if looks_like_page(body):
            raise CantOpenError(instead(body, "delimited text", ()))
        text = decoded(body, content_type, self._encoding)
        try:
            lines = csv.reader(io.StringIO(text, newline=""), delimiter=self._delimiter, strict=True)
            rows = [row for row in lines if row]
        except csv.Error as error:
            raise CantOpenError(f"the reply is no delimited text: {error}") from error
        if not rows:
            raise CantOpenError("the reply is empty")
        names = {name.strip(): at for at, name in enumerate(rows.pop(0))} if self._header else {}
        if missing := [name for name in self._needs if name not in names]:
            raise CantOpenError(f"the first line names no column {missing[0]!r}: {quoted(body)}")
        return [TextRow(row, names) for row in rows]

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

    def holder(self, path: str) -> Holder:
        del path
        return lambda _: self._header  # whose columns are there: a body without one is never empty

    def part(self, found: Sequence[Any]) -> bytes:
        lines = [list(line.cells) for line in found]
        if self._header:
            lines.insert(0, list(found[0].names))
        text = io.StringIO(newline="")
        csv.writer(text, delimiter=self._delimiter).writerows(lines)
        return (codecs.BOM_UTF8 if self._encoding else b"") + text.getvalue().encode()
