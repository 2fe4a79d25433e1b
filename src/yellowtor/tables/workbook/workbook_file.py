"""Opening and reading a workbook with calamine, and saying clearly why one can't be opened or read."""

import re
import zipfile
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing, contextmanager
from itertools import islice
from pathlib import Path
from typing import Any, NamedTuple

import python_calamine as calamine

from yellowtor.errors import BadSource
from yellowtor.files import state_of
from yellowtor.tables.cells import as_text
from yellowtor.tables.file_table import check_readable
from yellowtor.tables.workbook.sheet_text import column_of
from yellowtor.tables.workbook.zip_package import check_package, readable, sheet_member

OOXML = {".xlsx", ".xlsm"}
MOST = 1 << 26  # cells from the first to the last of a sheet, of 32 bytes each while it is read
THIN = 16  # times as many cells as hold something: a large sheet that is full may be read
HEAD = 1 << 13  # bytes of a sheet's XML in which it says how large it is
_DIMENSION = re.compile(rb"""<(?:\w+:)?dimension\b[^>]*\bref=["'][A-Z]+\d+:([A-Z]+)(\d+)""")
_FILLED = re.compile(rb"""<(?:\w+:)?c\b[^>]*?\br=["']([A-Z]+)(\d+)["'](?:[^>]*[^>/])?>""")
OLE = bytes.fromhex("d0cf11e0a1b11ae1")  # the compound file that wraps an encrypted workbook


def lock_beside(path: Path) -> Path | None:
    """The lock file that an office program keeps beside an open workbook."""
    beside = (path.with_name(f"~${path.name}"), path.with_name(f".~lock.{path.name}#"))
    return next((p for p in beside if p.exists()), None)


def check_file(path: Path) -> None:
    """Raise BadSource if the file is missing, or can't be a workbook."""
    try:
        check_readable(path, str(path))
        with path.open("rb") as file:
            start = file.read(8)
    except FileNotFoundError as error:
        raise BadSource(f"There is no file {path}. Nothing was sent.") from error
    except OSError as error:
        raise BadSource(f"{path} can't be read: {error.strerror}. It may be locked. Nothing was sent.") from error
    if not start:
        raise BadSource(f"{path} is an empty file, no workbook. Nothing was sent.")
    if start == OLE and path.suffix.lower() in {".xlsx", ".xlsm"}:
        raise BadSource(f"{path} is protected by a password. Save a copy without one. Nothing was sent.")


class OpenWorkbook:
    """A workbook, read in a thread: calamine releases the interpreter lock. One sheet at a time.

    begin is the sheet that is read at once (empty: the first). Errors are raised as BadSource when a result is
    requested.
    """

    def __init__(self, path: Path, begin: str | None = None) -> None:
        self.path = path
        self.state = state_of(path)
        self._book: calamine.CalamineWorkbook | None = None
        self._aside = ThreadPoolExecutor(1, thread_name_prefix="workbook")
        self._names = self._aside.submit(self._open)
        self._sheets: dict[str, Future[calamine.CalamineSheet]] = {}
        if begin is not None:
            self.begin(begin)

    @property
    def names(self) -> Sequence[str]:
        """The names of its sheets."""
        return self._names.result()

    def begin(self, sheet: str) -> None:
        """Begin to read a sheet, if that has not been done yet."""
        if sheet not in self._sheets and not ("" in self._sheets and sheet == self.names[0]):
            self._sheets[sheet] = self._aside.submit(self._read, sheet)

    def sheet(self, name: str) -> calamine.CalamineSheet:
        """A sheet, whole; it is not held for longer."""
        self.begin(name)
        return self._sheets.pop(name if name in self._sheets else "").result()

    def _open(self) -> Sequence[str]:
        with _readable(self.path):
            self._book = calamine.CalamineWorkbook.from_path(self.path)
            return self._book.sheet_names

    def _read(self, name: str) -> calamine.CalamineSheet:
        assert self._book is not None, "the caller has read its names"
        sheet = name or self.names[0]
        if self.path.suffix.lower() in OOXML:
            _check_extent(self.path, sheet)
        with _readable(self.path):
            return self._book.get_sheet_by_name(sheet)

    def close(self) -> None:
        """Close the file, even if a read is pending."""
        self._aside.shutdown(cancel_futures=True)
        if self._book is not None:
            self._book.close()


_ahead: list[OpenWorkbook] = []  # begun before anybody asked for it: one at most


def keep_ahead(book: OpenWorkbook) -> None:
    """Store this workbook for the next opened()."""
    _ahead[:] = [book]


@contextmanager
def opened(path: Path) -> Iterator[OpenWorkbook]:
    """The workbook: read ahead, if the file is unchanged; else opened now."""
    book = _ahead.pop() if _ahead else None
    if book is None or (book.path, book.state) != (path, state_of(path)):
        book = OpenWorkbook(path)
    with closing(book):
        yield book


def rows_of(page: calamine.CalamineSheet, where: str) -> Iterator[list[Any]]:
    """The rows of a sheet, from its first; each from the first column that holds something.

    Raises BadSource for a cell that calamine can't tell: a date that no calendar has.
    """
    number = 0
    try:
        for number, row in enumerate(page.iter_rows(), 1):  # noqa: B007 - the message gives the row
            yield row
    except BaseException as error:
        if type(error).__name__ != "PanicException" and not isinstance(error, OverflowError):
            raise
        raise BadSource(
            f"{where}: a cell in row {number + 1} can't be read ({error}). It may be a number too large for the date "
            "that its format makes of it. Correct it. Nothing was written."
        ) from error


class Beginning(NamedTuple):
    """The first rows of a sheet, from the first row and column (from 0) that hold something."""

    sheet: str
    top: int
    left: int
    rows: Sequence[Sequence[str]]


def beginnings(path: Path, count: int) -> list[Beginning]:
    """The first rows of each sheet, up to this count. Raises BadSource."""
    check_file(path)
    found = list[Beginning]()
    with opened(path) as book, readable(path):
        for name in book.names:
            page = book.sheet(name)
            top, left = page.start or (0, 0)
            rows = (
                [list(map(as_text, row)) for row in islice(rows_of(page, f"{path}, sheet {name!r}"), top, top + count)]
                if page.start
                else []
            )
            found.append(Beginning(name, top, left, rows))
    return found


def _check_extent(path: Path, sheet: str) -> None:
    """Raise BadSource if a cell is so far from the others that the range does not fit into memory.

    The stated range may include empty cells; the cells are only checked if it is too large.
    """
    with readable(path), zipfile.ZipFile(path) as package:
        member = sheet_member(package, sheet)
        with package.open(member) as part:
            dimension = _DIMENSION.search(part.read(HEAD))
        if not dimension or _area(dimension[1], dimension[2]) <= MOST:
            return
        xml = package.read(member)
    right = (b"A", b"1")
    low = (b"A", b"1")
    filled = 0
    for found in _FILLED.finditer(xml):
        cell = (found[1], found[2])
        filled = filled + 1
        right = max(right, cell, key=lambda it: column_of(it[0]))
        low = max(low, cell, key=lambda it: int(it[1]))
    if _area(right[0], low[1]) > max(MOST, THIN * filled):
        first, second = (b"".join(cell).decode() for cell in (right, low))
        raise BadSource(
            f"{path}: the cells of the sheet {sheet!r} reach to {first} and to {second}, which is too far to read. "
            "Empty those that are not records. Nothing was sent."
        )


def _area(column: bytes, row: bytes) -> int:
    return (column_of(column) + 1) * int(row)


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    """Turn calamine's errors into BadSource."""
    try:
        yield
    except calamine.PasswordError as error:
        raise BadSource(f"{path} is protected by a password. Save a copy without one. Nothing was sent.") from error
    except (calamine.CalamineError, OSError) as error:
        check_package(path)
        raise BadSource(f"{path} is not a workbook that can be read, or damaged: {error}. Nothing was sent.") from error
