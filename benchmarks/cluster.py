"""A folder of Parquet files by one process and by 1, 2 and 4 workers, with a reference table and a PostgreSQL ledger.

python benchmarks/cluster.py [--records N] [--files N] [--distinct N] [--reference N] [WORKERS …]

WORKERS 0 is one process without a cluster. Prints seconds, records per second, the CPU seconds of the run and of the
database, the largest memory of a process, and how long each phase took.
"""

import argparse
import json
import os
import subprocess
import threading
import time
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from tempfile import TemporaryDirectory

import psutil
from cluster_world import lay_out_register
from common import PROGRAM, folder, run


def cpu_of(process):
    """CPU seconds of a process, its children and those of them that have ended."""
    there = [process, *process.children(recursive=True)]
    times = [one.cpu_times() for one in there]
    return sum(t.user + t.system + t.children_user + t.children_system for t in times)


def watched(process, found):
    """Follow the CPU seconds and the largest memory (MiB) of a process and its children, until it has ended."""
    whole = psutil.Process(process.pid)
    while process.poll() is None:
        try:
            found["cpu"] = max(found.get("cpu", 0), cpu_of(whole))
            largest = max(one.memory_info().rss for one in [whole, *whole.children(recursive=True)]) / 2**20
            found["mib"] = max(found.get("mib", 0), largest)
        except psutil.Error:
            pass
        time.sleep(0.2)


def phases(log):
    """Seconds of each phase."""
    events = [json.loads(line) for line in log.read_text().splitlines()]
    marks = [(datetime.fromisoformat(e["at"]), e.get("name", "")) for e in events if e["event"] in {"phase", "end"}]
    took = {}
    for (began, name), (ended, _) in pairwise(marks):
        took[name] = took.get(name, 0) + (ended - began).total_seconds()
    return ", ".join(f"{name.lower()} {seconds:.1f}" for name, seconds in took.items())


def measured(place, server, workers):
    options = ["--on", f"local:{workers}"] if workers else []
    log = place / f"log-{workers}.jsonl"
    before, started = cpu_of(server), time.perf_counter()
    command = [PROGRAM, "run", "job.toml", "--json", "--log", log.name, *options]
    process = subprocess.Popen(command, cwd=place, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    found = {}
    watching = threading.Thread(target=watched, args=(process, found))
    watching.start()
    out, err = process.communicate()
    seconds = time.perf_counter() - started
    watching.join()
    assert process.returncode == 0, err
    summary = json.loads(out)
    records = summary["records"]
    print(
        f"{workers or 'no'} workers: {seconds:6.1f} s, {records / seconds:8,.0f} records/s, CPU {found['cpu']:6.1f} s, "
        f"of the database {cpu_of(server) - before:6.1f} s, largest process {found['mib']:.0f} MiB",
        flush=True,
    )
    print(f"    {phases(log)}", flush=True)
    return summary["outcomes"]


def main():
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--records", type=int, default=400_000)
    options.add_argument("--files", type=int, default=16)
    options.add_argument("--distinct", type=int, default=100_000)
    options.add_argument("--reference", type=int, default=100_000)
    options.add_argument("workers", type=int, nargs="*", default=[0, 1, 2, 4])
    wanted = options.parse_args()
    import pgserver

    with TemporaryDirectory(prefix="pg-", ignore_cleanup_errors=True) as data, folder() as name:
        server = pgserver.get_server(data, cleanup_mode="stop")
        url = server.get_uri()
        master = psutil.Process(int((Path(data) / "postmaster.pid").read_text().splitlines()[0]))
        place = Path(name)
        sizes = {"records": wanted.records, "files": wanted.files, "distinct": wanted.distinct}
        lay_out_register(place, url, **sizes, reference=wanted.reference)
        run(place, PROGRAM, "index", "addresses.toml")
        seen = []
        for workers in wanted.workers:
            subprocess.run(
                ["psql", url, "-qc", "DROP SCHEMA IF EXISTS yellowtor CASCADE"], check=True, capture_output=True
            )
            if (place / "placed").exists():
                (place / "placed").rename(place / f"placed-{len(seen)}")
            seen.append(measured(place, master, workers))
        assert all(outcomes == seen[0] for outcomes in seen), seen
        server.cleanup()


os.environ.pop("OPENBLAS_CORETYPE", None)
main()
