"""Splicing cells into a sheet of an OpenDocument spreadsheet (OASIS ODF 1.3, part 3, section 9).

As in splice.py, only the bytes of the cells concerned change. A run of equal cells or rows, which ODF writes once
with a count, is parted where one of them changes.
"""

import re
import zipfile
from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple
from xml.sax.saxutils import escape, unescape

from yellowtor.contracts.table import Cell, Leave
from yellowtor.errors import BadSource
from yellowtor.tables.workbook.cell_range import letters
from yellowtor.tables.workbook.sheet_text import Unsafe, attribute
from yellowtor.tables.workbook.splice import UNSAFE, Splice
from yellowtor.tables.workbook.zip_package import replace_members

CONTENT = "content.xml"
_ATTRS = rb"""(?:[^>"'/]|"[^"]*"|'[^']*')*"""
_TABLE = re.compile(rb"<table:table\b(%s)>(.*?)</table:table\s*>" % _ATTRS, re.DOTALL)
_ROW = re.compile(rb"<table:table-row\b(%s)(?:/>|>(.*?)</table:table-row\s*>)" % _ATTRS, re.DOTALL)
_CELL = re.compile(
    rb"<table:(covered-)?table-cell\b(%s)(?:/>|>(.*?)</table:(?:covered-)?table-cell\s*>)" % _ATTRS, re.DOTALL
)
_NOTE = re.compile(rb"<office:annotation\b.*?</office:annotation\s*>", re.DOTALL)
_SHOWN = re.compile(rb"<text:p\b[^>]*>(0\d+)</text:p>")
_MERGED = re.compile(rb"""table:number-(?:columns|rows)-spanned=["'](?!1["'])""")
_HIDDEN = re.compile(rb"""table:visibility=["'](?:collapse|filter)["']""")
_KEPT = (b"table:style-name", b"table:content-validation-name")  # what a cell keeps when its content changes


class Run(NamedTuple):
    """A cell or row element of the XML that represents `count` equal ones from `at` on (from 0)."""

    at: int
    many: int
    found: re.Match[bytes]


def splice_ods(source: Path, to: Path, sheet: str, splice: Splice, backup: Path | None = None) -> None:
    """Write source to `to` with the cells of one sheet changed. Raises BadSource when that is not safe."""
    with zipfile.ZipFile(source) as package:
        xml = package.read(CONTENT)
    try:
        changed = splice_content(xml, sheet, splice)
    except Unsafe as error:
        raise BadSource(f"{source}, sheet {sheet!r}: {error} Nothing was written.") from error
    if changed != xml or to != source:
        replace_members(source, to, {CONTENT: [changed]}, backup)


def splice_content(xml: bytes, sheet: str, splice: Splice) -> bytes:
    """The content with the sheet's cells changed."""
    start, end = _sheet(xml, sheet)
    edits = _edits_by_row(splice)
    numbers = sorted(edits)
    done = 0
    pieces = [xml[:start]]
    last = start
    for row in _runs(_ROW, xml, start, end):
        upto = bisect_right(numbers, row.at + row.many, done)  # edits count rows from 1
        inside = numbers[done:upto]
        done = upto
        pieces += [xml[last : row.found.start()], _parted_row(row, inside, edits, splice) if inside else row.found[0]]
        last = row.found.end()
    if edits:
        raise Unsafe(f"row {min(edits)} is not in its XML; save the file anew.")
    return b"".join(pieces) + xml[last:]


def _edits_by_row(splice: Splice) -> dict[int, dict[int, Cell]]:
    """The new cells of each row (from 1) by column (from 0), the header's among them."""
    edits: dict[int, dict[int, Cell]] = {}
    for page in splice.pages:
        for row, *new in zip(page.rows, *page.cells, strict=True):
            if cells := {c: v for c, v in zip(splice.columns, new, strict=True) if not isinstance(v, Leave)}:
                edits[row] = cells
    if splice.new:
        edits[splice.header_row] = dict(splice.new)
    return edits


class Seen(NamedTuple):
    """What a sheet shows beside its values.

    numbers shown with leading zeros, by row (from 1) and column (from 0); how many rows are hidden; the first cell of
    each block of merged cells (row and column from 0).
    """

    zeros: Mapping[tuple[int, int], str]
    hidden: int
    merged: Sequence[tuple[int, int]]


def seen(xml: bytes, sheet: str) -> Seen:
    """What is to be known of a sheet beside the values in it. Raises Unsafe."""
    zeros = dict[tuple[int, int], str]()
    hidden = 0
    merged = list[tuple[int, int]]()
    start, end = _sheet(xml, sheet)
    for row in _runs(_ROW, xml, start, end):
        inner = row.found[2] or b""
        hidden += row.many if _HIDDEN.search(row.found[1]) and b"<text:p" in inner else 0
        if not _SHOWN.search(inner) and not _MERGED.search(inner):
            continue
        for cell in _runs(_CELL, inner, 0, len(inner)):
            if _MERGED.search(cell.found[2]):
                merged.append((row.at, cell.at))
            shown = _SHOWN.search(cell.found[3] or b"")
            if shown and attribute(cell.found[2], b"office:value-type") == b"float":
                for n in range(row.many):
                    zeros |= {(row.at + n + 1, cell.at + c): shown[1].decode() for c in range(cell.many)}
    return Seen(zeros, hidden, merged)


def _sheet(xml: bytes, sheet: str) -> tuple[int, int]:
    """Where the rows of the sheet begin and end."""
    if not re.match(rb"""<\?xml[^>]*encoding=["']utf-8["']|<(?!\?)""", xml, re.IGNORECASE):
        raise Unsafe("its XML is not UTF-8; save the file anew.")
    if b"<!--" in xml or b"<![CDATA[" in xml:
        raise Unsafe("its XML holds comments or CDATA; save the file anew.")
    for table in _TABLE.finditer(xml):
        if unescape((attribute(table[1], b"table:name") or b"").decode(), {"&quot;": '"', "&apos;": "'"}) == sheet:
            return table.span(2)
    raise Unsafe("it is not in its XML; save the file anew.")


def _runs(kind: re.Pattern[bytes], xml: bytes, start: int, end: int) -> Iterator[Run]:
    at = 0
    for found in kind.finditer(xml, start, end):
        attributes = found[2] if kind is _CELL else found[1]
        word = b"table:number-%s-repeated" % (b"columns" if kind is _CELL else b"rows")
        count = int(attribute(attributes, word) or 1)
        yield Run(at, count, found)
        at += count


def _parted_row(row: Run, inside: list[int], edits: dict[int, dict[int, Cell]], splice: Splice) -> bytes:
    """The rows that one element stood for: those that change by themselves, the others together as before."""
    pieces = []
    last = row.at
    for number in inside:
        pieces += [_counted(row, b"rows", number - 1 - last), _row(row, number, edits.pop(number), splice)]
        last = number
    return b"".join([*pieces, _counted(row, b"rows", row.at + row.many - last)])


def _row(row: Run, number: int, cells: dict[int, Cell], splice: Splice) -> bytes:
    """One row with its cells changed."""
    pieces = []
    end = 0
    style = b""
    for cell in _runs(_CELL, row.found[2] or b"", 0, len(row.found[2] or b"")):
        inside = sorted(column for column in cells if cell.at <= column < cell.at + cell.many)
        last = cell.at
        for column in inside:
            pieces += [_counted(cell, b"columns", column - last), _changed(cell, number, column, cells, splice, style)]
            last = column + 1
        pieces.append(_counted(cell, b"columns", cell.at + cell.many - last) if inside else cell.found[0])
        end = cell.at + cell.many
        if number == splice.header_row and cell.found[3]:
            style = _styles(cell.found[2])
    for column in sorted(cells):
        if column > end:
            pieces.append(b'<table:table-cell table:number-columns-repeated="%d"/>' % (column - end))
        pieces.append(_cell(style, cells[column], b""))
        end = column + 1
    attributes = re.sub(rb'\s*table:number-rows-repeated="\d+"', b"", row.found[1])
    return b"<table:table-row%s>%s</table:table-row>" % (attributes, b"".join(pieces))


def _changed(cell: Run, row: int, column: int, cells: dict[int, Cell], splice: Splice, style: bytes) -> bytes:
    """One cell with its new content; its style, its check and a note on it stay."""
    covered, attributes, inner = cell.found.groups()
    where = f"{letters(column)}{row}"
    content = _NOTE.sub(b"", inner or b"").strip()
    foreign = column in splice.new and content
    if foreign and row == splice.header_row:
        raise Unsafe(f"the new column {splice.new[column]!r} would overwrite {where}.")
    if foreign or covered or b"table:formula=" in attributes or b"<draw:" in content or b"<table:" in content:
        splice.left.append(where)
        del cells[column]
        return _counted(cell, b"columns", 1)
    note = b"".join(_NOTE.findall(inner or b""))
    return _cell(_styles(attributes) or style, cells.pop(column), note)


def _styles(attributes: bytes) -> bytes:
    """The attributes of a cell that stay when its content changes."""
    found = ((name, attribute(attributes, name)) for name in _KEPT)
    return b"".join(b' %s="%s"' % (name, value) for name, value in found if value is not None)


def _cell(attributes: bytes, value: Cell, note: bytes) -> bytes:
    if value is None or value == "":
        return (
            b"<table:table-cell%s>%s</table:table-cell>" % (attributes, note)
            if note
            else (b"<table:table-cell%s/>" % attributes)
        )
    if isinstance(value, str):
        lines = escape(UNSAFE.sub("", value)).split("\n")
        text = "".join(f"<text:p>{_blanks(line)}</text:p>" for line in lines).encode()
        kind = b'office:value-type="string"'
    else:
        text = f"<text:p>{value!r}</text:p>".encode()
        kind = b'office:value-type="float" office:value="%s"' % repr(value).encode()
    return b"<table:table-cell%s %s>%s%s</table:table-cell>" % (attributes, kind, note, text)


def _blanks(line: str) -> str:
    """Blanks that XML readers would fold, as elements (ODF 1.3, part 3, 6.1.2)."""
    line = re.sub(r"^ | (?= )| $", "<text:s/>", line)
    return line.replace("\t", "<text:tab/>").replace("\r", "")


def _counted(run: Run, what: bytes, count: int) -> bytes:
    """The element of a run with another count."""
    if count <= 0:
        return b""
    word = b"table:number-%s-repeated" % what
    text = run.found[0]
    if attribute(text[: text.index(b">")], word) is None:
        return text
    return re.sub(rb'\s*%s="\d+"' % word, b' %s="%d"' % (word, count) if count > 1 else b"", text, count=1)
