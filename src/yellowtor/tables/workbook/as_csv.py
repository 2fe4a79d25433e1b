"""A workbook's records as CSV, for workbooks that can't be written back."""

import csv
from collections.abc import Sequence
from pathlib import Path

from yellowtor.contracts.table import LEAVE, Answering
from yellowtor.files import check_unwritten, written_aside
from yellowtor.tables.cells import safe_text
from yellowtor.tables.file_table import FileTable


def write_csv(table: FileTable, to: Path, order: Sequence[str], columns: Sequence[str], answering: Answering) -> None:
    """Write the records with their answers as CSV (RFC 4180, UTF-8)."""
    places = [order.index(name) for name in columns]
    before = table.state
    with written_aside(to, like=table.path) as aside, aside.open("w", encoding="utf-8", newline="") as file:
        write = csv.writer(file)
        write.writerow(order)
        for batch in table.batches():
            rows = [[*row, *[""] * (len(order) - len(row))] for row in batch]
            for place, cells in zip(places, answering(batch), strict=True):
                for row, cell in zip(rows, cells, strict=True):
                    row[place] = row[place] if cell is LEAVE else safe_text(cell)
            write.writerows(rows)
        check_unwritten(table.path, before)
