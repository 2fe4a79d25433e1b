"""Delimited text (RFC 4180 and its relatives), streamed both ways, plain or compressed (RFC 1952)."""

import csv
import gzip
import re
import shutil
import zlib
from collections.abc import Generator, Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from io import TextIOWrapper
from itertools import islice, repeat
from pathlib import Path
from typing import Any, BinaryIO, TextIO, cast

from yellowtor.ascii_fallback import NEAREST
from yellowtor.contracts.table import LEAVE, Answering, NewCells, OnWritten, Row
from yellowtor.errors import BadSource
from yellowtor.files import check_unwritten, written_aside
from yellowtor.tables.cells import ignore_written, safe_texts
from yellowtor.tables.file_table import FileOptions, FileTable, check_readable
from yellowtor.tables.header import checked_header
from yellowtor.tables.stated_dialect import StatedDialect
from yellowtor.tables.text.dialect import MARK, SAMPLE, find_dialect
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
        first = next(self._lines(), None)
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

    def batches(self) -> Iterator[Sequence[Row]]:
        """The rows below the header, 2,000 at a time, without blank lines."""
        lines = self._lines()
        next(lines, None)
        while batch := list(islice(lines, BATCH)):
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

    def _lines(self) -> Iterator[list[str]]:
        with self._reading() as (file, _):
            yield from self.dialect.reader(file)

    def _raw(self) -> Generator[Any, None, None]:
        """The lines before the header, the header, and pages of rows, as raw text."""
        with self._reading() as (lines, start):
            yield start
            rows = RowText(self.dialect)
            yield next(rows.batches(lines, 1))
            yield from rows.batches(lines, BATCH)

    @contextmanager
    def _reading(self) -> Iterator[tuple[TextIO, str]]:
        """The text from the header on, and the text before it. Raises BadSource."""
        try:
            with self._text() as file:
                lines = _Counted(file)
                start = "".join(islice(lines, self.dialect.skip))
                if not start.startswith(MARK):
                    first = next(lines, "")
                    start += MARK if first.startswith(MARK) else ""
                    lines.put_back(first.removeprefix(MARK))
                yield cast(TextIO, lines), start
        except UnicodeDecodeError as error:
            raise BadSource(
                f"{self.name} can't be read as {self.dialect.encoding} after line {lines.number} "
                f'({error.reason}). Set its encoding: [records.text] encoding = "…". Nothing was written.'
            ) from error
        except csv.Error as error:
            hint = "; a quote before it may have no end" if "field larger" in str(error) else ""
            raise BadSource(f"{self.name}, line {lines.number}: {error}{hint}. Nothing was written.") from error
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
        writing = _Writing(self, columns)
        with written_aside(to, self.backup, self.path) as aside:
            with (
                _open_to_write(aside, self.dialect.encoding, packed=_is_packed(to)) as file,
                closing(self._raw()) as pages,
            ):
                file.write(next(pages) + writing.header(next(pages)))
                for page in pages:
                    file.write(writing.rows(page, answering))
            if not writing.changed and _is_packed(to) and _is_packed(self.path):
                shutil.copyfile(self.path, aside)  # packed by others, and the same
            check_unwritten(self.path, before)
        on_written()


class _Counted:
    """Lines of a file with the number of the last one. A line that was taken can be put back."""

    def __init__(self, lines: Iterator[str]) -> None:
        self._lines = lines
        self._back = list[str]()
        self.number = 0

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


def with_gz(endings: Sequence[str]) -> list[str]:
    """These endings of names, plain and compressed."""
    return [*endings, *(f"{ending}.gz" for ending in endings)]


def _is_packed(path: Path) -> bool:
    return path.suffix.lower() == ".gz"


class _Writing:
    """Puts new cells into rows: as the table's dialect has them, beside cells as they are written."""

    def __init__(self, table: DelimitedTable, columns: Sequence[str]) -> None:
        self._table = table
        self._dialect = table.dialect
        self.changed = False
        self._added = [name for name in columns if name not in table.header]
        order = [*table.header, *self._added]
        self._places = [order.index(name) for name in columns]
        self._width = len(order)
        self._special = re.compile(f"[{re.escape(self._dialect.delimiter + self._dialect.quote)}\r\n]")
        whole = len(self._dialect.quoted) == len(table.header)
        self._quoted = self._dialect.quoted | (set(range(len(table.header), len(order))) if whole else set())

    def header(self, found: RawRows) -> str:
        """The header as it is, with the names of the columns that are new."""
        (cells,), (raw,), (end,) = found  # of a file that is not empty
        raw = [*raw, *[""] * (len(self._table.header) - len(cells))]
        names = self._texts(self._added, always=self._dialect.quoted_header)
        self.changed = bool(names)
        return self._dialect.delimiter.join([*raw, *names]) + end

    def rows(self, found: RawRows, answering: Answering) -> str:
        """Rows with their new cells; blank lines stay."""
        full = [n for n, row in enumerate(found.cells) if row]
        if not full:
            return "".join(found.ends)
        cells, raw = ([rows[n] for n in full] for rows in (found.cells, found.raw))
        width = len(self._table.header)
        short = [n for n, row in enumerate(cells) if len(row) != width]
        for n in short:
            cells[n] = self._table.whole(list(cells[n]))
        padded = [[*row, *[""] * (width - len(row))] for row in raw] if short else raw
        columns: list[Sequence[str]] = [*zip(*padded, strict=True), *repeat([""] * len(cells), len(self._added))]
        old = list(zip(*cells, strict=True))
        for place, new in zip(self._places, answering(cells), strict=True):
            cells_now = self._new(new, old[place] if place < width else None, columns[place], place)
            self.changed = self.changed or list(cells_now) != list(columns[place])
            columns[place] = cells_now
        texts = list(map(self._dialect.delimiter.join, zip(*columns, strict=True)))
        if not self._added:
            for n in short:
                texts[n] = self._trimmed([column[n] for column in columns], len(raw[n]))
        return self._with_ends(texts, full, found.ends)

    def _trimmed(self, fields: list[str], least: int) -> str:
        """A row that lacks its last cells, as long as nothing has come into them."""
        while len(fields) > least and not fields[-1]:
            fields.pop()
        return self._dialect.delimiter.join(fields)

    def _with_ends(self, texts: Sequence[str], full: Sequence[int], ends: Sequence[str]) -> str:
        if len(full) < len(ends):
            there = dict(zip(full, texts, strict=True))
            texts = [there.get(n, "") for n in range(len(ends))]
        if len(set(ends)) == 1:
            return ends[0].join(texts) + ends[0]
        return "".join([part for pair in zip(texts, ends, strict=True) for part in pair])

    def _new(self, new: NewCells, old: Sequence[str] | None, raw: Sequence[str], place: int) -> Sequence[str]:
        """What a column's cells are written as: what they are where their text stays. old: None for a new column."""
        texts = self._as_texts(new)
        written = self._texts(texts, always=place in self._quoted)
        if old is None:
            return written if LEAVE not in new else ["" if c is LEAVE else w for c, w in zip(new, written, strict=True)]
        rows = zip(new, texts, old, written, raw, strict=True)
        return [before if cell is LEAVE or text == was else now for cell, text, was, now, before in rows]

    def _as_texts(self, new: NewCells) -> Sequence[str]:
        """New cells as texts; one that a spreadsheet would take for a formula gets an apostrophe first."""
        texts = safe_texts(new)
        if (mark := self._dialect.decimal) == ".":
            return texts
        return [t if isinstance(cell, str) else t.replace(".", mark) for cell, t in zip(new, texts, strict=True)]

    def _texts(self, column: Sequence[str], *, always: bool) -> Sequence[str]:
        """Texts in quotes where they need them, or always."""
        if always:
            return [self._wrapped(t) if t or self._dialect.quoted_empty else t for t in column]
        if not self._special.search("".join(column)):
            return column
        return [self._wrapped(t) if self._special.search(t) else t for t in column]

    def _wrapped(self, text: str) -> str:
        quote = self._dialect.quote
        return quote + text.replace(quote, quote + quote) + quote


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
