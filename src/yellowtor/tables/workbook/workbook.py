"""Reading a sheet of a workbook, and saying clearly why one can't be read.

Read with calamine, which gives text cells as they are (00412 stays 00412) and cached results of formulas.
"""

import re
import zipfile
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial
from itertools import islice
from pathlib import Path
from types import MappingProxyType
from typing import TypeVar

import python_calamine as calamine

from yellowtor.contracts.table import Answering, OnWritten, Row
from yellowtor.errors import BadSource
from yellowtor.files import State, check_unwritten, state_of
from yellowtor.tables.cells import DEGREES, LazyTexts, Texts, as_text, ignore_written
from yellowtor.tables.file_table import FileOptions, FileTable
from yellowtor.tables.header import checked_header
from yellowtor.tables.workbook.as_csv import write_csv
from yellowtor.tables.workbook.cell_range import Block, letters, parse_block
from yellowtor.tables.workbook.number_formats import shown_numbers, with_zeros
from yellowtor.tables.workbook.sheet_rows import RecordRows, SheetRows
from yellowtor.tables.workbook.sheet_rules import check_columns, formula_cells, is_protected, without_result
from yellowtor.tables.workbook.sheet_text import SheetText, Unsafe
from yellowtor.tables.workbook.splice import SheetPage, Splice, splice_workbook
from yellowtor.tables.workbook.table_growth import grown_tables, named_table
from yellowtor.tables.workbook.workbook_file import OOXML, check_file, lock_beside, opened, rows_of
from yellowtor.tables.workbook.zip_package import check_package, read_whole, readable, sheet_member

T = TypeVar("T")
BATCH = 5_000
SPLICED = {*OOXML, ".ods"}  # what can be written back
HIDDEN = re.compile(rb"""<(?:\w+:)?row\b[^>]*\bhidden=["'](?:1|true)["']""")


class WorkbookTable(FileTable):
    """Records on a sheet: all of it, a block of cells, or a named table. Raises BadSource for whatever is wrong.

    answers are the parts of the answer by the columns that will be written.
    """

    def __init__(
        self,
        path: Path,
        sheet: str | None,
        backup: Path | None = None,
        *,
        block: str | None = None,
        table: str | None = None,
        answers: Mapping[str, str] = MappingProxyType({}),
    ) -> None:
        super().__init__(path, backup)
        self.left: Sequence[str] = ()
        self._said = (sheet, block, table)
        self._answers = answers
        self._open()

    def _open(self) -> None:
        path = self.path
        (sheet, block, table) = self._said
        answers = self._answers
        self.remarks = []
        check_file(path)
        with opened(path) as book, readable(path):
            names = book.names
            if not names:
                raise BadSource(f"{path} has no sheets. Nothing was sent.")
            given = parse_block(block) if block else None
            if table:
                sheet, given = named_table(path, names, table)
            self.sheet = sheet or names[0]
            if self.sheet not in names:
                raise BadSource(
                    f"{path} has no sheet {self.sheet!r} (there are: {', '.join(names)}). Nothing was sent."
                )
            book.begin(self.sheet)
            self._shown, hidden, merged = self._from_xml(write=bool(answers))
            page = book.sheet(self.sheet)
            self.header = self._header(page, given, [*merged, *(first for first, _ in page.merged_cell_ranges or [])])
            self._read: tuple[State, calamine.CalamineSheet] | None = book.state, page
        self._state_read: State = None
        self._expected: tuple[State, int] | None = None
        self._added = added = [name for name in answers if name not in self.header]
        if added and block and given and given.last_column is not None:
            raise BadSource(
                f"The block {block} of {path} has no column {', '.join(map(repr, added))} for the answers. Leave its "
                f"end open, or make them. Nothing was sent."
            )
        self._describe(hidden)

    def _describe(self, hidden: int) -> None:
        """Remarks about what a person might not expect on the sheet."""
        if self._merged:
            self.remarks.append(
                f"{len(self._merged):,} blocks of merged cells below the header of the sheet {self.sheet!r}, the first "
                f"at {self._merged[0]}: only the first cell of each says something"
            )
        if self._text and is_protected(self._text[1]):
            self.remarks.append(f"the sheet {self.sheet!r} is protected against changes; answers are written anyway")
        if self._text and (open_ends := without_result(self._text[1])):
            self.remarks.append(
                f"formulas on the sheet {self.sheet!r} without a result yet: {len(open_ends):,}, the first in "
                f"{open_ends[0]}. They are read as empty cells: open and save the workbook in a spreadsheet program"
            )
        if hidden:
            self.remarks.append(f"{hidden:,} hidden rows of the sheet {self.sheet!r} are records like the others")

    def _header(
        self, page: calamine.CalamineSheet, given: Block | None, merged: Sequence[tuple[int, int]]
    ) -> list[str]:
        where = f"The sheet {self.sheet!r} of {self.path}"
        if page.start is None or page.end is None:
            raise BadSource(f"{where} is empty. Nothing was sent.")
        top, left = page.start
        self._left = left  # rows count from the sheet's first, cells from here
        self._block = given or Block(top, left)
        if given and (given.first_row > page.end[0] or given.first_column > page.end[1]):
            raise BadSource(f"{where} is empty in the cells that records.block names. Nothing was sent.")
        for row, column in merged:
            if row == self._block.first_row:
                raise BadSource(
                    f"The header of the sheet {self.sheet!r} of {self.path} has merged cells (at column "
                    f"{column + 1}). Unmerge them, so that each column has its own name. Nothing was sent."
                )
        names = next(islice(rows_of(page, where), self._block.first_row, None))
        last = page.end[1] if self._block.last_column is None else min(self._block.last_column, page.end[1])
        self._width = last - self._block.first_column + 1
        cells = self._cut(names, "")
        if given and given.last_column is None:  # up to the first column without a name
            self._width = next((at for at, cell in enumerate(cells) if not as_text(cell).strip()), len(cells))
        beyond = self._block.first_column + self._width - self._left
        self._beside = [as_text(cell).strip() for cell in names[max(0, beyond) :]] if names else []
        self._merged = [
            f"{letters(column)}{row + 1}"
            for row, column in merged
            if self._block.first_row < row <= (self._block.last_row or page.end[0])
            and 0 <= column - self._block.first_column < self._width
        ]
        return checked_header([as_text(cell).strip() for cell in self._cut(names, "")], where)

    def _cut(self, cells: Sequence[T], nothing: T) -> Sequence[T]:
        """Those that belong to the records of the cells of a row, or of a page's columns; nothing where none is."""
        skip = self._block.first_column - self._left
        cut = cells[max(0, skip) : max(0, skip + self._width)]
        return [*[nothing] * max(0, -skip), *cut, *[nothing] * (self._width - len(cut) - max(0, -skip))]

    def _from_xml(self, *, write: bool) -> tuple[Mapping[tuple[int, int], str], int, Sequence[tuple[int, int]]]:
        """What calamine does not tell: numbers shown with leading zeros, by row and column; hidden rows; merged cells.

        Where the sheet is to be written, its text is made ready for that: there is time while calamine reads. Why this
        is not safe is given by check_target().
        """
        self._text: tuple[State, SheetText] | None = None
        self._unsafe = ""
        kind = self.path.suffix.lower()
        state = state_of(self.path)
        if kind not in SPLICED:
            check_package(self.path)
            return {}, 0, []
        with zipfile.ZipFile(self.path) as package:
            if kind == ".ods":
                from yellowtor.tables.workbook.ods import CONTENT, seen

                try:
                    return seen(read_whole(self.path, package, CONTENT), self.sheet)
                except Unsafe as error:
                    self._unsafe = str(error)
                return {}, 0, []
            xml = read_whole(self.path, package, sheet_member(package, self.sheet))
            hidden = len(HIDDEN.findall(xml)) if b"hidden=" in xml else 0
            if write:
                try:
                    self._text = state, SheetText(xml)
                except Unsafe as error:
                    self._unsafe = str(error)
            return shown_numbers(package, xml), hidden, []

    @property
    def calculated(self) -> Collection[str]:
        """The columns with formulas: what is in them may change whenever a program opens the workbook."""
        columns = (
            {parse_block(where).first_column for where, _ in formula_cells(self._text[1])} if self._text else set()
        )
        return {name for at, name in enumerate(self.header, self._block.first_column) if at in columns}

    def batches(self) -> Iterator[Sequence[Row]]:
        """The rows below the header, as texts, 5,000 at a time; all blank ones are skipped."""
        for _, rows in self._numbered():
            yield rows

    @contextmanager
    def _page(self) -> Iterator[tuple[State, calamine.CalamineSheet]]:
        """The sheet: once as it was read first, if the file is unchanged; it is not kept longer."""
        read = self._read
        self._read = None
        if read and read[0] == state_of(self.path):
            yield read
            return
        with opened(self.path) as book:
            yield book.state, book.sheet(self.sheet)

    def fingerprint(self) -> str:
        self._state_read = state_of(self.path)
        return super().fingerprint()

    def expect(self, records: int) -> None:
        """Know that the file is unchanged since the scan, and its number of records.

        Rows need not be read to be numbered.
        """
        self._expected = self._state_read, records

    def _numbered(self) -> Iterator[tuple[Sequence[int], Sequence[Row]]]:
        """Batches of rows that are not blank: their numbers in the sheet, from 1, and their cells.

        Where there are as many records as rows, none is blank, and the cells are read when somebody looks at them.
        """
        first = self._block.first_row + 1
        with self._page() as (state, page):
            end = page.end[0] if page.end else 0
            last = self._block.last_row
            below = (end if last is None else min(last, end)) + 1
            rows = SheetRows(rows_of(page, f"The sheet {self.sheet!r} of {self.path}"))
            for at in range(first, below, BATCH):
                numbers: Sequence[int] = range(at + 1, min(at + BATCH, below) + 1)
                read = partial(self._columns, rows, numbers)
                if self._expected == (state, below - first):
                    yield numbers, LazyTexts(len(numbers), read)
                    continue
                columns = read()
                texts: Sequence[Row] = Texts(columns)
                if all("" in column for column in columns):  # a row may have nothing in any of them
                    numbers = [number for number, row in zip(numbers, texts, strict=True) if any(row)]
                    texts = list(filter(any, texts))
                if numbers:
                    yield numbers, texts

    def _columns(self, rows: SheetRows, numbers: Sequence[int]) -> Sequence[Sequence[object]]:
        """The columns of a page of records, in the rows of these numbers."""
        columns = self._cut(list(zip(*rows.take(numbers), strict=True)), ("",) * len(numbers))
        return with_zeros(self._shown, numbers, columns, self._block.first_column) if self._shown else columns

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """As FileTable.rewrite()."""
        added = [name for name in columns if name not in self.header]
        order = [*self.header, *added]
        if to and to.suffix.lower() == ".csv":
            write_csv(self, to, order, columns, answering)
            on_written()
            return
        before = self.state
        places = [self._block.first_column + order.index(name) for name in columns]
        new = {self._block.first_column + order.index(name): name for name in added}
        splice = Splice(self._block.first_row + 1, places, new, self._pages(answering, before))
        to = to or self.path
        if self.path.suffix.lower() == ".ods":
            from yellowtor.tables.workbook.ods import splice_ods

            splice_ods(self.path, to, self.sheet, splice, self.backup)
        else:
            ready = self._text
            self._text = None
            same = ready[1] if ready and ready[0] == before else None
            splice_workbook(self.path, to, self.sheet, same, splice, self.backup)
        self.left = splice.left
        on_written()

    def _pages(self, answering: Answering, before: State) -> Iterator[SheetPage]:
        """The pages, answered as they are written. Raises BadSource where the file is not in this state all the while.

        For the rows would be others than those of its XML.
        """
        for numbers, rows in self._numbered():
            yield SheetPage(numbers, answering(rows))
        check_unwritten(self.path, before)

    def check_target(self, to: Path | None) -> list[str]:
        """Raise BadSource when `to` can't be written now; remarks, such as that the source is open elsewhere."""
        to = to or self.path
        kind = self.path.suffix.lower()
        if kind not in SPLICED and to.suffix.lower() != ".csv":
            raise BadSource(
                f"A workbook like {self.path.name} can be read but not written back: let the answers go into a .csv "
                "(write.to), or save it as .xlsx first. Nothing was sent."
            )
        self.endings = frozenset({".csv", kind} if kind in SPLICED else {".csv"})
        remarks = super().check_target(to)
        if to.suffix.lower() != ".csv":
            self._check_splice()
        for path in {to, self.path} if to != self.path else {to}:
            if holder := lock_beside(path):
                if path == to:
                    raise BadSource(
                        f"{path} is open in another program ({holder.name} lies beside it). Close it first."
                    )
                remarks.append(f"{path} is open in another program; what is not saved there is not seen")
        return remarks

    def _check_splice(self) -> None:
        """Raise BadSource if answers can't be spliced into the sheet."""
        if self._unsafe:
            raise BadSource(f"{self.path}, sheet {self.sheet!r}: {self._unsafe} Nothing was sent.")
        if self.path.suffix.lower() not in OOXML:
            return
        first = self._block.first_column
        order = [*self.header, *self._added]
        if taken := [name for name in self._beside[: len(self._added)] if name]:
            raise BadSource(
                f"{self.path}, sheet {self.sheet!r}: {taken[0]!r} stands beside the records, where the new columns of "
                "answers begin. Make room there. Nothing was sent."
            )
        columns = {first + order.index(name): name for name in self._answers}
        degrees = [place for place, name in columns.items() if self._answers[name] in DEGREES]
        try:
            if self._text:
                check_columns(
                    self._text[1],
                    range(0)
                    if self.is_chosen_from
                    else RecordRows(lambda: (numbers for numbers, _ in self._numbered())),
                    columns,
                    degrees,
                )
            if self._added:
                with readable(self.path), zipfile.ZipFile(self.path) as package:
                    sheet = sheet_member(package, self.sheet)
                    header_row = self._block.first_row + 1
                    grown_tables(package, sheet, header_row, first + len(self.header), self._added)
        except Unsafe as error:
            raise BadSource(f"{self.path}, sheet {self.sheet!r}: {error} Nothing was sent.") from error


def open_table(path: Path, options: FileOptions) -> WorkbookTable:
    """The table in a sheet of a workbook."""
    sheet, backup = options.sheet, options.backup
    return WorkbookTable(path, sheet, backup, block=options.block, table=options.table, answers=options.answers)
