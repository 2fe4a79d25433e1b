"""Where the rows of a sheet are in its XML (SpreadsheetML, ECMA-376 part 1, 18.3.1)."""

import re
from collections.abc import Iterator
from functools import cached_property, lru_cache

ATTRS = rb"""(?:[^>"']|"[^"]*"|'[^']*')*?"""
REFERENCE = re.compile(rb"""\s+r=["']([A-Z]+)""")
_SLASH = ord("/")
_UNSEEN = 1 << 20  # to the right of every column


class Unsafe(Exception):
    """A sheet can't be changed safely; why."""


class SheetText:
    """A sheet's XML, and where its rows are. Raises Unsafe."""

    def __init__(self, xml: bytes) -> None:
        self.xml = xml
        self.names = Names(xml)
        self.start, self.end = self.names.data(xml)
        self.rows = list(_found_rows(self.names, xml, self.start, self.end))

    @cached_property
    def formulas(self) -> list[int]:
        """Where the attributes of each formula begin."""
        start = b"<%sf" % self.names.prefix
        found = list[int]()
        at = self.start
        while (at := self.xml.find(start, at, self.end)) >= 0:
            at += len(start)
            if self.xml[at] in b" \t\r\n/>":
                found.append(at)
        return found


class Names:
    """The element names as this sheet's producer writes them: with a prefix or without."""

    def __init__(self, xml: bytes) -> None:
        if xml[:2] in (b"\xff\xfe", b"\xfe\xff") or re.match(
            rb"""<\?xml[^>]*encoding=["'](?!utf-?8)""", xml, re.IGNORECASE
        ):
            raise Unsafe("its XML is not UTF-8; save the workbook anew.")
        if b"<!--" in xml or b"<![CDATA[" in xml:
            raise Unsafe("its XML holds comments or CDATA; save the workbook anew.")
        root = re.search(rb"<((?:\w+:)?)worksheet\b", xml)
        if not root:
            raise Unsafe("its XML is not that of a worksheet.")
        p = self.prefix = root[1]
        self.row_starts = b"<%srow" % p
        self.row_ends = b"</%srow" % p
        self.cell_starts = b"<%sc" % p
        self.attributes = re.compile(rb"\b(%s)(/?)>" % ATTRS)
        self.plain_row = re.compile(  # as most are, up to its last cell
            rb"""<%srow r="(\d+)"((?: [\w:]+="[^"<>]*")*)>(?:.*<%sc(?: r="([A-Z]+))?)?""" % (p, p), re.DOTALL
        )
        self.cell = re.compile(rb"<%sc\b(%s)(?:/>|>(.*?)</%sc\s*>)" % (p, ATTRS, p), re.DOTALL)
        self.formula = re.compile(rb"<%sf\b" % p)
        self.content = re.compile(rb"<%s(?:v|t|f)\b" % p)

    def data(self, xml: bytes) -> tuple[int, int]:
        """Where the rows begin and end; an empty `<sheetData/>` has no row, hence no header."""
        p = self.prefix
        found = re.search(rb"<%ssheetData\b%s>(.*)</%ssheetData\s*>" % (p, ATTRS, p), xml, re.DOTALL)
        if not found:
            raise Unsafe("it has no rows.")
        return found.span(1)


# A row of the XML: its number; the column of its last cell (_UNSEEN where that is not seen at once, -1: there is none);
# the attributes that stand last in its tag, and where they end; where what is in the row begins and ends, and where the
# row does. A plain tuple, for there are as many as a sheet has rows.
SheetRow = tuple[int, int, bytes, int, int, int, int]
NO_ROW: SheetRow = (_UNSEEN << 20, -1, b"", 0, 0, 0, 0)  # behind every row


def _found_rows(names: Names, xml: bytes, at: int, end: int) -> Iterator[SheetRow]:
    number = 0
    closing = -1
    plain = names.plain_row.match
    while (start := xml.find(names.row_starts, at, end)) >= 0:
        if closing < start:
            closing = xml.find(names.row_ends, start, end)
            closing = end if closing < 0 else closing  # only rows without contents are left
        before = number
        ends = closing
        if found := plain(xml, start, closing):
            written, rest, reference = found.groups()
            number = int(written)
            tag = found.end(2)
            inner = tag + 1
            last = column_of(reference) if reference else _UNSEEN
        else:
            written, rest, tag, inner = _other_row(names, xml, start)
            number = int(written) if written else before + 1
            last = _UNSEEN
            if xml[inner - 2] == _SLASH:
                last = -1
                ends = inner
        if number <= before:
            raise Unsafe("the rows of its XML are not in their order; save the workbook anew.")
        if last >= 0 and ends == end:
            raise Unsafe("a row of its XML has no end; save the workbook anew.")
        at = inner if last < 0 else xml.index(b">", ends) + 1
        yield number, last, rest, tag, inner, ends, at


def _other_row(names: Names, xml: bytes, start: int) -> tuple[bytes | None, bytes, int, int]:
    """The number of a row whose tag is not as most are, if it tells; its attributes, where they and the tag end."""
    found = names.attributes.match(xml, start + len(names.row_starts))
    if not found:
        raise Unsafe("a row of its XML can't be read; save the workbook anew.")
    written = attribute(found[1], b"r")
    rest = found[1].rstrip()
    if written and not written.isdigit():
        raise Unsafe("a row of its XML has no number; save the workbook anew.")
    return written, rest, found.start(1) + len(rest), found.end()


@lru_cache
def _attribute_called(name: bytes) -> re.Pattern[bytes]:
    return re.compile(rb"""(?:^|\s)%s\s*=\s*(?:"([^"]*)"|'([^']*)')""" % name)


def attribute(attributes: bytes, name: bytes) -> bytes | None:
    """The value of the attribute of this name in a tag; None without one."""
    found = _attribute_called(name).search(attributes)
    return None if not found else found[1] if found[1] is not None else found[2]


@lru_cache(1_024)
def column_of(reference: bytes) -> int:
    """The column (from 0) of a reference to a cell, such as AA7."""
    number = 0
    for letter in reference:
        if not 65 <= letter <= 90:
            break
        number = number * 26 + letter - 64
    return number - 1
