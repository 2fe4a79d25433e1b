"""Splicing cells into a sheet's XML (SpreadsheetML, ECMA-376 part 1, 18.3.1).

Only the bytes of the cells concerned change: the XML around them is copied as it stands, so that formulas,
cached results, formats and extensions that we know nothing of stay what they were. What can't be done so
safely is refused before anything is written.
"""

import re
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple
from xml.sax.saxutils import escape

from yellowtor.errors import BadSource
from yellowtor.tables.block import letters
from yellowtor.tables.cells import Cell, NewCells, _Leave
from yellowtor.tables.growth import grown_tables
from yellowtor.tables.package import replace_members, sheet_member

_ATTRS = rb"""(?:[^>"']|"[^"]*"|'[^']*')*?"""
_REFERENCE = re.compile(rb"""\s+r=["']([A-Z]+)""")
UNSAFE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")  # what XML 1.0 can't hold


class Edit(NamedTuple):
    """New contents for one row of the sheet (from 1), in the order of the splice's columns."""

    row: int
    cells: NewCells


@dataclass(frozen=True)
class Splice:
    """What to change: the header's row (from 1), the columns (from 0), those that are new, the edits."""

    header_row: int
    columns: Sequence[int]
    new: Mapping[int, str]
    edits: Sequence[Edit]


def splice_workbook(source: Path, to: Path, sheet: str, splice: Splice, backup: Path | None = None) -> None:
    """Write source to `to` with the cells of one sheet changed. Raises BadSource when that is not safe."""
    with zipfile.ZipFile(source) as package:
        member = sheet_member(package, sheet)
        xml = package.read(member)
        added = sorted(splice.new.items())
        grown = grown_tables(package, member, splice.header_row, added[0][0], [n for _, n in added]) if added else {}
    try:
        changed = splice_sheet(xml, splice)
    except BadSource as error:
        raise BadSource(f"{source}, sheet {sheet!r}: {error} Nothing was written.") from error
    if changed != xml or to != source:
        replace_members(source, to, {member: changed, **grown}, backup)


def splice_sheet(xml: bytes, splice: Splice) -> bytes:
    """The sheet's XML with the cells changed."""
    names = _Names(xml)
    start, end = names.data(xml)
    edits = edits_by_row(splice)
    last = max(splice.columns, default=0)
    rows = _rows(names, xml, start, end, edits, splice)
    return b"".join([_dimension(names, xml[:start], last), *rows, memoryview(xml)[end:]])


def edits_by_row(splice: Splice) -> dict[int, dict[int, Cell]]:
    """The new cells of each row (from 1) by column (from 0), the header's among them."""
    edits: dict[int, dict[int, Cell]] = {}
    for edit in splice.edits:
        cells = {c: v for c, v in zip(splice.columns, edit.cells, strict=True) if not isinstance(v, _Leave)}
        if cells:
            edits[edit.row] = cells
    if splice.new:
        edits[splice.header_row] = dict(splice.new)
    return edits


class _Names:
    """The element names as this sheet's producer writes them: with a prefix or without."""

    def __init__(self, xml: bytes) -> None:
        if xml[:2] in (b"\xff\xfe", b"\xfe\xff") or re.match(
            rb"""<\?xml[^>]*encoding=["'](?!utf-?8)""", xml, re.IGNORECASE
        ):
            raise BadSource("its XML is not UTF-8; save the workbook anew.")
        if b"<!--" in xml or b"<![CDATA[" in xml:
            raise BadSource("its XML holds comments or CDATA; save the workbook anew.")
        root = re.search(rb"<((?:\w+:)?)worksheet\b", xml)
        if not root:
            raise BadSource("its XML is not that of a worksheet.")
        p = self.prefix = root[1]
        self.row_starts, self.row_ends, self.cell_starts = b"<%srow" % p, b"</%srow" % p, b"<%sc" % p
        self.attributes = re.compile(rb"\b(%s)(/?)>" % _ATTRS)
        self.cell = re.compile(rb"<%sc\b(%s)(?:/>|>(.*?)</%sc\s*>)" % (p, _ATTRS, p), re.DOTALL)
        self.formula = re.compile(rb"<%sf\b" % p)
        self.content = re.compile(rb"<%s(?:v|t|f)\b" % p)

    def data(self, xml: bytes) -> tuple[int, int]:
        """Where the rows begin and end; an empty `<sheetData/>` has no row, hence no header."""
        p = self.prefix
        found = re.search(rb"<%ssheetData\b%s>(.*)</%ssheetData\s*>" % (p, _ATTRS, p), xml, re.DOTALL)
        if not found:
            raise BadSource("it has no rows.")
        return found.span(1)


class _Row(NamedTuple):
    """A row of the XML: where it begins and ends, its attributes, and what is in it."""

    start: int
    end: int
    attributes: bytes
    inner: bytes


def _found_rows(names: _Names, xml: bytes, at: int, end: int) -> Iterator[_Row]:
    while (start := xml.find(names.row_starts, at, end)) >= 0:
        found = names.attributes.match(xml, start + len(names.row_starts))
        if not found:
            raise BadSource("a row of its XML can't be read; save the workbook anew.")
        inner, at = b"", found.end()
        if not found[2]:
            closing = xml.index(names.row_ends, at)
            inner, at = xml[at:closing], xml.index(b">", closing) + 1
        yield _Row(start, at, found[1].rstrip(), inner)


def _rows(
    names: _Names, xml: bytes, start: int, end: int, edits: dict[int, dict[int, Cell]], splice: Splice
) -> Iterator[bytes]:
    at, number = start, 0
    for row in _found_rows(names, xml, start, end):
        told = _attribute(row.attributes, b"r")
        number = int(told) if told else number + 1
        if number in edits:
            is_header = number == splice.header_row
            yield xml[at : row.start]
            yield _row(names, row, number, edits.pop(number), splice.new, is_header=is_header)
            at = row.end
    yield xml[at:end]
    if edits:
        raise BadSource(f"row {min(edits)} is not in its XML; save the workbook anew.")


def _untouched(names: _Names, inner: bytes, first: int) -> int:
    """How much of a row stands before the cells from column `first` on; 0 where that can't be told.

    Looked for from the end, since that is where answers mostly go.
    """
    split = at = len(inner)
    while (at := inner.rfind(names.cell_starts, 0, at)) >= 0:
        after = at + len(names.cell_starts)
        if inner[after : after + 1] not in b" \t\r\n/>":
            continue  # another element
        found = _REFERENCE.match(inner, after)
        if not found:
            return 0
        if _column(found[1]) < first:
            return split
        split = at
    return 0


def _row(
    names: _Names, row: _Row, number: int, cells: dict[int, Cell], new: Mapping[int, str], *, is_header: bool
) -> bytes:
    attributes, inner = row.attributes, row.inner
    pieces: list[tuple[int, bytes]] = []
    column = -1
    split = _untouched(names, inner, min(cells)) if not is_header else 0
    for cell in names.cell.finditer(inner, split):
        told = _attribute(cell[1], b"r")
        column = _column(told) if told else column + 1
        if column not in cells:
            pieces.append((column, cell[0]))
        else:
            if column in new and names.content.search(cell[2] or b""):
                raise BadSource(f"the new column {new[column]!r} would overwrite {_reference(column, number)}.")
            if cell[2] and names.formula.search(cell[2]):
                raise BadSource(f"{_reference(column, number)} holds a formula; name another column.")
            pieces.append((column, _cell(names, column, number, cells.pop(column), _attribute(cell[1], b"s"))))
    style = _attribute(names.cell.findall(inner)[-1][0], b"s") if is_header and pieces else None
    pieces += [(c, _cell(names, c, number, value, style)) for c, value in cells.items() if value not in (None, "")]
    pieces.sort(key=lambda piece: piece[0])
    if spans := _attribute(attributes, b"spans"):
        wide = b"%s:%d" % (spans.split(b":")[0], max(int(spans.split(b":")[-1]), pieces[-1][0] + 1 if pieces else 1))
        attributes = attributes.replace(b'spans="%s"' % spans, b'spans="%s"' % wide)
    p = names.prefix
    changed = b"".join([piece for _, piece in pieces])
    return b"<%srow%s>%s%s</%srow>" % (p, attributes, inner[:split], changed, p)


def _cell(names: _Names, column: int, row: int, value: Cell, style: bytes | None) -> bytes:
    p = names.prefix
    start = b'<%sc r="%s%d"' % (p, _letters(column), row)
    if style is not None:
        start += b' s="%s"' % style
    if value is None or value == "":
        return start + b"/>"
    if isinstance(value, str):
        return b'%s t="inlineStr"><%sis><%st xml:space="preserve">%s</%st></%sis></%sc>' % (
            start, p, p, _escaped(value), p, p, p
        )  # fmt: skip
    return b"%s><%sv>%r</%sv></%sc>" % (start, p, value, p, p)


@lru_cache
def _letters(column: int) -> bytes:
    return letters(column).encode()


@lru_cache(4_096)
def _escaped(text: str) -> bytes:
    return escape(UNSAFE.sub("", text)).encode()


def _dimension(names: _Names, head: bytes, last: int) -> bytes:
    """The head with the used block (`dimension`) grown to the right where it has to."""
    found = re.search(rb'<%sdimension\b[^>]*\bref="([A-Z]+\d+):([A-Z]+)(\d+)"' % names.prefix, head)
    if not found or _column(found[2]) >= last:
        return head
    return head[: found.start(2)] + _reference(last, 0)[:-1].encode() + head[found.end(2) :]


@lru_cache
def _attribute_called(name: bytes) -> re.Pattern[bytes]:
    return re.compile(rb"""(?:^|\s)%s\s*=\s*(?:"([^"]*)"|'([^']*)')""" % name)


def _attribute(attributes: bytes, name: bytes) -> bytes | None:
    found = _attribute_called(name).search(attributes)
    return None if not found else found[1] if found[1] is not None else found[2]


@lru_cache(1_024)
def _column(reference: bytes) -> int:
    number = 0
    for letter in reference:
        if not 65 <= letter <= 90:
            break
        number = number * 26 + letter - 64
    return number - 1


def _reference(column: int, row: int) -> str:
    return f"{letters(column)}{row}"
