"""Delimited text by columns: a page of whole records is parsed as it is written, by Arrow, without making rows.

Separators inside quotes are replaced by control characters first, so that raw cells keep their quotes, and the same
bytes are written again. What does not look like RFC 4180 is left to the parser of Python.
"""

from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

from yellowtor.tables.cells import Texts
from yellowtor.tables.text.dialect import TextDialect

if TYPE_CHECKING:
    import pyarrow as pa

HIDDEN = b"\x1c\x1d\x1e"  # stand inside quotes for the delimiter, LF and CR
BOM = b"\xef\xbb\xbf"


class Unclear(Exception):
    """Raised where the quotes of a text are not as RFC 4180 has them, so that records can't be told apart."""


class TextPage(NamedTuple):
    """Whole records of delimited text in UTF-8; hides: their separators inside quotes are hidden."""

    data: bytes
    hides: bool = False


class ColumnRows(Texts):
    """The records of a page: arrays are the cells as they are written, column by column, line_end ends each record.

    A column becomes texts when it is used, rows are made only if they are.
    """

    def __init__(self, page: TextPage, dialect: TextDialect, arrays: Sequence["pa.StringArray"], line_end: str) -> None:
        super().__init__(arrays)
        self.page = page
        self.line_end = line_end
        self._dialect = dialect
        self._arrays = arrays

    @cached_property
    def text(self) -> str:
        """The page as it is written."""
        return shown(self.page.data, self._dialect).decode() if self.page.hides else self.page.data.decode()

    def pieces(self, first: int, behind: int) -> tuple[list[list[str]], int]:
        """The records as they are written, in pieces: each column from `first` to the one before `behind`, the others
        together where that is quicker; and the index of the piece with the column `first`.
        """
        width = len(self._arrays)
        mark = self._dialect.delimiter
        lines = self.page.data.decode().removesuffix(self.line_end).split(self.line_end)
        if first >= behind:
            return [self._shown(lines)], 1
        if width - first <= behind:
            parts = zip(*[line.rsplit(mark, width - first) for line in lines], strict=True)
            return list(map(self._shown, parts)), int(first > 0)
        parts = zip(*[line.split(mark, behind) for line in lines], strict=True)
        return list(map(self._shown, parts)), first

    def _shown(self, texts: Sequence[str]) -> list[str]:
        if not self.page.hides:
            return list(texts)
        return shown("\0".join(texts).encode(), self._dialect).decode().split("\0")  # no cell has U+0000

    def unquoted(self, raw: Sequence[str]) -> Sequence[str]:
        """What raw cells say."""
        quote = self._dialect.quote
        if quote not in "".join(raw):
            return raw
        return [text[1:-1].replace(quote * 2, quote) if text.startswith(quote) else text for text in raw]

    def column(self, at: int) -> Sequence[str]:
        if at not in self._made:
            self._made[at] = self.unquoted(self._shown(self._arrays[at].to_pylist()))
        return self._made[at]


def cut_page(data: bytes, dialect: TextDialect, *, last: bool) -> tuple[TextPage | None, bytes]:
    """The whole records at the beginning of a text (None: not one), and what is left.

    Raises Unclear if a quote is neither around a cell nor doubled inside one, or if the text is not to be parsed here.
    """
    quote = dialect.quote.encode()
    if len(quote) != 1 or len(dialect.delimiter.encode()) != 1:
        raise Unclear
    if quote not in data:
        end = len(data) if last else data.rfind(b"\n") + 1
        return (TextPage(data[:end]) if end else None), data[end:]
    import numpy as np

    text = np.frombuffer(data, np.uint8)
    is_quote = text == quote[0]
    inside = np.cumsum(is_quote, dtype=np.int32) % 2 == 1  # from an opening quote to the byte before the closing one
    ends = np.flatnonzero((text == ord("\n")) & ~inside)
    if last and inside[-1]:
        raise Unclear
    end = len(data) if last else int(ends[-1]) + 1 if len(ends) else 0
    if not end:
        return None, data
    text, is_quote, inside = text[:end], is_quote[:end], inside[:end]
    _check_quotes(text, is_quote, inside, dialect)
    hidden = text.copy()
    for code, mark in zip(HIDDEN, dialect.delimiter.encode() + b"\n\r", strict=True):
        if code in data[:end]:
            raise Unclear
        hidden[(text == mark) & inside] = code
    return TextPage(hidden.tobytes(), hides=True), data[end:]


def _check_quotes(text: Any, is_quote: Any, inside: Any, dialect: TextDialect) -> None:
    """Raise Unclear unless each quote opens a cell, ends it, or is one of a pair."""
    import numpy as np

    beside = np.isin(text, np.frombuffer((dialect.delimiter + dialect.quote + "\r\n").encode(), np.uint8))
    opening = np.flatnonzero(is_quote & inside)
    closing = np.flatnonzero(is_quote & ~inside)
    before = opening[opening > 0] - 1
    behind = closing[closing < len(text) - 1] + 1
    if not (beside[before].all() and beside[behind].all()):
        raise Unclear


def parse_page(page: TextPage, dialect: TextDialect, width: int) -> ColumnRows | None:
    """The records of a page by columns; None if they are not all of this width, or a line does not end like the others.

    Text that is not UTF-8 is None too.
    """
    data = page.data
    if width < 2 or b"\0" in data or data.startswith(BOM):
        return None
    line_end = b"\r\n" if b"\r" in data else b"\n"
    if b"\r" in data and not data.count(b"\r") == data.count(b"\r\n") == data.count(b"\n"):
        return None
    if line_end * 2 in data or data.startswith(line_end):  # a blank line is no record, and Arrow would make one of it
        return None
    import pyarrow as pa
    from pyarrow import csv

    names = [str(at) for at in range(width)]
    try:
        table = csv.read_csv(
            pa.BufferReader(data),
            csv.ReadOptions(column_names=names, use_threads=False, block_size=len(data) + 1),
            csv.ParseOptions(
                delimiter=dialect.delimiter,
                quote_char=False,
                double_quote=False,
                escape_char=False,
                newlines_in_values=False,
                ignore_empty_lines=False,
            ),
            csv.ConvertOptions(column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=False),
            pa.system_memory_pool(),  # the default one keeps 20 MB
        )
    except pa.ArrowInvalid:
        return None
    return ColumnRows(page, dialect, [column.combine_chunks() for column in table.columns], line_end.decode())


def shown(data: bytes, dialect: TextDialect) -> bytes:
    """Text with the separators that were hidden."""
    return data.translate(bytes.maketrans(HIDDEN, dialect.delimiter.encode() + b"\n\r"))
