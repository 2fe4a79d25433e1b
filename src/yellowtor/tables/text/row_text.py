"""Rows of delimited text as they are written: a cell that does not change keeps its bytes, its quotes among them."""

import re
from collections.abc import Iterator, Sequence
from itertools import chain, islice
from typing import NamedTuple

from yellowtor.tables.text.dialect import TextDialect


class RawRows(NamedTuple):
    """Some rows: their cells, the raw texts of the cells, and the line ends. A blank line has no cells."""

    cells: Sequence[Sequence[str]]
    raw: Sequence[Sequence[str]]
    ends: Sequence[str]


class RowText:
    """Reads rows of a dialect together with the text that they are made from."""

    def __init__(self, dialect: TextDialect) -> None:
        self._dialect = dialect
        quote = re.escape(dialect.quote)
        delimiter = re.escape(dialect.delimiter)
        # RFC 4180, section 2. What was matched is never given up again, so that time is linear in the text.
        self._field = re.compile(rf"{delimiter}({quote}(?:[^{quote}]|{quote}{quote})*+{quote}|[^{delimiter}]*+)")

    def batches(self, file: Iterator[str], count: int) -> Iterator[RawRows]:
        """The remaining rows of a file, in batches of about this count. Raises csv.Error."""
        while lines := list(islice(file, count)):
            yield self._rows(lines, file)

    def _rows(self, lines: list[str], file: Iterator[str]) -> RawRows:
        """The rows that begin in these lines; the last one may continue in the next lines."""
        if self._dialect.quote not in "".join(lines):
            cells = list(self._dialect.reader(lines))
            return RawRows(cells, cells, [_end(line) for line in lines])
        taken = list[str]()

        def noted() -> Iterator[str]:
            for line in chain(lines, file):
                taken.append(line)
                yield line

        cells = list[list[str]]()
        texts = list[str]()
        left = len(lines)
        reader = self._dialect.reader(noted())
        while left > 0 and (row := next(reader, None)) is not None:
            cells.append(row)
            texts.append(taken[0] if len(taken) == 1 else "".join(taken))
            left -= len(taken)
            taken.clear()
        ends = list(map(_end, texts))
        raw = [
            self.fields(t[: len(t) - len(end)]) if row else [] for row, t, end in zip(cells, texts, ends, strict=True)
        ]
        return RawRows(cells, raw, ends)

    def fields(self, text: str) -> Sequence[str]:
        """The cells of a row as they are written."""
        delimiter = self._dialect.delimiter
        return text.split(delimiter) if self._dialect.quote not in text else self._field.findall(delimiter + text)


def _end(line: str) -> str:
    return "\r\n" if line.endswith("\r\n") else line[-1:] if line.endswith(("\n", "\r")) else ""
