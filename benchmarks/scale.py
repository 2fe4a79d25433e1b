"""Large tables on one machine: the first scan, and a second run, every answer in the ledger, against a columnar script.

python benchmarks/scale.py [--before FOLDER] [--format csv|parquet] [RECORDS …]      default 1000000

--before names a checkout of older code, whose first scan is measured in turn.
"""

import argparse
import math
import os
import subprocess
import sys
from itertools import cycle, islice
from pathlib import Path

from common import PROGRAM, addresses, folder, lay_out, peak_mib, run, stand_in

DISTINCT = 20_000
COLUMNAR = """
import pyarrow as pa, pyarrow.compute as pc
from pyarrow import csv, parquet
FORMAT = "{format}"
if FORMAT == "csv":
    names = open("records.csv", encoding="utf-8").readline().strip().split(",")
    texts = csv.ConvertOptions(column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=False)
    records = csv.read_csv("records.csv", convert_options=texts)
else:
    records = parquet.read_table("records.parquet")
records = records.drop_columns(["Latitude", "Longitude"])
answers = parquet.read_table("answers.parquet")
key = pc.binary_join_element_wise(records["Street"], records["Town"], records["Postcode"], "|")
records = records.append_column("key", key).append_column("order", pa.array(range(len(records))))
merged = records.join(answers, "key", join_type="left outer").sort_by("order").drop_columns(["key", "order"])
csv.write_csv(merged, "merged.csv") if FORMAT == "csv" else parquet.write_table(merged, "merged.parquet")
"""
ANSWERS = """
import pyarrow as pa, pyarrow.compute as pc
from pyarrow import csv, parquet
import os
names = open("placed.csv", encoding="utf-8").readline().strip().split(",") if os.path.exists("placed.csv") else []
texts = csv.ConvertOptions(column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=False)
is_text = "{format}" == "csv"
placed = csv.read_csv("placed.csv", convert_options=texts) if is_text else parquet.read_table("placed.parquet")
key = pc.binary_join_element_wise(placed["Street"], placed["Town"], placed["Postcode"], "|")
columns = ["Latitude", "Longitude", "Outcome", "Confidence", "Level", "Matched address"]
groups = placed.select(columns).append_column("key", key).group_by("key", use_threads=False)
firsts = groups.aggregate([(name, "first") for name in columns])
firsts = firsts.rename_columns([name.removesuffix("_first") for name in firsts.column_names])
parquet.write_table(firsts, "answers.parquet")
"""
TO_PARQUET = """
import pyarrow as pa
from pyarrow import csv, parquet
names = open("records.csv", encoding="utf-8").readline().strip().split(",")
kinds = {**dict.fromkeys(names, pa.string()), "Latitude": pa.float64(), "Longitude": pa.float64()}
with csv.open_csv("records.csv", convert_options=csv.ConvertOptions(column_types=kinds)) as batches:
    with parquet.ParquetWriter("records.parquet", batches.schema) as file:
        for batch in batches:
            file.write_batch(batch)
"""


def made(place, address, count, distinct, form):
    """A job of `count` records with `distinct` different addresses."""
    rows = addresses(distinct)
    lay_out(place, address, pace=None, parallel=32, rows=islice(cycle(list(rows)), count) if distinct < count else rows)
    if form == "parquet":
        run(place, sys.executable, "-c", TO_PARQUET)
        (place / "records.csv").unlink()
        job = place / "job.toml"
        job.write_text(
            job.read_text().replace("records.csv", "records.parquet").replace("placed.csv", "placed.parquet")
        )


def first_scan(place, before):
    """Seconds of a plan with a new ledger, by today's code and by that of another folder."""
    times = []
    for source in [None, before] if before else [None]:
        for file in place.glob("ledger.sqlite*"):
            file.unlink()
        if source:
            code = "from yellowtor.cli.main import main; main()"
            surroundings = {**os.environ, "PYTHONPATH": f"{source}/src"}
            command = [sys.executable, "-c", code, "plan", "job.toml"]
            started = os.times().elapsed
            subprocess.run(command, cwd=place, env=surroundings, check=True, capture_output=True)
            times.append(os.times().elapsed - started)
        else:
            times.append(run(place, PROGRAM, "plan", "job.toml")[1])
    return times


def measure(count, form, before):
    """Seconds of the first scan and the second run, with few addresses."""
    for distinct in (DISTINCT, count):
        with folder() as name, stand_in("--pace", "0") as address:
            place = Path(name)
            made(place, address, count, distinct, form)
            ours, *older = first_scan(place, before)
            ratio = f", {ours / older[0]:.2f} of the {older[0]:.1f} s before" if older else ""
            print(f"{count:>10,} records, {distinct:>10,} addresses: first scan {ours:6.1f} s{ratio}", flush=True)
            if distinct == count:
                continue
            seconds = ours
            run(place, PROGRAM, "run", "job.toml")
            run(place, sys.executable, "-c", ANSWERS.format(format=form))
            pairs = []
            for _ in range(3 if count <= 1_000_000 else 1):
                _, ours = run(place, PROGRAM, "run", "job.toml")
                _, plain = run(place, sys.executable, "-c", COLUMNAR.format(format=form))
                pairs.append((ours / plain, ours, plain))
            ratio, ours, plain = sorted(pairs)[len(pairs) // 2]
            memory = peak_mib(place, PROGRAM, "run", "job.toml")
            script = peak_mib(place, sys.executable, "-c", COLUMNAR.format(format=form))
            print(
                f"{'':>10} second run {ours:.2f} s, columnar script {plain:.2f} s, ratio {ratio:.2f} "
                f"(wanted: at most 4); peak {memory:.0f} MiB (wanted: under 200), script {script:.0f}",
                flush=True,
            )
    return seconds, ours


options = argparse.ArgumentParser()
options.add_argument("--before")
options.add_argument("--format", default="csv")
options.add_argument("records", nargs="*", type=int, default=[1_000_000])
given = options.parse_args()
found = [measure(count, given.format, given.before) for count in given.records]
if len(found) > 1:
    more = math.log(given.records[-1] / given.records[0])
    exponents = [math.log(last / first) / more for first, last in zip(found[0], found[-1], strict=True)]
    print(f"time exponents: first scan {exponents[0]:.3f}, second run {exponents[1]:.3f} (wanted: at most 1.05)")
