"""A folder of Parquet files by four workers: three workers are killed, and the client once; then it is run to its end.

python benchmarks/cluster_kills.py [--records N] [--files N] [--distinct N] [--reference N] [--sample N]

The ledger is a PostgreSQL. What the reference table does not place is asked at the stand-in, which counts. Then one
process places a sample of the records with a ledger of its own, and the answers are compared.
"""

import argparse
import json
import os
import random
import re
import signal
import subprocess
import threading
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory

import psutil
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from cluster_world import lay_out_register
from common import DATA, PROGRAM, counters, folder, run, stand_in

ON = ("--on", "local:4")
SHOWN = 10  # differences


def workers_of(process):
    children = psutil.Process(process.pid).children(recursive=True)
    return [one for one in children if "spawn_main" in " ".join(one.cmdline())]


def begun(log, phase):
    """Whether the run is at this phase."""
    lines = log.read_text().splitlines() if log.exists() else []
    names = [event.get("name") for event in map(json.loads, lines[:-1]) if event["event"] == "phase"]
    return bool(names) and names[-1] == phase


def started(place, log, *more):
    command = [PROGRAM, "run", "job.toml", "--json", "--log", log, *more]
    return subprocess.Popen(command, cwd=place, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def wait_for(process, seen):
    while not seen():
        assert process.poll() is None, process.communicate()
        time.sleep(0.2)


def watched(process, found):
    """Follow the largest memory (MiB) of a worker."""
    while process.poll() is None:
        with suppress(psutil.Error, TypeError):
            found["mib"] = max(found["mib"], *(one.memory_info().rss / 2**20 for one in workers_of(process)))
        time.sleep(0.5)


def kill_one(process, r):
    victims = workers_of(process)
    if victims:
        r.choice(victims).kill()


def whole_run(place, r):
    """Run to the end, with kills; the summary, and the largest memory of a worker."""
    found = {"mib": 0}
    first = started(place, "one.jsonl", *ON)
    threading.Thread(target=watched, args=(first, found)).start()
    written = place / "placed"
    for phase, seconds in (("Reading", 20), ("Asking", 5)):
        wait_for(first, lambda phase=phase: begun(place / "one.jsonl", phase))
        time.sleep(seconds)
        kill_one(first, r)
        print(f"a worker was killed in {phase}", flush=True)
    wait_for(first, lambda: len(list(written.rglob("*.parquet.json"))) > 2)
    first.send_signal(signal.SIGKILL)
    first.communicate()
    there = {file: file.stat().st_mtime_ns for file in written.glob("*.parquet")}
    print(f"the client was killed in Writing, with {len(there)} files written", flush=True)
    again = started(place, "two.jsonl", *ON)
    threading.Thread(target=watched, args=(again, found)).start()
    wait_for(again, lambda: begun(place / "two.jsonl", "Writing"))
    time.sleep(10)
    kill_one(again, r)
    print("a worker was killed in Writing", flush=True)
    out, err = again.communicate()
    assert again.returncode == 0, err
    kept = sum(file.stat().st_mtime_ns == at for file, at in there.items())
    print(f"{kept} of these files were not written again", flush=True)
    return json.loads(out), found["mib"]


def sampled(place, size, records):
    """A register of a sample of the records, for one process with a ledger of its own."""
    (place / "sample").mkdir()
    every = max(1, records // size)
    kept = []
    for file in sorted((place / "register").glob("*.parquet")):
        table = pq.read_table(file)
        kept.append(table.take(pa.array(range(0, len(table), every))))
    pq.write_table(pa.concat_tables(kept), place / "sample" / "all.parquet")
    text = (place / "job.toml").read_text().replace('"register"', '"sample"').replace('to = "placed"', 'to = "alone"')
    (place / "alone.toml").write_text(re.sub('ledger = ".*"', 'ledger = "alone.sqlite"', text))


def differences(place):
    """How many records of the sample have another outcome or another position."""
    alone = pq.read_table(place / "alone" / "all.parquet")
    ids = pc.unique(alone["id"])
    files = sorted((place / "placed").glob("*.parquet"))
    all_ = pa.concat_tables(
        [table.filter(pc.is_in(table["id"], ids)) for table in map(pq.read_table, files)]
    ).sort_by("id")  # fmt: skip
    alone = alone.sort_by("id")
    assert alone["id"].equals(all_["id"])
    columns = ["outcome", "latitude", "longitude", "matched", "confidence"]
    found = Counter()
    for ours, theirs in zip(alone.select(["id", *columns]).to_pylist(), all_.to_pylist(), strict=True):
        differ = [column for column in columns if ours[column] != theirs[column]]
        found.update(differ)
        if differ and found.total() < SHOWN:
            print(ours, [theirs[column] for column in columns])
    return len(alone), found


def main():
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--records", type=int, default=10_000_000)
    options.add_argument("--files", type=int, default=64)
    options.add_argument("--distinct", type=int, default=400_000)
    options.add_argument("--reference", type=int, default=1_000_000)
    options.add_argument("--sample", type=int, default=100_000)
    wanted = options.parse_args()
    import pgserver

    with (
        TemporaryDirectory(prefix="pg-", ignore_cleanup_errors=True) as data,
        folder() as name,
        stand_in("--pace", "0") as address,
    ):
        server = pgserver.get_server(data, cleanup_mode="stop")
        place = Path(name)
        sizes = {"records": wanted.records, "files": wanted.files, "distinct": wanted.distinct}
        lay_out_register(place, server.get_uri(), **sizes, reference=wanted.reference)
        job = place / "job.toml"
        job.write_text(job.read_text().replace('["addresses.toml"]', '["addresses.toml", "stand-in.toml"]'))
        text = (DATA / "stand-in.toml").read_text().replace("per_day = 2500\n", "").replace("per_second = 40\n", "")
        (place / "stand-in.toml").write_text(re.sub(r"\[forward\.many\].*?\n\n", "", text, flags=re.DOTALL))
        (place / ".env").write_text(f"YELLOWTOR_STANDIN={address}\nYELLOWTOR_STANDIN_KEY=demo-key-0001\n")
        print(f"{wanted.records:,} records are laid out", flush=True)
        _, seconds = run(place, PROGRAM, "index", "addresses.toml")
        print(f"the index of {wanted.reference:,} addresses took {seconds:.0f} s", flush=True)
        before = time.perf_counter()
        summary, mib = whole_run(place, random.Random(3))
        print(f"{time.perf_counter() - before:.0f} s in all; largest worker {mib:.0f} MiB")
        print(json.dumps({name: summary[name] for name in ("records", "outcomes", "requests")}))
        asked = counters(address)["by_question"]
        print(f"the stand-in had {sum(asked.values()):,} questions, {len(asked):,} of them different", flush=True)
        sampled(place, wanted.sample, wanted.records)
        _, seconds = run(place, PROGRAM, "run", "alone.toml", "--json")
        count, differ = differences(place)
        print(
            f"one process placed a sample of {count:,} records in {seconds:.0f} s; different: {dict(differ) or 'none'}"
        )
        server.cleanup()


os.environ.pop("OPENBLAS_CORETYPE", None)
main()
