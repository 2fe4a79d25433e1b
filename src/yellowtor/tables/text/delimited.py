"""Delimited text (RFC 4180 and its relatives), streamed both ways, plain or compressed (RFC 1952)."""

import csv
import gzip
import shutil
import zlib
from collections.abc import Generator, Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from io import TextIOWrapper
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO, cast

from yellowtor.ascii_fallback import NEAREST
from yellowtor.contracts.table import Answering, OnWritten, Row
from yellowtor.errors import BadSource
from yellowtor.files import check_unwritten, written_aside
from yellowtor.tables.cells import ignore_written
from yellowtor.tables.file_table import FileOptions, FileTable, check_readable
from yellowtor.tables.header import checked_header
from yellowtor.tables.stated_dialect import StatedDialect
from yellowtor.tables.text.cell_writer import CellWriter
from yellowtor.tables.text.columns import ColumnRows
from yellowtor.tables.text.dialect import MARK, SAMPLE, find_dialect
from yellowtor.tables.text.pages import CountedLines, TextPages
from yellowtor.tables.text.row_text import RawRows, RowText

BATCH = 2_000
PLAIN = (".csv", ".txt")
TABBED = (".tsv", ".tab", ".txt", ".csv")
BLANKS = f" \t\r\n\xa0{MARK}"  # that do not belong to a column's name; a mark may stand inside quotes


class DelimitedTable(FileTable):
    """A file of delimited text. Raises BadSource."""

    def __init__(
        self,
        path: Path,
        stated: StatedDialect = StatedDialect(),  # noqa: B008 - a frozen value
        backup: Path | None = None,
        name: str = "",
    ) -> None:
        super().__init__(path, backup, name)
        self._stated = stated
        self._open()

    def _open(self) -> None:
        """Find the dialect and the header."""
        try:
            with self._open_bytes() as file:
                sample = file.read(SAMPLE)
            self.dialect = find_dialect(sample, self._stated)
        except FileNotFoundError as error:
            raise BadSource(f"There is no file {self.name}. Nothing was sent.") from error
        except (OSError, EOFError, zlib.error) as error:
            raise BadSource(f"{self.name} can't be read: {error}. Nothing was sent.") from error
        first = self._first_row()
        if first is None:
            raise BadSource(f"{self.name} is empty. Nothing was sent.")
        self.header = checked_header([name.strip(BLANKS) for name in first], self.name)
        self.decimal = self.dialect.decimal
        self.endings = frozenset(with_gz(TABBED if self.dialect.delimiter == "\t" else PLAIN))
        said = self.dialect.said(sample) if self._stated == StatedDialect() else ""
        self.remarks = [f"{self.name} is read {said}"] if said else []

    def _open_bytes(self) -> BinaryIO:
        check_readable(self.path, self.name)
        return cast(BinaryIO, gzip.open(self.path)) if _is_packed(self.path) else self.path.open("rb")

    def _first_row(self) -> list[str] | None:
        with self._reading() as pages:
            for lines in pages.read(0):
                assert isinstance(lines, CountedLines), "the first page is one of lines"
                self._start(lines)
                return next(self.dialect.reader(lines), None)
        return None

    def _start(self, lines: CountedLines) -> str:
        """The text before the header: lines that are skipped, a byte order mark."""
        start = "".join(islice(lines, self.dialect.skip))
        if not start.startswith(MARK):
            first = next(lines, "")
            start += MARK if first.startswith(MARK) else ""
            lines.put_back(first.removeprefix(MARK))
        return start

    def batches(self) -> Iterator[Sequence[Row]]:
        """The rows below the header, some thousands at a time, without blank lines."""
        is_first = True
        with self._reading() as pages:
            for page in pages.read(len(self.header)):
                if isinstance(page, ColumnRows):
                    yield page
                    continue
                if is_first:
                    self._start(page)
                reader = self.dialect.reader(page)
                if is_first:
                    next(reader, None)
                is_first = False
                yield from self._batches_of(reader)

    def _batches_of(self, reader: Iterator[list[str]]) -> Iterator[Sequence[Row]]:
        while batch := list(islice(reader, BATCH)):
            if set(map(len, batch)) != {len(self.header)}:
                batch = [self.whole(row) for row in batch if row]
            if batch:
                yield batch

    def whole(self, row: list[str]) -> list[str]:
        """A row with the cells that it lacks at its end. Raises BadSource for one that has too many."""
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

    def _raw(self) -> Generator[Any, None, None]:
        """The text before the header, the header, and pages of rows, as raw text or by columns."""
        rows = RowText(self.dialect)
        is_first = True
        with self._reading() as pages:
            for page in pages.read(len(self.header)):
                if isinstance(page, ColumnRows):
                    yield page
                    continue
                if is_first:
                    yield self._start(page)
                    yield next(rows.batches(page, 1))
                is_first = False
                yield from rows.batches(page, BATCH)

    @contextmanager
    def _reading(self) -> Iterator[TextPages]:
        """The pages of the file. Raises BadSource."""
        pages: TextPages | None = None
        try:
            with self._open_bytes() as file:
                pages = TextPages(file, self.dialect)
                yield pages
        except UnicodeDecodeError as error:
            raise BadSource(
                f"{self.name} can't be read as {self.dialect.encoding} after line {pages.lines.number if pages else 0} "
                f'({error.reason}). Set its encoding: [records.text] encoding = "…". Nothing was written.'
            ) from error
        except csv.Error as error:
            hint = "; a quote before it may have no end" if "field larger" in str(error) else ""
            at = pages.lines.number if pages else 0
            raise BadSource(f"{self.name}, line {at}: {error}{hint}. Nothing was written.") from error
        except (OSError, EOFError, zlib.error) as error:
            raise BadSource(f"{self.name} can't be read: {error}. Nothing was written.") from error

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """As FileTable.rewrite(). Everything else keeps its bytes: header, quotes, spaces, line ends, unchanged cells.

        A character that the encoding lacks is written as the nearest ASCII.
        """
        to = to or self.path
        before = self.state
        writing = CellWriter(self.dialect, self.header, columns, self.whole)
        with written_aside(to, self.backup, self.path) as aside:
            with (
                _open_to_write(aside, self.dialect.encoding, packed=_is_packed(to)) as file,
                closing(self._raw()) as pages,
            ):
                file.write(next(pages) + writing.header(next(pages)))
                for page in pages:
                    write = writing.rows if isinstance(page, RawRows) else writing.columns
                    file.write(write(page, answering))
            if not writing.changed and _is_packed(to) and _is_packed(self.path):
                shutil.copyfile(self.path, aside)  # packed by others, and the same
            check_unwritten(self.path, before)
        on_written()


def with_gz(endings: Sequence[str]) -> list[str]:
    """These endings of names, plain and compressed."""
    return [*endings, *(f"{ending}.gz" for ending in endings)]


def _is_packed(path: Path) -> bool:
    return path.suffix.lower() == ".gz"


@contextmanager
def _open_to_write(aside: Path, encoding: str, *, packed: bool) -> Iterator[TextIOWrapper]:
    with ExitStack() as stack:
        file: Any = stack.enter_context(aside.open("wb"))
        if packed:
            file = stack.enter_context(gzip.GzipFile("", "wb", 6, file, mtime=0))
        yield stack.enter_context(TextIOWrapper(file, encoding=encoding, errors=NEAREST, newline=""))


def open_table(path: Path, options: FileOptions) -> DelimitedTable:
    """The table in a delimited file."""
    return DelimitedTable(path, options.dialect, options.backup)
