"""The pages of a delimited file: the beginning as lines, for Python's parser, the rest by columns where that is clear.

A file of one page never loads Arrow. Memory holds a page, whatever the size of the file.
"""

import codecs
from collections.abc import Callable, Iterator
from io import BufferedReader, RawIOBase, StringIO, TextIOWrapper
from typing import BinaryIO

from yellowtor.tables.text.columns import ColumnRows, Unclear, cut_page, parse_page, shown
from yellowtor.tables.text.dialect import TextDialect

PAGE = 1 << 19  # bytes
SMALL = 1 << 16  # bytes of a page that is not worth to load Arrow
MOST = 1 << 24  # bytes of a page whose record does not end: Python's parser says what is wrong


class CountedLines:
    """CountedLines of a text with the number of the last one in the file. A line that was taken can be put back."""

    def __init__(self, lines: Iterator[str], number: int = 0) -> None:
        self._lines = lines
        self._back = list[str]()
        self.number = number

    def put_back(self, line: str) -> None:
        if line:
            self._back.append(line)
            self.number -= 1

    def __iter__(self) -> Iterator[str]:
        return self

    def __next__(self) -> str:
        line = self._back.pop() if self._back else next(self._lines)
        self.number += 1
        return line


class TextPages:
    """The pages of a file, as lines or by columns. `lines` are those that are read, or were read last."""

    def __init__(self, file: BinaryIO, dialect: TextDialect) -> None:
        self._file = file
        self._dialect = dialect
        plain = codecs.lookup(dialect.encoding).name == "utf-8"
        self._decoder = None if plain else codecs.getincrementaldecoder(dialect.encoding)()
        self.lines = CountedLines(iter(()))

    def read(self, width: int) -> Iterator[CountedLines | ColumnRows]:
        """The pages; those by columns have records of this width. Lines have to be used up before the next page.

        Raises UnicodeDecodeError, OSError.
        """
        left = b""
        count = 0
        is_first = True
        while True:
            piece, is_last = self._read()
            data = left + piece
            if not data:
                return
            try:
                page, left = cut_page(data, self._dialect, last=is_last)
            except Unclear:
                yield self._rest(data, count)
                return
            if page and is_first and not is_last and page.data.count(b"\n") <= self._dialect.skip:
                page, left = None, data  # without a header
            if page is None:
                if len(left) > MOST or is_last:
                    yield self._rest(left, count)
                    return
                continue
            rows = None if is_first or len(page.data) < SMALL else parse_page(page, self._dialect, width)
            if rows is None or page.hides:
                raw = shown(page.data, self._dialect)
                more = raw.count(b"\n") + raw.count(b"\r") - raw.count(b"\r\n")
            else:
                more = len(rows)
            if rows is None:
                yield self._lines(StringIO(self._decoded(raw, count), newline=""), count)
            else:
                yield rows
            is_first = False
            count += more
            if is_last:  # the file may have grown since
                return

    def _lines(self, lines: Iterator[str], count: int) -> CountedLines:
        self.lines = CountedLines(lines, count)
        return self.lines

    def _rest(self, data: bytes, count: int) -> CountedLines:
        """A text and all that comes after it, as lines."""
        text = BufferedReader(_Joined(data, lambda: self._read()[0]), PAGE)
        return self._lines(TextIOWrapper(text, encoding="utf-8", newline=""), count)

    def _decoded(self, raw: bytes, count: int) -> str:
        try:
            return raw.decode()
        except UnicodeDecodeError as error:
            self._lines(iter(()), count + raw[: error.start].count(b"\n"))
            raise

    def _read(self) -> tuple[bytes, bool]:
        """The next piece of the file in UTF-8, and whether it is the last one."""
        data = self._file.read(PAGE)
        is_last = len(data) < PAGE
        return (self._decoder.decode(data, final=is_last).encode() if self._decoder else data), is_last


class _Joined(RawIOBase):
    """Bytes, and then those that a function gives until there are none."""

    def __init__(self, first: bytes, more: Callable[[], bytes]) -> None:
        self._data = first
        self._more = more

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: "memoryview | bytearray") -> int:  # type: ignore[override]
        self._data = self._data or self._more()
        count = min(len(buffer), len(self._data))
        buffer[:count] = self._data[:count]
        self._data = self._data[count:]
        return count
