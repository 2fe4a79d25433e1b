"""What a spreadsheet program allows on a sheet (SpreadsheetML, ECMA-376 part 1, 18.3 and 18.5), beside its cells.

Where answers would break one of its rules, that is told before anything is asked. Filters grow with the columns, and
formulas are calculated anew when the workbook is opened, for their last results may rest on what has changed.
"""

import re
import zipfile
from collections.abc import Collection, Container, Iterator, Mapping
from html import unescape

from yellowtor.tables.block import Block, column_number, letters, parse_block
from yellowtor.tables.sheettext import SheetText, Unsafe, attribute

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
        right, low = block.last_column or block.first_column, block.last_row or block.first_row
        inside = {column for column in columns if block.first_column <= column <= right}
        for row in range(block.first_row, low + 1) if inside else ():
            taken.setdefault(row + 1, set()).update(inside)
        if block.first_column in inside:
            taken[block.first_row + 1].discard(block.first_column)
    return {row: cells for row, cells in taken.items() if cells}


def _formulas(text: SheetText) -> Iterator[tuple[str, Block | None]]:
    """The cells with formulas; and the block that each gives its results to, where that is not just its cell."""
    for where, at in _formula_cells(text):
        told = text.xml[at : text.xml.find(b">", at)]
        kind, block = attribute(told, b"t"), attribute(told, b"ref")
        wide = kind in {b"array", b"dataTable"} and block is not None and b":" in block
        yield where, parse_block(block.decode()) if wide and block else None


def _formula_cells(text: SheetText) -> Iterator[tuple[str, int]]:
    """The cells with formulas, and where in the XML the attributes of each formula are."""
    xml, formula, cell, at = text.xml, b"<%sf" % text.names.prefix, text.names.cell_starts, text.start
    while (at := xml.find(formula, at, text.end)) >= 0:
        at += len(formula)
        start = xml.rfind(cell, text.start, at)
        where = attribute(xml[start + len(cell) : xml.find(b">", start)], b"r")
        if where and xml[at] in b" \t\r\n/>":
            yield where.decode(), at


def without_result(text: SheetText) -> list[str]:
    """The cells with formulas that nobody has calculated: no program that only reads them can tell what they say."""
    value, end = b"<%sv" % text.names.prefix, b"</%sc" % text.names.prefix
    return [where for where, at in _formula_cells(text) if text.xml.find(value, at, text.xml.find(end, at)) < 0]


def is_protected(xml: bytes) -> bool:
    """Whether people can't change the sheet without its password, or without lifting its protection."""
    return _PROTECTED.search(xml) is not None


def with_wider_filter(xml: bytes, header_row: int, first_new: int, last_new: int) -> bytes:
    """What follows the rows of a sheet, with its filter over the new columns (from 0) as well."""

    def wider(found: re.Match[bytes]) -> bytes:
        ends = int(found[3]) == header_row and column_number(found[4].decode()) == first_new - 1
        right = letters(last_new).encode() if ends else found[4]
        return found[1] + found[2] + found[3] + b":" + right + found[5]

    return _FILTER.sub(wider, xml)


def changed_book(package: zipfile.ZipFile, book: str, sheet: str, xml: bytes, first_new: int, last_new: int) -> bytes:
    """The workbook's own part: formulas are to be calculated, and the filter's name has the new columns too.

    sheet is the sheet's name, xml its part. last_new is -1 where no column is new.
    """
    content = package.read(book)
    if last_new >= 0:
        content = _with_wider_name(content, sheet, first_new, last_new)
    return with_calculation(content) if _has_formulas(package, xml) else content


def _with_wider_name(content: bytes, sheet: str, first_new: int, last_new: int) -> bytes:
    quoted = sheet.replace("'", "''")
    names = {f"'{quoted}'!", f"{sheet}!"}

    def wider(found: re.Match[bytes]) -> bytes:
        here = unescape(found[2].decode()).rpartition("!")[0] + "!" in names
        ends = column_number(found[3].decode()) == first_new - 1
        return found[1] + found[2] + (letters(last_new).encode() if here and ends else found[3]) + found[4]

    return _FILTER_NAME.sub(wider, content)


def _has_formulas(package: zipfile.ZipFile, xml: bytes) -> bool:
    if any(start in xml for start in _FORMULAS) or "xl/calcChain.xml" in package.namelist():
        return True
    sheets = [name for name in package.namelist() if "/worksheets/" in name and name.endswith(".xml")]
    return any(start in part for part in map(package.read, sheets) for start in _FORMULAS)


def with_calculation(content: bytes) -> bytes:
    """The workbook's part, so that all formulas are calculated when it is opened (fullCalcOnLoad, 18.2.2)."""
    found = _CALCULATION.search(content)
    if found:
        told = attribute(found[2], b"fullCalcOnLoad")
        if told in {b"1", b"true"}:
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
