"""What a spreadsheet program allows on a sheet (SpreadsheetML, ECMA-376 part 1, 18.3 and 18.5), beside its cells.

Answers that would break one of its rules are an error before anything is asked. Filters grow with the columns, and
formulas are calculated anew when the workbook is opened, for their last results may rest on what has changed.
"""

import re
import zipfile
from collections.abc import Collection, Container, Iterator, Mapping
from html import unescape
from typing import NamedTuple

from yellowtor.tables.workbook.cell_range import Block, column_number, letters, parse_block
from yellowtor.tables.workbook.sheet_text import SheetText, Unsafe, attribute

LAST_COLUMN = column_number("XFD")
LONGEST = 32_767  # characters of a cell
_MERGED = re.compile(rb"""<(?:\w+:)?mergeCell\b[^>]*?\bref=["']([A-Z0-9:$]+)["']""")
_FILTER = re.compile(rb"""(<(?:\w+:)?autoFilter\b[^>]*?\bref=["'])([A-Z]+)(\d+):([A-Z]+)(\d+)(?=["'])""")
_PROTECTED = re.compile(rb"""<(?:\w+:)?sheetProtection\b[^>]*\bsheet=["'](?:1|true)["']""")
_FORMULAS = (b"<f>", b"<f ", b"<f/", b":f>", b":f ", b":f/")  # one of these is in each sheet with formulas
_CALCULATION = re.compile(rb"<((?:\w+:)?)calcPr\b([^>]*?)(/?)>")
_FILTER_NAME = re.compile(
    rb"""(<(?:\w+:)?definedName\b[^>]*\bname=["']_xlnm\._FilterDatabase["'][^>]*>)([^<]*?\$[A-Z]+\$\d+:\$)([A-Z]+)(\$\d+)(?=<)"""
)


class Added(NamedTuple):
    """The new columns of a sheet (from 0); the last is -1 where none is new."""

    sheet: str
    first: int
    last: int


def check_columns(text: SheetText, rows: Container[int], columns: Mapping[int, str], degrees: Container[int]) -> None:
    """Raise Unsafe where answers can't go into these columns (from 0) of these rows (from 1).

    In the columns for degrees a cell may hold a formula: its record may keep what the formula gives.
    """
    if (last := max(columns, default=0)) > LAST_COLUMN:
        raise Unsafe(f"there is no room for the column {columns[last]!r}: a sheet ends with the column XFD.")
    for row, taken in occupied(text, columns).items():
        if row in rows:
            where = f"{letters(min(taken))}{row}"
            raise Unsafe(f"{where} is for an answer, and belongs to merged cells or an array formula: part those.")
    for where, _ in _formulas(text):
        cell = parse_block(where)
        if cell.first_column in columns and cell.first_column not in degrees and cell.first_row + 1 in rows:
            raise Unsafe(f"{where} is for an answer, and holds a formula; name another column.")


def occupied(text: SheetText, columns: Collection[int]) -> dict[int, set[int]]:
    """The cells of these columns that belong to merged cells or to an array formula and are not their first, by row."""
    merged = [parse_block(found[1].decode()) for found in _MERGED.finditer(text.xml, text.end)]
    arrays = [block for _, block in _formulas(text) if block is not None]
    taken: dict[int, set[int]] = {}
    for block in [*merged, *arrays]:
        right = block.last_column or block.first_column
        low = block.last_row or block.first_row
        inside = {column for column in columns if block.first_column <= column <= right}
        for row in range(block.first_row, low + 1) if inside else ():
            taken.setdefault(row + 1, set()).update(inside)
        if block.first_column in inside:
            taken[block.first_row + 1].discard(block.first_column)
    return {row: cells for row, cells in taken.items() if cells}


def _formulas(text: SheetText) -> Iterator[tuple[str, Block | None]]:
    """The cells with formulas, and the block of their results if it is larger than the cell."""
    for where, at in formula_cells(text):
        tag = text.xml[at : text.xml.find(b">", at)]
        kind = attribute(tag, b"t")
        block = attribute(tag, b"ref")
        wide = kind in {b"array", b"dataTable"} and block is not None and b":" in block
        yield where, parse_block(block.decode()) if wide and block else None


def formula_cells(text: SheetText) -> Iterator[tuple[str, int]]:
    """The cells with formulas, and where in the XML the attributes of each formula are."""
    xml = text.xml
    cell = text.names.cell_starts
    for at in text.formulas:
        start = xml.rfind(cell, text.start, at)
        if where := attribute(xml[start + len(cell) : xml.find(b">", start)], b"r"):
            yield where.decode(), at


def without_result(text: SheetText) -> list[str]:
    """The cells with formulas that no program has calculated."""
    value = b"<%sv" % text.names.prefix
    end = b"</%sc" % text.names.prefix
    return [where for where, at in formula_cells(text) if text.xml.find(value, at, text.xml.find(end, at)) < 0]


def is_protected(text: SheetText) -> bool:
    """Whether people can't change the sheet without its password, or without lifting its protection."""
    return _PROTECTED.search(text.xml, text.end) is not None


def with_wider_filter(xml: bytes, header_row: int, first_new: int, last_new: int) -> bytes:
    """The XML after the rows, with the filter extended over the new columns (from 0)."""

    def wider(found: re.Match[bytes]) -> bytes:
        ends = int(found[3]) == header_row and column_number(found[4].decode()) == first_new - 1
        right = letters(last_new).encode() if ends else found[4]
        return found[1] + found[2] + found[3] + b":" + right + found[5]

    return _FILTER.sub(wider, xml)


def changed_book(package: zipfile.ZipFile, book: str, part: str, text: SheetText, added: Added) -> bytes:
    """The workbook's own part: formulas are to be calculated, and the filter's name has the new columns too.

    part is the sheet's member of the package, text what it says.
    """
    content = package.read(book)
    if added.last >= 0:
        content = _with_wider_name(content, added)
    marked = with_calculation(content)
    return marked if marked != content and _has_formulas(package, part, text) else content


def _with_wider_name(content: bytes, added: Added) -> bytes:
    quoted = added.sheet.replace("'", "''")
    names = {f"'{quoted}'!", f"{added.sheet}!"}

    def wider(found: re.Match[bytes]) -> bytes:
        here = unescape(found[2].decode()).rpartition("!")[0] + "!" in names
        ends = column_number(found[3].decode()) == added.first - 1
        return found[1] + found[2] + (letters(added.last).encode() if here and ends else found[3]) + found[4]

    return _FILTER_NAME.sub(wider, content)


def _has_formulas(package: zipfile.ZipFile, part: str, text: SheetText) -> bool:
    if "xl/calcChain.xml" in package.namelist() or next(formula_cells(text), None):
        return True
    there = package.namelist()
    sheets = [name for name in there if "/worksheets/" in name and name.endswith(".xml") and name != part]
    return any(start in part for part in map(package.read, sheets) for start in _FORMULAS)


def with_calculation(content: bytes) -> bytes:
    """The workbook's part, so that all formulas are calculated when it is opened (fullCalcOnLoad, 18.2.2)."""
    found = _CALCULATION.search(content)
    if found:
        flag = attribute(found[2], b"fullCalcOnLoad")
        if flag in {b"1", b"true"}:
            return content
        rest = re.sub(rb"""\s*\bfullCalcOnLoad=["'][^"']*["']""", b"", found[2])
        new = b'<%scalcPr%s fullCalcOnLoad="1"%s>' % (found[1], rest.rstrip(), found[3])
        return content[: found.start()] + new + content[found.end() :]
    prefix = re.search(rb"<((?:\w+:)?)workbook\b", content)
    if prefix is None:
        return content
    p = prefix[1]
    ends = [
        end
        for name in (b"sheets", b"functionGroups", b"externalReferences", b"definedNames")
        for end in re.finditer(rb"</%s%s\s*>|<%s%s\b[^>]*/>" % (p, name, p, name), content)
    ]
    at = max((end.end() for end in ends), default=-1)
    return content if at < 0 else content[:at] + b'<%scalcPr fullCalcOnLoad="1"/>' % p + content[at:]
