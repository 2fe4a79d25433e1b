"""A workbook of 12 columns, every answer in the ledger, against openpyxl's own load and save of the same workbook.

Once with texts shared between cells, as spreadsheet programs write them, and once with texts in the cells, as
programs do that write a row at a time. Ours is the median of three runs before openpyxl's and three after.

python benchmarks/workbook.py [RECORDS]      default 100000
"""

import csv
import statistics
import sys
from itertools import cycle, islice
from pathlib import Path

import xlsxwriter
from common import JOB, PROGRAM, addresses, folder, lay_out, peak_mib, run, stand_in

COUNT = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
PLAIN = """
import openpyxl
book = openpyxl.load_workbook("records.xlsx")
sheet = book.active
for row in sheet.iter_rows(min_row=2, min_col=11, max_col=12):
    row[0].value, row[1].value = 47.5, -28.5
book.save("plain.xlsx")
"""


def make_workbook(place, *, shared):
    book = xlsxwriter.Workbook(place / "records.xlsx", {"constant_memory": not shared})
    sheet = book.add_worksheet()
    with (place / "records.csv").open(newline="", encoding="utf-8") as file:
        for number, row in enumerate(csv.reader(file)):
            sheet.write_row(number, 0, row)
    book.close()


with folder() as name, stand_in("--pace", "0") as address:
    place = Path(name)
    lay_out(place, address, pace=None, parallel=32, rows=islice(cycle(list(addresses(5_000))), COUNT))
    (place / "job.toml").write_text(JOB.replace("records.csv", "records.xlsx").replace("placed.csv", "placed.xlsx"))
    for shared in (True, False):
        make_workbook(place, shared=shared)
        run(place, PROGRAM, "run", "job.toml")
        ours = [run(place, PROGRAM, "run", "job.toml")[1] for _ in range(3)]
        _, plain = run(place, sys.executable, "-c", PLAIN)
        ours += [run(place, PROGRAM, "run", "job.toml")[1] for _ in range(3)]
        memory = peak_mib(place, PROGRAM, "run", "job.toml")
        print(
            f"{COUNT:>9,} records, texts {'shared' if shared else 'in cells'}: yellowtor "
            f"{statistics.median(ours):.1f} s, openpyxl {plain:.1f} s, ratio {statistics.median(ours) / plain:.3f} "
            f"(wanted: at most 0.1); peak {memory:.0f} MiB, {memory * 2**20 / (COUNT * 12):.0f} bytes a cell",
            flush=True,
        )
