"""Numbers that a sheet shows with leading zeros: a postcode stored as 412 and shown as 00412 is read as 00412.

The number formats are those of SpreadsheetML (ECMA-376 part 1, 18.8.30) that show whole numbers with zeros.
"""

import operator
import re
import zipfile
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

from yellowtor.tables.workbook.cell_range import column_number
from yellowtor.tables.workbook.zip_package import xml_of

_TOKEN = re.compile(
    r"""\[(?P<condition><=|>=|<>|<|>|=)\s*(?P<limit>-?\d+(?:\.\d+)?)\]
    | \[\$(?P<currency>[^\]-]*)(?:-[^\]]*)?\]  # and the language that it is shown in
    | \[(?:black|blue|cyan|green|magenta|red|white|yellow|color\s?\d+)\]
    | "(?P<quoted>[^"]*)" | \\(?P<escaped>.) | _(?P<wide>.) | \*(?P<filling>.)
    | (?P<digit>[0#?]) | (?P<literal>[-+/():!^&'~{}<>=$\ ])""",
    re.VERBOSE | re.IGNORECASE | re.DOTALL,
)
_SECTION = re.compile(r'(?:"[^"]*"|\\.|\[[^\]]*\]|[^;"\\\[]|[\\"\[])*+', re.DOTALL)
# A cell with a whole number, the result of a formula too; what has none ends where it ends.
_CELL = re.compile(
    rb"<(?:\w+:)?c\b([^>]*+)(?<!/)>\s*(?:<(?:\w+:)?f\b(?:[^>]*+(?<=/)>|[^>]*+>[^<]*+</(?:\w+:)?f\s*>)\s*)?"
    rb"<(?:\w+:)?v>(\d++)(?:\.0++)?</"
)
_ATTRIBUTE = re.compile(rb"""(\w+)\s*=\s*["']([^"']*)["']""")
_COMPARE: Mapping[str, Callable[[float, float], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "=": operator.eq,
    "<>": operator.ne,
}


class Section(NamedTuple):
    """A part of a format: the numbers that it is for (a comparison and a limit), its texts and digits in order."""

    condition: tuple[str, float] | None
    tokens: Sequence[tuple[str, str]]  # "digit" and its sign, or "text" and what is shown

    @property
    def is_of_zeros(self) -> bool:
        """Whether it shows at least two zeros."""
        return sum(token == ("digit", "0") for token in self.tokens) >= 2


def shown_numbers(package: zipfile.ZipFile, xml: bytes) -> Mapping[tuple[int, int], str]:
    """The texts of a sheet's numeric cells that are shown with leading zeros, by row (from 1) and column (from 0)."""
    styles = _zero_styles(package)
    if not styles:
        return {}
    shown = {}
    for cell in _CELL.finditer(xml):
        attributes = dict(_ATTRIBUTE.findall(cell[1]))
        code = styles.get(attributes.get(b"s", b"0"))
        if code and attributes.get(b"t", b"n") == b"n" and b"r" in attributes:
            reference = attributes[b"r"].decode()
            text = fill_zeros(code, cell[2].decode())
            column = reference.rstrip("0123456789")
            if text is not None:
                shown[int(reference[len(column) :]), column_number(column)] = text
    return shown


def _zero_styles(package: zipfile.ZipFile) -> dict[bytes, str]:
    """The formats that show zeros, by the number of the cell style that has them."""
    if "xl/styles.xml" not in package.namelist():
        return {}
    root = xml_of(package, "xl/styles.xml")
    codes = {entry.get("numFmtId", ""): entry.get("formatCode", "") for entry in root.iterfind("{*}numFmts/{*}numFmt")}
    zeros = {number: code for number, code in codes.items() if is_of_zeros(code)}
    styles = enumerate(root.iterfind("{*}cellXfs/{*}xf"))
    return {b"%d" % at: zeros[entry.get("numFmtId", "")] for at, entry in styles if entry.get("numFmtId") in zeros}


def is_of_zeros(code: str) -> bool:
    """Whether a number format shows some whole numbers by at least two zeros, with texts between them."""
    return any(section is not None and section.is_of_zeros for section in _sections(code))


def fill_zeros(code: str, digits: str) -> str | None:
    """A whole number in such a format; None if the format shows it in another way.

    >>> fill_zeros("[<=99999]00000;00000-0000", "4120005")
    '00412-0005'
    """
    section = _chosen(_sections(code), int(digits))
    if section is None or not section.is_of_zeros:
        return None
    left = list(digits.lstrip("0"))
    shown = list[str]()
    first = next(at for at, (kind, _) in enumerate(section.tokens) if kind == "digit")
    for at, (kind, text) in reversed(list(enumerate(section.tokens))):
        if kind == "text":
            shown.append(text)
            continue
        shown.append(left.pop() if left else {"0": "0", "?": " "}.get(text, ""))
        if at == first:
            shown += reversed(left)
    return "".join(reversed(shown)).strip()


def _chosen(sections: Sequence[Section | None], number: int) -> Section | None:
    """The section of a format that a whole number from 0 on is shown by."""
    if len(sections) > 2 and number == 0 and not any(section and section.condition for section in sections):
        return sections[2]
    for section in sections[:2]:
        if section is None or section.condition is None or _COMPARE[section.condition[0]](number, section.condition[1]):
            return section
    return sections[2] if len(sections) > 2 else sections[0]


@lru_cache
def _sections(code: str) -> Sequence[Section | None]:
    """The sections of a format; None for one that shows more than digits and texts."""
    found = list[Section | None]()
    at = 0
    while at <= len(code):
        text = _SECTION.match(code, at)
        assert text is not None, "it matches nothing, too"
        found.append(_section(text[0]))
        at = text.end() + 1
    return found


def _section(text: str) -> Section | None:
    condition = None
    tokens = list[tuple[str, str]]()
    at = 0
    while at < len(text):
        token = _TOKEN.match(text, at)
        if token is None:
            return None
        at = token.end()
        if token["condition"]:
            condition = token["condition"], float(token["limit"])
        elif token["digit"]:
            tokens.append(("digit", token["digit"]))
        elif token["wide"]:
            tokens.append(("text", " "))
        else:
            tokens.append(("text", token["currency"] or token["quoted"] or token["escaped"] or token["literal"] or ""))
    return Section(condition, tokens)


def with_zeros(
    shown: Mapping[tuple[int, int], str], numbers: Sequence[int], columns: Sequence[Sequence[object]], first: int
) -> Sequence[Sequence[object]]:
    """The columns of a page from the column `first` on, with numbers that are shown with leading zeros as texts."""
    there = {column for _, column in shown}
    return [
        [shown.get((number, at), cell) if cell != "" else "" for number, cell in zip(numbers, column, strict=True)]
        if at in there
        else column
        for at, column in enumerate(columns, first)
    ]
