"""A table on a sheet (ECMA-376 part 1, 18.5) grows by the columns that are added beside it."""

import re
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import replace
from html import unescape
from pathlib import Path

from yellowtor.errors import BadSource
from yellowtor.tables.workbook.cell_range import Block, letters, parse_block
from yellowtor.tables.workbook.sheet_text import Unsafe
from yellowtor.tables.workbook.workbook_file import OOXML
from yellowtor.tables.workbook.zip_package import parts_of, sheet_member, xml_of

_REF = re.compile(
    rb"""(<(?:\w+:)?(?:table|autoFilter|sortState)\b[^>]*?\bref=)(["'])([A-Z]+)(\d+):([A-Z]+)(\d+)(["'])"""
)


def grown_tables(
    package: zipfile.ZipFile, sheet: str, header_row: int, first_new: int, names: Sequence[str]
) -> Mapping[str, bytes]:
    """The table parts that change when columns with these names are added from first_new on (from 0).

    That is a table with its header in header_row (from 1) that ends in the column before.
    """
    for part in parts_of(package, sheet, "table"):
        xml_of(package, part)  # it is well-formed
        xml = package.read(part)
        found = _REF.search(xml)
        if not found:
            continue
        block = parse_block((found[3] + found[4] + b":" + found[5] + found[6]).decode())
        if block.first_row == header_row - 1 and block.last_column == first_new - 1:
            _check_names(xml, names)
            return {part: _grown(xml, found[5], first_new + len(names) - 1, names)}
    return {}


def _check_names(xml: bytes, names: Sequence[str]) -> None:
    """Raise Unsafe where a table would have two columns of one name: spreadsheets take capitals for small letters."""
    found = re.findall(rb"""<(?:\w+:)?tableColumn\b[^>]*?\bname=(?:"([^"]*)"|'([^']*)')""", xml)
    there = {unescape((one or other).decode()).casefold(): unescape((one or other).decode()) for one, other in found}
    for name in names:
        if (other := there.setdefault(name.casefold(), name)) is not name:
            raise Unsafe(f"the table has a column {other!r}, and {name!r} is the same name to it: write {other!r}.")


def table_block(package: zipfile.ZipFile, part: str, name: str) -> Block | None:
    """The block of a table part if it is that of this name, without its row of totals."""
    root = xml_of(package, part)
    if name.casefold() not in {str(root.get(key, "")).casefold() for key in ("name", "displayName")}:
        return None
    block = parse_block(root.get("ref", ""))
    totals = int(root.get("totalsRowCount", "0"))
    return replace(block, last_row=block.last_row - totals if block.last_row is not None else None)


def _grown(xml: bytes, last: bytes, column: int, names: Sequence[str]) -> bytes:
    from xml.sax.saxutils import quoteattr  # loads a client of HTTP

    left = _REF.search(xml)

    def wider(found: re.Match[bytes]) -> bytes:
        """The table's own block, its filter's and that of its order; the columns that it is in order by stay."""
        whole = left is not None and found[3] == left[3] and found[5] == last
        right = letters(column).encode() if whole else found[5]
        return found[1] + found[2] + found[3] + found[4] + b":" + right + found[6] + found[7]

    xml = _REF.sub(wider, xml)
    free = max(map(int, re.findall(rb'<(?:\w+:)?tableColumn\b[^>]*?\bid="(\d+)"', xml)), default=0) + 1
    prefix = re.search(rb"</((?:\w+:)?)tableColumns>", xml)
    if prefix is None:
        raise ValueError("a table on the sheet has no columns")
    added = "".join(
        f"<{prefix[1].decode()}tableColumn id={quoteattr(str(free + n))} name={quoteattr(name)}/>"
        for n, name in enumerate(names)
    )
    count = len(re.findall(rb"<(?:\w+:)?tableColumn\b", xml)) + len(names)
    xml = re.sub(rb'(tableColumns\b[^>]*?\bcount=")\d+', lambda m: m[1] + str(count).encode(), xml)
    return xml.replace(prefix[0], added.encode() + prefix[0])


def named_table(path: Path, sheets: Sequence[str], name: str) -> tuple[str, Block]:
    """The sheet and the block of a named table, without its row of totals. Raises BadSource."""
    if path.suffix.lower() not in OOXML:
        raise BadSource(f"{path}: only .xlsx and .xlsm have named tables. Nothing was sent.")
    with zipfile.ZipFile(path) as package:
        for sheet in sheets:
            for part in parts_of(package, sheet_member(package, sheet), "table"):
                if found := table_block(package, part, name):
                    return sheet, found
    raise BadSource(f"{path} has no table {name!r}. Nothing was sent.")
