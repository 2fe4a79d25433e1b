"""A review of many doubtful addresses: time and memory of writing it, and of taking the decisions, by their number.

Prints ratios: the time for each address against a tenth of the number, and the memory against it.

    python benchmarks/review.py 20000 100000
"""

import csv
import json
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import yellowtor.demo
from yellowtor.demo.example import lay_out
from yellowtor.standin.gazetteer import read_gazetteer
from yellowtor.standin.server import Manners, StandIn, running

DATA = Path(yellowtor.demo.__file__).parent / "data"
PROGRAM = Path(sys.executable).with_name("yellowtor")


def doubtful_job(folder: Path, count: int) -> None:
    """A job with this many addresses that do not exist, in streets that do."""
    lay_out(DATA, folder, "demo-key-0001")
    streets = [
        (point.street, point.town, point.postcode) for point in read_gazetteer(DATA)[0] if point.country_code == "XT"
    ]
    chance = random.Random(5)
    with (folder / "records.csv").open("w", newline="", encoding="utf-8") as file:
        write = csv.writer(file)
        write.writerow(["Id", "Number and street", "Town", "Postcode"])
        for n in range(count):
            street, town, postcode = chance.choice(streets)
            write.writerow([f"R{n}", f"{1000 + n} {street}", town, postcode])
    text = (folder / "job.toml").read_text()
    for old, new in (
        ('file = "cabinets.xlsx"\nsheet = "Cabinets"', 'file = "records.csv"'),
        ("cabinets-placed.xlsx", "placed.csv"),
        ('name = "Cabinet"', ""),
    ):
        text = text.replace(old, new)
    (folder / "job.toml").write_text(text[: text.index("\n[markers]")])
    lines = (folder / "stand-in.toml").read_text().splitlines(keepends=True)
    unlimited = [line for line in lines if not line.startswith(("per_second", "per_day"))]
    (folder / "stand-in.toml").write_text("".join(unlimited))


def measured(folder: Path, *words: str) -> tuple[float, float]:
    """Seconds and MiB of a command."""
    code = (
        "import resource, subprocess, sys; done = subprocess.run(sys.argv[1:], capture_output=True);"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, done.returncode, done.stderr[-300:])"
    )
    began = time.perf_counter()
    said = subprocess.run(
        [sys.executable, "-c", code, str(PROGRAM), *words], cwd=folder, capture_output=True, text=True, check=True
    )
    took = time.perf_counter() - began
    memory, ended, *rest = said.stdout.split(" ", 2)
    assert ended == "0", rest
    return took, int(memory) / 1024


def main(sizes: list[int]) -> None:
    print(f"{'addresses':>10} {'command':<14} {'seconds':>8} {'µs each':>8} {'MiB':>6}")
    for count in sizes:
        with (
            tempfile.TemporaryDirectory() as temporary,
            running(StandIn(DATA, Manners(key="demo-key-0001", per_second=None, per_day=None))) as address,
        ):
            folder = Path(temporary)
            doubtful_job(folder, count)
            environment = folder / ".env"
            environment.write_text(f"YELLOWTOR_STANDIN_KEY=demo-key-0001\nYELLOWTOR_STANDIN={address}\n")
            measured(folder, "run", "job.toml")
            for ending in ("csv", "xlsx", "html"):
                took, memory = measured(folder, "review", "job.toml", "--to", f"r.{ending}")
                print(f"{count:>10,} {'to ' + ending:<14} {took:>8.1f} {took / count * 1e6:>8.0f} {memory:>6.0f}")
            pages = len(list(folder.glob("r*.html")))
            rows = list(csv.DictReader((folder / "r.csv").open(encoding="utf-8-sig")))
            decisions = [{"id": row["id"], "decision": "a", "a at": row["a at"]} for row in rows]
            (folder / "d.json").write_text(json.dumps(decisions))
            took, memory = measured(folder, "review", "job.toml", "--apply", "d.json")
            said = f"{count:>10,} {'apply':<14} {took:>8.1f} {took / count * 1e6:>8.0f} {memory:>6.0f}"
            print(f"{said}   ({pages} pages of 500)")


if __name__ == "__main__":
    main([int(word) for word in sys.argv[1:]] or [2_000, 20_000])
