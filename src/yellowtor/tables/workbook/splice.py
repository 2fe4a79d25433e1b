"""Splices cells into a sheet's XML (SpreadsheetML, ECMA-376 part 1, 18.3.1).

Only the bytes of these cells change. The XML around them is copied, so formulas, cached results, formats and unknown
extensions stay. If that is not safe, it is refused before anything is written.
"""

import html
import re
import zipfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import chain, repeat
from operator import itemgetter
from pathlib import Path
from typing import NamedTuple, cast

from yellowtor.contracts.table import Cell, Leave, NewCells
from yellowtor.errors import BadSource
from yellowtor.tables.cells import number_texts
from yellowtor.tables.workbook.cell_range import letters
from yellowtor.tables.workbook.sheet_rules import LONGEST, Added, changed_book, occupied, with_wider_filter
from yellowtor.tables.workbook.sheet_text import NO_ROW, REFERENCE, Names, SheetText, Unsafe, attribute, column_of
from yellowtor.tables.workbook.table_growth import grown_tables
from yellowtor.tables.workbook.zip_package import book_member, replace_members, sheet_member

_NUMBERS = {float, int}
_SPECIAL = re.compile("[&<>\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")
UNSAFE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")  # what XML 1.0 can't hold


class SheetPage(NamedTuple):
    """New contents of some rows of the sheet (from 1, ascending): for each of the splice's columns, their cells."""

    rows: Sequence[int]
    cells: Sequence[NewCells]


@dataclass(frozen=True)
class Splice:
    """What to change: the header's row (from 1), the columns (from 0), those that are new, the pages of rows below.

    Pages are asked for once, one after the other, as they are written. left gets cells that stay: those with formulas,
    and those of new columns that hold something.
    """

    header_row: int
    columns: Sequence[int]
    new: Mapping[int, str]
    pages: Iterable[SheetPage]
    left: list[str] = field(default_factory=list)


def splice_workbook(
    source: Path, to: Path, sheet: str, ready: SheetText | None, splice: Splice, backup: Path | None = None
) -> None:
    """Write source to `to` with the cells of one sheet changed. Raises BadSource if that is not safe.

    ready is the sheet's text, if it was read already.
    """
    try:
        with zipfile.ZipFile(source) as package:
            member = sheet_member(package, sheet)
            text = ready or SheetText(package.read(member))
            others = _other_parts(package, sheet, member, text, splice)
        pieces = splice_sheet(text, splice)
        xml = text.xml
        if to == source:
            changed = b"".join(pieces)
            if changed != xml:
                replace_members(source, to, {member: [changed], **others}, backup)
        else:
            replace_members(source, to, {member: pieces, **others}, backup)
    except Unsafe as error:
        raise BadSource(f"{source}, sheet {sheet!r}: {error} Nothing was written.") from error


def _other_parts(
    package: zipfile.ZipFile, sheet: str, member: str, text: SheetText, splice: Splice
) -> dict[str, list[bytes]]:
    """The other parts that change: a table that grows; the workbook part, if there are formulas."""
    added = sorted(splice.new.items())
    book = book_member(package)
    first, last = (added[0][0], added[-1][0]) if added else (0, -1)
    grown = grown_tables(package, member, splice.header_row, first, [name for _, name in added]) if added else {}
    content = changed_book(package, book, member, text, Added(sheet, first, last))
    changed = {} if content == package.read(book) else {book: content}
    return {part: [content] for part, content in {**grown, **changed}.items()}


def splice_sheet(text: SheetText, splice: Splice) -> Iterator[bytes | memoryview]:
    """The sheet's XML with the cells changed, in pieces. Raises Unsafe."""
    yield _dimension(text.names, text.xml[: text.start], max(splice.columns, default=0))
    yield from _rows(text, splice)
    if not splice.new:
        yield memoryview(text.xml)[text.end :]
        return
    yield with_wider_filter(text.xml[text.end :], splice.header_row, min(splice.new), max(splice.new))


def _rows(text: SheetText, splice: Splice) -> Iterator[bytes | memoryview]:
    """The rows with their cells changed, in pieces of a page each."""
    names = text.names
    xml = text.xml
    appended = _Appended(names, splice.columns)
    view = memoryview(xml)
    at = text.start
    rows = iter(text.rows)
    header = [SheetPage([splice.header_row], [])] if splice.new else []
    occupied_cells = occupied(text, splice.columns)
    for page in chain(header, splice.pages if splice.columns else ()):
        pieces = list[bytes | memoryview]()
        tails = appended.cells(page)
        for place, number in enumerate(page.rows):
            row = next(rows, NO_ROW)
            while row[0] < number:
                row = next(rows, NO_ROW)
            found, last, attributes, tag, inner, closing, end = row
            if found > number:
                raise Unsafe(f"row {number} is not in its XML; save the workbook anew.")
            if number == splice.header_row:
                split = inner
                tail = _changed(names, xml[inner:closing], number, dict(splice.new), splice)
            elif last < appended.first and number not in occupied_cells:
                split = closing
                tail = tails[place]
            else:
                split = _untouched(names, xml, inner, closing, appended.first)
                cells = _new_cells(splice, page, place, occupied_cells.get(number, set()))
                if not cells:
                    continue
                tail = _changed(names, xml[split:closing], number, cells, splice)
            if not tail and split == closing:
                continue
            rest = _spanning(attributes, appended.last)
            if rest == attributes and closing != end:
                pieces += view[at:split], tail
            else:
                pieces += view[at : tag - len(attributes)], rest
                pieces += (b">%s</%srow>" % (tail, names.prefix),) if closing == end else (view[tag:split], tail)
            at = closing
        yield b"".join(pieces)
    yield view[at : text.end]


def _new_cells(splice: Splice, page: SheetPage, place: int, occupied: set[int]) -> dict[int, Cell]:
    """The new cells of a row by column; one that is occupied by something else is left, and noted."""
    cells = {
        column: cell
        for column, new in zip(splice.columns, page.cells, strict=True)
        if not isinstance(cell := new[place], Leave)
    }
    for column in occupied & cells.keys():
        splice.left.append(_reference(column, page.rows[place]))
        del cells[column]
    return cells


class _Appended:
    """The new cells of rows that have none where they come, nor to the right: what most rows are."""

    def __init__(self, names: Names, columns: Sequence[int]) -> None:
        prefix = names.prefix.decode()
        self.first = min(columns, default=0)
        self.last = max(columns, default=0)
        order = sorted(range(len(columns)), key=columns.__getitem__)
        self._starts = [(at, f'<{prefix}c r="{letters(columns[at])}') for at in order]
        self._number = f'"><{prefix}v>', f"</{prefix}v></{prefix}c>"
        self._text = (
            f'" t="inlineStr"><{prefix}is><{prefix}t xml:space="preserve">',
            f"</{prefix}t></{prefix}is></{prefix}c>",
        )

    def cells(self, page: SheetPage) -> list[bytes]:
        """The cells of each row; none for what is left or empty. A page at a time, which is faster than a row."""
        names = list(map(str, page.rows))
        parts = list[Iterable[str]]()
        for at, start in self._starts if page.cells else []:
            parts += self._column(start, names, page.cells[at])
        return ["".join(cells).encode() for cells in zip(*parts, strict=False)]  # some repeat for ever

    def _column(self, start: str, rows: Sequence[str], cells: NewCells) -> list[Iterable[str]]:
        """What makes up the cells of a column, one after the other in each row."""
        before, after = self._text
        opens, closes = self._number
        kinds = set(map(type, cells))
        texts = [cell for cell in cells if isinstance(cell, str)] if kinds != {float} else []
        if _SPECIAL.search("\n".join(texts)) or max(map(len, texts), default=0) > LONGEST:
            cells = [_escaped(cell) if isinstance(cell, str) else cell for cell in cells]
        if kinds == {str} and all(cells):
            return [repeat(start), rows, repeat(before), cast("Sequence[str]", cells), repeat(after)]
        if kinds == {float}:
            return [repeat(start), rows, repeat(opens), number_texts(cast("Sequence[float]", cells)), repeat(closes)]
        return [
            [
                (f"{start}{row}{before}{cell}{after}" if cell else "")
                if isinstance(cell, str)
                else f"{start}{row}{opens}{cell!r}{closes}"
                if cell.__class__ in _NUMBERS
                else ""
                for row, cell in zip(rows, cells, strict=True)
            ]
        ]


def _untouched(names: Names, xml: bytes, inner: int, closing: int, first: int) -> int:
    """Where the cells from column `first` on begin in a row; the start of the row if unknown.

    The search starts at the end, where answers usually are.
    """
    split = at = closing
    while (at := xml.rfind(names.cell_starts, inner, at)) >= 0:
        after = at + len(names.cell_starts)
        if xml[after] not in b" \t\r\n/>":
            continue  # another element
        found = REFERENCE.match(xml, after)
        if not found:
            return inner
        if column_of(found[1]) < first:
            return split
        split = at
    return inner


def _changed(names: Names, inner: bytes, number: int, cells: dict[int, Cell], splice: Splice) -> bytes:
    """The cells of a row, or of its end, with changed and added cells."""
    new = splice.new
    is_header = number == splice.header_row
    pieces: list[tuple[int, bytes]] = []
    column = -1
    for cell in names.cell.finditer(inner):
        reference = attribute(cell[1], b"r")
        column = column_of(reference) if reference else column + 1
        if column not in cells:
            pieces.append((column, cell[0]))
        else:
            foreign = column in new and names.content.search(cell[2] or b"")
            if foreign and is_header:
                raise Unsafe(f"the new column {new[column]!r} would overwrite {_reference(column, number)}.")
            if foreign or (cell[2] and names.formula.search(cell[2])):
                splice.left.append(_reference(column, number))
                pieces.append((column, cell[0]))
                del cells[column]
                continue
            pieces.append((column, _cell(names, column, number, cells.pop(column), attribute(cell[1], b"s"))))
    style = attribute(names.cell.findall(inner)[-1][0], b"s") if is_header and pieces else None
    pieces += [(c, _cell(names, c, number, value, style)) for c, value in cells.items() if value not in (None, "")]
    return b"".join([piece for _, piece in sorted(pieces, key=itemgetter(0))])


@lru_cache
def _spanning(attributes: bytes, last: int) -> bytes:
    """A row's attributes, of which `spans` tells readers how wide it is at most."""
    if b"spans" not in attributes or not (spans := attribute(attributes, b"spans")):
        return attributes
    left, _, right = spans.partition(b":")
    return attributes.replace(b'spans="%s"' % spans, b'spans="%s:%d"' % (left, max(int(right), last + 1)))


def _cell(names: Names, column: int, row: int, value: Cell, style: bytes | None) -> bytes:
    p = names.prefix
    start = b'<%sc r="%s%d"' % (p, _letters(column), row)
    if style is not None:
        start += b' s="%s"' % style
    if value is None or value == "":
        return start + b"/>"
    if isinstance(value, str):
        return b'%s t="inlineStr"><%sis><%st xml:space="preserve">%s</%st></%sis></%sc>' % (
            start,
            p,
            p,
            _escaped(value).encode(),
            p,
            p,
            p,
        )
    return b"%s><%sv>%r</%sv></%sc>" % (start, p, value, p, p)


@lru_cache
def _letters(column: int) -> bytes:
    return letters(column).encode()


@lru_cache(4_096)
def _escaped(text: str) -> str:
    return html.escape(UNSAFE.sub("", text)[:LONGEST], quote=False)


def _dimension(names: Names, head: bytes, last: int) -> bytes:
    """The head, with the used block (`dimension`) extended to the right if needed."""
    found = re.search(rb'<%sdimension\b[^>]*\bref="([A-Z]+\d+):([A-Z]+)(\d+)"' % names.prefix, head)
    if not found or column_of(found[2]) >= last:
        return head
    return head[: found.start(2)] + _reference(last, 0)[:-1].encode() + head[found.end(2) :]


def _reference(column: int, row: int) -> str:
    return f"{letters(column)}{row}"
