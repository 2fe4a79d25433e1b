"""A workbook of 12 columns, every answer in the ledger, against openpyxl's own load and save of the same workbook.

python benchmarks/workbook.py [RECORDS]      default 100000
"""

import csv
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

with folder() as name, stand_in("--pace", "0") as address:
    place = Path(name)
    lay_out(place, address, pace=None, parallel=32, rows=islice(cycle(list(addresses(5_000))), COUNT))
    book = xlsxwriter.Workbook(place / "records.xlsx", {"constant_memory": True})
    sheet = book.add_worksheet()
    with (place / "records.csv").open(newline="", encoding="utf-8") as file:
        for number, row in enumerate(csv.reader(file)):
            sheet.write_row(number, 0, row)
    book.close()
    (place / "job.toml").write_text(JOB.replace("records.csv", "records.xlsx").replace("placed.csv", "placed.xlsx"))
    run(place, PROGRAM, "run", "job.toml")
    _, ours = run(place, PROGRAM, "run", "job.toml")
    _, plain = run(place, sys.executable, "-c", PLAIN)
    memory = peak_mib(place, PROGRAM, "run", "job.toml")
    cells = COUNT * 12
print(
    f"{COUNT:>9,} records in a workbook: yellowtor {ours:.1f} s, openpyxl {plain:.1f} s, ratio {ours / plain:.3f} "
    f"(wanted: at most 0.1); peak {memory:.0f} MiB, {memory * 2**20 / cells:.0f} bytes a cell"
)
