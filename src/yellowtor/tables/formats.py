"""Numbers that a sheet shows with leading zeros: a postcode kept as 412 and shown as 00412 is read as 00412.

Number formats are those of SpreadsheetML (ECMA-376 part 1, 18.8.30): here those of zeros and literals only.
"""

import re
import zipfile
from collections.abc import Mapping

from yellowtor.tables.block import column_number
from yellowtor.tables.package import xml_of

_LITERAL = re.compile(r'"([^"]*)"|\\(.)|(0)|([-/ ])')
_CELL = re.compile(rb"<(?:\w+:)?c\b([^>]*?)>\s*(?:<(?:\w+:)?f\b.*?)?<(?:\w+:)?v>(\d+)</", re.DOTALL)


def shown_numbers(package: zipfile.ZipFile, xml: bytes) -> Mapping[tuple[int, int], str]:
    """The texts of a sheet's numeric cells that are shown with leading zeros, by row (from 1) and column (from 0)."""
    styles = _zero_styles(package)
    if not styles:
        return {}
    shown = {}
    for cell in _CELL.finditer(xml):
        attributes = dict(re.findall(rb'(\w+)="([^"]*)"', cell[1]))
        code = styles.get(int(attributes.get(b"s", b"0")))
        if code and attributes.get(b"t", b"n") == b"n" and b"r" in attributes:
            reference = attributes[b"r"].decode()
            column = reference.rstrip("0123456789")
            shown[int(reference[len(column) :]), column_number(column)] = fill_zeros(code, cell[2].decode())
    return shown


def _zero_styles(package: zipfile.ZipFile) -> dict[int, str]:
    """The formats of zeros only, by the number of the cell style that has them."""
    if "xl/styles.xml" not in package.namelist():
        return {}
    root = xml_of(package, "xl/styles.xml")
    codes = {
        entry.get("numFmtId", ""): entry.get("formatCode", "").split(";")[0]
        for entry in root.iterfind("{*}numFmts/{*}numFmt")
    }
    zeros = {number: code for number, code in codes.items() if is_of_zeros(code)}
    styles = enumerate(root.iterfind("{*}cellXfs/{*}xf"))
    return {at: zeros[entry.get("numFmtId", "")] for at, entry in styles if entry.get("numFmtId") in zeros}


def is_of_zeros(code: str) -> bool:
    """Whether a number format consists of at least two zeros, and literals."""
    return not _LITERAL.sub("", code) and sum(found[3] is not None for found in _LITERAL.finditer(code)) >= 2


def fill_zeros(code: str, digits: str) -> str:
    """A whole number as such a format shows it.

    >>> fill_zeros("000-00", "412")
    '004-12'
    """
    tokens = [found[3] or found[1] or found[2] or found[4] or "" for found in _LITERAL.finditer(code)]
    places = [at for at, found in enumerate(_LITERAL.finditer(code)) if found[3]]
    digits = digits.rjust(len(places), "0")
    for at, digit in zip(reversed(places), reversed(digits), strict=False):
        tokens[at] = digit
    tokens[places[0]] = digits[: len(digits) - len(places)] + tokens[places[0]]
    return "".join(tokens)
