"""The dialect of a delimited file (RFC 4180 and similar): detected from its beginning, or stated by the job."""

import codecs
import csv
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from io import StringIO
from itertools import islice

from yellowtor.tables.stated_dialect import StatedDialect

SAMPLE = 1 << 20  # bytes from the beginning that are examined
ROWS = 200  # and rows
DELIMITERS = ",;\t|"
MARKS = (  # byte order marks (Unicode 15, section 23.8); the longer ones first
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
MARK = "\ufeff"  # what a byte order mark is read as: it stays part of the text
OF_ORDER = {"utf-8-sig": "utf-8", "utf-16": "utf-16-le", "utf-32": "utf-32-le"}  # encodings that would take it away
LONGEST = 1 << 28  # characters of a cell: a quote that is never closed must not take in a file of any size
_SEPARATOR = re.compile(
    r"sep=(.)(?:\r\n|\n|\r|\Z)", re.IGNORECASE
)  # a first line that tells spreadsheets the delimiter
CODE_PAGES = ("cp1252", "cp1250", "cp1251")


@dataclass(frozen=True, slots=True)
class TextDialect:
    """The dialect of a file. `quoted` are the columns (from 0) whose cells are all quoted.

    skip is the number of lines before the header. The first line may begin with a byte order mark.
    """

    encoding: str
    delimiter: str
    quote: str
    decimal: str
    line_end: str
    quoted: frozenset[int] = frozenset()
    quoted_header: bool = False
    quoted_empty: bool = False
    skip: int = 0

    def reader(self, lines: Iterator[str] | Sequence[str]) -> "csv._reader":  # type: ignore[name-defined]
        csv.field_size_limit(LONGEST)
        return csv.reader(lines, delimiter=self.delimiter, quotechar=self.quote, strict=True)

    def said(self, sample: bytes) -> str:
        """What is peculiar about it, for a person; empty for UTF-8 with commas and decimal points.

        A code page can only be guessed, so there is a word of the sample to see whether it is right.
        """
        said = [] if self.encoding == "utf-8" else [f"as {self.encoding}"]
        words = re.finditer(r"\w+", sample.decode(self.encoding, errors="replace"))
        word = next((found[0] for found in words if not found[0].isascii()), "")
        if word and self.encoding in CODE_PAGES:
            said[0] += f" (such as {word[:40]!r}; if that looks wrong, set the encoding under [records.text])"
        names = {"\t": "tabs", ";": "semicolons", "|": "bars"}
        if self.delimiter != ",":
            said.append(f"with fields parted by {names.get(self.delimiter, repr(self.delimiter))}")
        if self.quote != '"':
            said.append(f"quoted by {self.quote}")
        return ", ".join([*said, *(["with decimal commas"] if self.decimal == "," else [])])


def find_dialect(sample: bytes, stated: StatedDialect) -> TextDialect:
    """The dialect of a file that begins so."""
    encoding = _with_order(stated.encoding, sample) if stated.encoding else _encoding(sample)
    text = codecs.getincrementaldecoder(encoding)(errors="replace").decode(sample, final=len(sample) < SAMPLE)
    text = text.removeprefix(MARK)
    separator = _SEPARATOR.match(text)
    text = text[separator.end() :] if separator else text
    line_end = (re.findall(r"\r\n|\n|\r", text[: 1 << 16]) or ["\n"])[0]
    if len(sample) == SAMPLE:
        text = text[: text.rfind(line_end) + 1] or text  # the last line may be cut
    lines = list(StringIO(text, newline=""))
    quote = stated.quote or ("'" if re.match(r"'[^'\r\n]*'[,;\t|]", text) else '"')
    delimiter = stated.delimiter or (separator[1] if separator else _delimiter(lines, quote))
    decimal = stated.decimal or _decimal(_rows(lines, delimiter, quote))
    quoting = _quoting(text, delimiter, quote)
    return TextDialect(encoding, delimiter, quote, decimal, line_end, *quoting, skip=int(bool(separator)))


def _delimiter(lines: Sequence[str], quote: str) -> str:
    return max(DELIMITERS, key=lambda d: _evenness(lines, d, quote))


def _with_order(encoding: str, sample: bytes) -> str:
    """The encoding that a job names, with the order of its bytes: where a byte order mark tells, that one."""
    name = codecs.lookup(encoding).name
    if name not in OF_ORDER:
        return encoding
    marked = next((found for mark, found in MARKS if sample.startswith(mark)), "")
    return marked if marked.startswith(name[:6]) else OF_ORDER[name]


def _encoding(sample: bytes) -> str:
    for mark, name in MARKS:
        if sample.startswith(mark):
            return name
    for first, name in ((0, "utf-16-be"), (1, "utf-16-le")):  # Latin letters have a byte of zeros each
        if sample[first::2].count(0) > len(sample) / 4 and not sample[1 - first :: 2].count(0):
            return name
    try:
        codecs.getincrementaldecoder("utf-8")().decode(sample)
    except UnicodeDecodeError:
        return max(CODE_PAGES, key=lambda page: _likeness(sample, page))
    return "utf-8"


def _likeness(sample: bytes, page: str) -> float:
    """How much the bytes look like words in this code page: the share of letters next to letters of their kind.

    Of two equal ones the first is taken, with a remark (only a person can distinguish Ø from Ř).
    """
    text = sample.decode(page, errors="replace")
    if "\ufffd" in text:
        return -math.inf  # it has bytes that the page has not
    fitting = 0
    for word in re.findall(r"[^\W\d_]+", text):
        cyrillic = sum("\u0400" <= c <= "\u04ff" for c in word)
        strange = sum(ord(c) > 127 for c in word)
        if 0 < cyrillic < len(word):
            fitting -= 10 * strange  # no word is half of each
        elif cyrillic or strange < len(word) or len(word) < 3:  # no Latin word is accents alone
            fitting += strange
    return fitting / sum(ord(c) > 127 for c in text)


def _rows(lines: Sequence[str], delimiter: str, quote: str) -> list[list[str]]:
    try:
        return [row for row in islice(csv.reader(lines, delimiter=delimiter, quotechar=quote), ROWS) if row]
    except csv.Error:
        return []


def _evenness(lines: Sequence[str], delimiter: str, quote: str) -> tuple[float, int]:
    """How much a delimiter makes a table: the share of rows as wide as the first, and how wide that is."""
    rows = _rows(lines, delimiter, quote)
    width = len(rows[0]) if rows else 0
    return (sum(len(row) == width for row in rows) / len(rows), width) if width > 1 else (0.0, 0)


def _decimal(rows: Sequence[Sequence[str]]) -> str:
    cells = [cell.strip() for row in rows for cell in row]  # 1,150 may be a thousand and more: it tells nothing
    commas = sum(bool(re.fullmatch(r"-?\d+,(?!\d{3}$)\d+", cell)) for cell in cells)
    points = sum(bool(re.fullmatch(r"-?\d+\.\d+", cell)) for cell in cells)
    return "," if commas > points else "."


def _quoting(text: str, delimiter: str, quote: str) -> tuple[frozenset[int], bool, bool]:
    """The columns that are always quoted; whether the header is; whether empty cells are."""
    q = re.escape(quote)
    d = re.escape(delimiter)
    field = re.compile(rf"({q}(?:[^{q}]|{q}{q})*+{q}|[^{d}\r\n]*+)({d}|\r\n|\n|\r|\Z)")
    rows: list[list[str]] = [[]]
    for found in islice(field.finditer(text), 100_000):
        rows[-1].append(found[1])
        if found[2] != delimiter:
            if len(rows) > ROWS or found.end() == len(text):
                break
            rows.append([])
    header = rows[0]
    body = [row for row in rows[1:] if len(row) == len(rows[0])]
    quoted = {
        at
        for at in range(len(header))
        if (cells := [row[at] for row in body if row[at]]) and all(cell.startswith(quote) for cell in cells)
    }
    empty = quote * 2
    whole = bool(header) and all(name.startswith(quote) for name in header)
    return frozenset(quoted), whole, any(cell == empty for row in body for cell in row)
