"""Delimited text (RFC 4180 and its relatives), streamed both ways, plain or compressed (RFC 1952)."""

import csv
import gzip
import re
import zlib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from io import TextIOWrapper
from itertools import islice, repeat
from pathlib import Path
from typing import Any, BinaryIO, cast

from yellowtor.answers.work import Kept
from yellowtor.errors import BadSource
from yellowtor.files import written_aside
from yellowtor.tables.cells import LEAVE, Answering, NewCells, Row, safe_texts, unheard
from yellowtor.tables.dialect import NEAREST, SAMPLE, Told, find_dialect
from yellowtor.tables.file import FileTable
from yellowtor.tables.header import checked_header

BATCH = 2_000


class DelimitedTable(FileTable):
    """A file of delimited text. Raises BadSource for whatever is wrong with it."""

    def __init__(
        self, path: Path, told: Told = Told(), backup: Path | None = None, name: str = "",  # noqa: B008 - frozen
    ) -> None:  # fmt: skip
        super().__init__(path, backup, name)
        try:
            with self._open_bytes() as file:
                sample = file.read(SAMPLE)
            self.dialect = find_dialect(sample, told)
        except FileNotFoundError as error:
            raise BadSource(f"There is no file {self.name}. Nothing was sent.") from error
        except (OSError, EOFError, zlib.error) as error:
            raise BadSource(f"{self.name} can't be read: {error}. Nothing was sent.") from error
        first = next(self._lines(), None)
        if first is None:
            raise BadSource(f"{self.name} is empty. Nothing was sent.")
        self.header = checked_header([name.strip() for name in first], self.name)
        self.decimal = self.dialect.decimal
        self.remarks = (
            [f"{name or path.name} is read {said}"] if told == Told() and (said := self.dialect.said(sample)) else []
        )

    def _open_bytes(self) -> BinaryIO:
        return cast(BinaryIO, gzip.open(self.path)) if _is_packed(self.path) else self.path.open("rb")

    def batches(self) -> Iterator[Sequence[Row]]:
        """The rows below the header, 2,000 at a time; blank lines are passed over."""
        lines = self._lines()
        next(lines, None)
        while batch := list(islice(lines, BATCH)):
            if set(map(len, batch)) != {len(self.header)}:
                batch = [self._whole(row) for row in batch if row]
            if batch:
                yield batch

    def _whole(self, row: list[str]) -> list[str]:
        if len(row) > len(self.header):
            raise BadSource(
                f"{self.name}, line {self._line_of(row)}: {len(row)} fields under a header of {len(self.header)}, "
                f"beginning with {row[0]!r}. Quote fields that hold {self.dialect.delimiter!r}. Nothing was written."
            )
        return row + [""] * (len(self.header) - len(row))

    def _line_of(self, row: list[str]) -> int:
        """The line (from 1) on which this row ends."""
        with self._text() as file:
            reader = self.dialect.reader(file)
            return next(int(reader.line_num) for found in reader if found == row)

    def _text(self) -> TextIOWrapper:
        return TextIOWrapper(self._open_bytes(), encoding=self.dialect.encoding, newline="")

    def _lines(self) -> Iterator[list[str]]:
        try:
            with self._text() as file:
                reader = self.dialect.reader(file)
                yield from reader
        except UnicodeDecodeError as error:
            raise BadSource(
                f"{self.name} can't be read as {self.dialect.encoding} after line {reader.line_num} "
                f'({error.reason}). Say its encoding: [records.text] encoding = "…". Nothing was written.'
            ) from error
        except csv.Error as error:
            raise BadSource(f"{self.name}, line {reader.line_num}: {error}. Nothing was written.") from error
        except (OSError, EOFError, zlib.error) as error:
            raise BadSource(f"{self.name} can't be read: {error}. Nothing was written.") from error

    def rewrite(self, to: Path | None, columns: Sequence[str], answering: Answering, kept: Kept = unheard) -> None:
        """Write a copy to `to` (or over itself) in which these columns hold what answering gives; then call kept.

        Encoding, byte order mark, delimiter, line ends and quoting stay what they are; a letter that the
        encoding has not is written as the nearest that it has.
        """
        order = list(dict.fromkeys([*self.header, *columns]))
        places = [order.index(name) for name in columns]
        to = to or self.path
        writing = _Writing(self, len(order))
        with (
            written_aside(to, self.backup) as aside,
            _open_to_write(aside, self.dialect.encoding, packed=_is_packed(to)) as file,
        ):
            file.write(writing.header(order))
            for batch in self.batches():
                cells: list[NewCells] = [
                    *zip(*batch, strict=True),
                    *repeat([""] * len(batch), len(order) - len(self.header)),
                ]
                for place, new in zip(places, answering(batch), strict=True):
                    cells[place] = writing.new(cells[place], new)
                file.write(writing.rows(cells))
        kept()


def _is_packed(path: Path) -> bool:
    return path.suffix.lower() == ".gz"


class _Writing:
    """Puts rows together as the table's dialect has them."""

    def __init__(self, table: DelimitedTable, width: int) -> None:
        self._dialect = dialect = table.dialect
        self._special = re.compile(f"[{re.escape(dialect.delimiter + dialect.quote)}\r\n]")
        whole = len(dialect.quoted) == len(table.header)
        self._quoted = dialect.quoted | (set(range(len(table.header), width)) if whole else set())
        self._alone = width == 1

    def header(self, names: Sequence[str]) -> str:
        always = self._dialect.quoted_header
        return self._join([self._texts([name], always=always) for name in names])

    def rows(self, cells: Sequence[NewCells]) -> str:
        return self._join([self._texts(column, always=at in self._quoted) for at, column in enumerate(cells)])

    def new(self, old: NewCells, new: NewCells) -> NewCells:
        """A column's new cells as text; one that a spreadsheet would take for a formula gets an apostrophe first."""
        texts = safe_texts(new)
        if (mark := self._dialect.decimal) != ".":
            numbers = zip(new, texts, strict=True)
            texts = [text if isinstance(cell, str) else text.replace(".", mark) for cell, text in numbers]
        return (
            [b if cell is LEAVE else t for b, cell, t in zip(old, new, texts, strict=True)] if LEAVE in new else texts
        )

    def _texts(self, column: Iterable[object], *, always: bool) -> Sequence[str]:
        texts: Sequence[str] = column  # type: ignore[assignment]
        if always:
            return [self._wrapped(t) if t or self._dialect.quoted_empty else t for t in texts]
        if self._alone:
            return [self._wrapped(t) if not t or self._special.search(t) else t for t in texts]
        if not self._special.search("".join(texts)):
            return texts
        return [self._wrapped(t) if self._special.search(t) else t for t in texts]

    def _wrapped(self, text: str) -> str:
        quote = self._dialect.quote
        return quote + text.replace(quote, quote + quote) + quote

    def _join(self, columns: Sequence[Sequence[str]]) -> str:
        end = self._dialect.line_end
        return end.join(map(self._dialect.delimiter.join, zip(*columns, strict=True))) + end


@contextmanager
def _open_to_write(aside: Path, encoding: str, *, packed: bool) -> Iterator[TextIOWrapper]:
    with ExitStack() as stack:
        file: Any = stack.enter_context(aside.open("wb"))
        if packed:
            file = stack.enter_context(gzip.GzipFile("", "wb", 6, file, mtime=0))
        yield stack.enter_context(TextIOWrapper(file, encoding=encoding, errors=NEAREST, newline=""))
