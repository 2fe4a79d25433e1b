"""Delimited text (RFC 4180): comma, UTF-8, a header in the first line; streamed both ways."""

import csv
from collections.abc import Iterator, Sequence
from io import StringIO
from itertools import islice, repeat
from pathlib import Path

from yellowtor.errors import BadSource
from yellowtor.files import fingerprint, written_aside
from yellowtor.tables.cells import LEAVE, Answering, NewCells, Row
from yellowtor.tables.header import checked_header

BATCH = 2_000
FORMULA = {"=", "+", "-", "@", "\t", "\r"}


class DelimitedTable:
    """A file of comma-separated values. Raises BadSource for whatever is wrong with it."""

    def __init__(self, path: Path) -> None:
        self.path = path
        first = next(self._lines(), None)
        if first is None:
            raise BadSource(f"{path} is empty. Nothing was sent.")
        self._line_end = self._find_line_end()
        self.header = checked_header([name.strip() for name in first], str(path))

    def batches(self) -> Iterator[list[Row]]:
        """The rows below the header, 2,000 at a time; blank lines are passed over."""
        lines = self._lines()
        next(lines, None)
        while batch := list(islice(lines, BATCH)):
            if set(map(len, batch)) != {len(self.header)}:
                batch = [self._whole(row) for row in batch if row]
            if batch:
                yield batch  # type: ignore[misc]

    def _whole(self, row: list[str]) -> list[str]:
        if len(row) > len(self.header):
            raise BadSource(
                f"{self.path} has a line of {len(row)} fields under a header of {len(self.header)}, beginning with "
                f"{row[0]!r}. Quote fields that hold a comma."
            )
        return row + [""] * (len(self.header) - len(row))

    def _find_line_end(self) -> str:
        with self.path.open("rb") as file:
            return "\r\n" if file.readline().endswith(b"\r\n") else "\n"

    def _lines(self) -> Iterator[list[str]]:
        try:
            with self.path.open(encoding="utf-8-sig", newline="") as file:
                yield from csv.reader(file, strict=True)
        except FileNotFoundError as error:
            raise BadSource(f"There is no file {self.path}. Nothing was sent.") from error
        except (OSError, UnicodeDecodeError, csv.Error) as error:
            raise BadSource(f"{self.path} can't be read: {error}. Nothing was written.") from error

    def rewrite(self, to: Path, columns: Sequence[str], answering: Answering) -> None:
        """Write a copy to `to` (or over itself) in which these columns hold what answering gives."""
        order = list(dict.fromkeys([*self.header, *columns]))
        places = [order.index(name) for name in columns]
        with written_aside(to) as aside, aside.open("w", encoding="utf-8", newline="") as file:
            csv.writer(file, lineterminator=self._line_end).writerow(order)
            for batch in self.batches():
                cells: list[NewCells] = [
                    *zip(*batch, strict=True),
                    *repeat([""] * len(batch), len(order) - len(self.header)),
                ]
                for place, new in zip(places, answering(batch), strict=True):
                    cells[place] = _new(cells[place], new)
                text = StringIO(newline="")  # a file would encode each line for itself
                csv.writer(text, lineterminator=self._line_end).writerows(zip(*cells, strict=True))
                file.write(text.getvalue())

    def fingerprint(self) -> str:
        return fingerprint(self.path)

    def check_target(self, to: Path) -> str:
        """Nothing holds a text file open for itself."""
        del to
        return ""


def _new(old: NewCells, new: NewCells) -> NewCells:
    """A column's new cells; a text that a spreadsheet would take for a formula gets an apostrophe first."""
    safe = [f"'{cell}" if cell.__class__ is str and cell[:1] in FORMULA else cell for cell in new]
    return [before if cell is LEAVE else cell for before, cell in zip(old, safe, strict=True)] if LEAVE in new else safe
