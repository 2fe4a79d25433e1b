"""Reading a sheet of a workbook, and saying clearly why one can't be read.

Read with calamine, which gives text cells as they are (00412 stays 00412) and cached results of formulas.
"""

import zipfile
from collections.abc import Callable, Iterator, Sequence
from itertools import islice
from pathlib import Path

import python_calamine as calamine

from yellowtor.errors import BadSource
from yellowtor.files import fingerprint
from yellowtor.tables.cells import Answering, Row, as_text
from yellowtor.tables.header import checked_header
from yellowtor.tables.splice import Edit, Splice, splice_workbook

BATCH = 5_000
OLE = bytes.fromhex("d0cf11e0a1b11ae1")  # the compound file that wraps an encrypted workbook


class WorkbookTable:
    """One sheet with a header in its first row. Raises BadSource for whatever is wrong with it."""

    decimal = "."  # of numbers that are kept as text
    remarks: Sequence[str] = ()
    keys: Sequence[str] = ()
    into = ""

    def __init__(self, path: Path, sheet: str | None, backup: Path | None = None) -> None:
        self.path, self.name, self.backup = path, str(path), backup
        _check_file(path)
        with _open(path) as book:
            names = book.sheet_names
            self.sheet = sheet or names[0]
            if self.sheet not in names:
                raise BadSource(
                    f"{path} has no sheet {self.sheet!r} (there are: {', '.join(names)}). Nothing was sent."
                )
            page = book.get_sheet_by_name(self.sheet)
            self.header = self._header(page)

    def _header(self, page: calamine.CalamineSheet) -> list[str]:
        if page.start is None:
            raise BadSource(f"The sheet {self.sheet!r} of {self.path} is empty. Nothing was sent.")
        top, left = page.start
        self._first_column = left
        self._first_row = top
        for (row, column), _ in page.merged_cell_ranges or []:
            if row == top:
                raise BadSource(
                    f"The header of the sheet {self.sheet!r} of {self.path} has merged cells (at column "
                    f"{column + 1}). Unmerge them, so that each column has a name of its own. Nothing was sent."
                )
        names = next(islice(page.iter_rows(), top, None))  # rows count from the sheet's first, cells from `left`
        return checked_header([as_text(cell).strip() for cell in names], f"The sheet {self.sheet!r} of {self.path}")

    def batches(self) -> Iterator[list[Row]]:
        """The rows below the header, as texts, 5,000 at a time; all blank ones are passed over."""
        for batch in self._numbered():
            yield [row for _, row in batch]

    def _numbered(self) -> Iterator[list[tuple[int, Row]]]:
        """Batches of (row number in the sheet, from 1; cells)."""
        with _open(self.path) as book:
            below = islice(book.get_sheet_by_name(self.sheet).iter_rows(), self._first_row + 1, None)
            batch: list[tuple[int, Row]] = []
            for number, cells in enumerate(below, self._first_row + 2):
                texts = [as_text(cell) for cell in cells]
                if any(texts):
                    batch.append((number, texts))
                if len(batch) == BATCH:
                    yield batch
                    batch = []
            if batch:
                yield batch

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, kept: Callable[[], None] = lambda: None
    ) -> None:
        """Write a copy to `to` (or over itself) in which these columns hold what answering gives; then call kept."""
        if self.path.suffix.lower() not in {".xlsx", ".xlsm"}:
            raise BadSource(f"{self.path} can be read but not written back: save it as .xlsx first.")
        added = [name for name in columns if name not in self.header]
        order = [*self.header, *added]
        places = [self._first_column + order.index(name) for name in columns]
        edits: list[Edit] = []
        for batch in self._numbered():
            new_cells = zip(*answering([row for _, row in batch]), strict=True)
            edits += [Edit(number, cells) for (number, _), cells in zip(batch, new_cells, strict=True)]
        new = {self._first_column + order.index(name): name for name in added}
        splice_workbook(self.path, to or self.path, self.sheet, Splice(self._first_row + 1, places, new, edits),
                        self.backup)  # fmt: skip
        kept()

    def fingerprint(self) -> str:
        return fingerprint(self.path)

    def check_target(self, to: Path | None) -> str:
        """Raise BadSource when `to` can't be written now; a remark when the source is open elsewhere."""
        to = to or self.path
        for path in {to, self.path} if to != self.path else {to}:
            if holder := _lock_beside(path):
                if path == to:
                    raise BadSource(
                        f"{path} is open in another program ({holder.name} lies beside it). Close it first."
                    )
                return f"{path} is open in another program; what is not saved there is not seen"
        return ""


def _lock_beside(path: Path) -> Path | None:
    """The lock file that an office program keeps beside an open workbook."""
    beside = (path.with_name(f"~${path.name}"), path.with_name(f".~lock.{path.name}#"))
    return next((p for p in beside if p.exists()), None)


def _check_file(path: Path) -> None:
    try:
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
    if start.startswith(b"PK"):
        try:
            with zipfile.ZipFile(path) as package:
                broken = package.testzip()
        except (zipfile.BadZipFile, OSError, NotImplementedError) as error:
            raise BadSource(f"{path} is damaged: {error}. Open and save it anew. Nothing was sent.") from error
        if broken:
            raise BadSource(f"{path} is damaged: its part {broken} can't be unpacked. Nothing was sent.")


def _open(path: Path) -> calamine.CalamineWorkbook:
    try:
        return calamine.CalamineWorkbook.from_path(path)
    except calamine.PasswordError as error:
        raise BadSource(f"{path} is protected by a password. Save a copy without one. Nothing was sent.") from error
    except (calamine.CalamineError, OSError) as error:
        raise BadSource(f"{path} is no workbook that can be read, or damaged: {error}. Nothing was sent.") from error
