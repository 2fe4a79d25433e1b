"""What the benchmarks share: a stand-in in a process of its own, a job on a CSV file, whole-process figures."""

import compileall
import csv
import json
import os
import re
import subprocess
import sys
import tempfile
import time
import urllib.request
from contextlib import contextmanager
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("yellowtor"))
DATA = Path(__file__).parent.parent / "src" / "yellowtor" / "demo" / "data"
JOB = """
ledger = "ledger.sqlite"
[records]
file = "records.csv"
key = "Id"
[address]
street = "Street"
town = "Town"
postcode = "Postcode"
needed = ["street", "town"]
fixed = { country = "XT" }
[ask]
service = "stand-in.toml"
[judge]
tolerance_m = 50
[write]
to = "placed.csv"
[write.columns]
latitude = "Latitude"
longitude = "Longitude"
outcome = "Outcome"
confidence = "Confidence"
level = "Level"
matched = "Matched address"
"""
HEADER = [
    "Id",
    "Name",
    "Street",
    "Town",
    "Postcode",
    "Kind",
    "Owner",
    "Notes",
    "Checked",
    "Size",
    "Latitude",
    "Longitude",
]

# The program as it is when installed: compiled.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
compileall.compile_dir(DATA.parent.parent, quiet=1)


@contextmanager
def stand_in(*options):
    """The address of a stand-in that runs in a process of its own."""
    process = subprocess.Popen(
        [PROGRAM, "stand-in", "--port", "0", *options], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    try:
        yield process.stdout.readline().strip()
    finally:
        process.terminate()
        process.wait()


def counters(address):
    with urllib.request.urlopen(f"{address}/counters") as reply:
        return json.load(reply)


def addresses(count):
    """This number of distinct addresses: all of the gazetteer, then the same with other numbers."""
    from yellowtor.standin.gazetteer import read_gazetteer

    points = [p for p in read_gazetteer(DATA)[0] if p.country_code == "XT"]
    for i in range(count):
        point, turn = points[i % len(points)], i // len(points)
        number = point.number if not turn else f"{point.number}{turn}"
        yield (f"{number} {point.street}", point.town, point.postcode)


def lay_out(folder, address, *, pace, parallel, rows, shape="stand-in"):
    """A job in the folder that asks one question in a request. rows are (street, town, postcode)."""
    text = (
        (DATA / f"{shape}.toml")
        .read_text()
        .replace("per_day = 2500\n", "")
        .replace("parallel = 8", f"parallel = {parallel}")
    )
    text = re.sub(r"\[forward\.many\].*?\n\n", "", text, flags=re.DOTALL)
    (folder / "stand-in.toml").write_text(text.replace("per_second = 40", f"per_second = {pace}" if pace else ""))
    (folder / "job.toml").write_text(JOB)
    (folder / ".env").write_text(f"YELLOWTOR_STANDIN={address}\nYELLOWTOR_STANDIN_KEY=demo-key-0001\n")
    with (folder / "records.csv").open("w", newline="", encoding="utf-8") as file:
        write = csv.writer(file)
        write.writerow(HEADER)
        for i, (street, town, postcode) in enumerate(rows):
            write.writerow(
                [
                    f"R{i}",
                    f"Site {i}",
                    street,
                    town,
                    postcode,
                    "indoor",
                    "trust",
                    "left of the door",
                    "2026-03-01",
                    i % 90,
                    "",
                    "",
                ]
            )


def run(folder, *command):
    """Run a command: (its standard output, wall seconds, peak memory in MiB)."""
    before = time.perf_counter()
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    out, err = process.communicate()
    seconds = time.perf_counter() - before
    assert process.returncode == 0, err
    return out, seconds


def peak_mib(folder, *command):
    """The peak memory of a command, in MiB, as the operating system counts it."""
    code = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL,"
        " stderr=subprocess.DEVNULL); print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, *command], cwd=folder, capture_output=True, text=True, check=True
    )
    return int(done.stdout) / 1024


def folder():
    """A temporary folder that goes with the process."""
    return tempfile.TemporaryDirectory(prefix="bench-")
