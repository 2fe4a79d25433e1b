"""The pace: 3,000 distinct questions at 50 a second by one process and by eight, with the stand-in as the judge.

python benchmarks/pace.py [LEDGER]      takes about three minutes

LEDGER is the URL of a PostgreSQL to share; without it, the ledger is an SQLite file. The ideal is that of the pace's
own interval, (1 s + 15 ms) / 50, from the first arrival at the service to the last.
"""

import json
import subprocess
import sys
import urllib.request
from pathlib import Path

from common import PROGRAM, addresses, counters, folder, lay_out, stand_in

QUESTIONS, PACE = 3_000, 50


def judged(workers, ledger):
    rows = list(addresses(2 * QUESTIONS))[QUESTIONS * (workers > 1) :]  # a shared ledger knows those before
    each = QUESTIONS // workers
    with folder() as name, stand_in("--pace", str(PACE)) as address:
        places = [Path(name) / f"worker{number}" for number in range(workers)]
        for number, place in enumerate(places):
            place.mkdir()
            lay_out(place, address, pace=PACE, parallel=8, rows=rows[number * each : (number + 1) * each])
            job = (place / "job.toml").read_text()
            shared = ledger or str(Path(name) / "shared.sqlite")
            (place / "job.toml").write_text(job.replace('ledger = "ledger.sqlite"', f'ledger = "{shared}"'))
        told = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
        going = [subprocess.Popen([PROGRAM, "run", "job.toml", "--json"], cwd=place, **told) for place in places]
        sent = sum(json.loads(process.communicate()[0])["requests"]["sent"] for process in going)
        counted = counters(address)
        with urllib.request.urlopen(f"{address}/arrivals") as reply:
            arrivals = json.load(reply)
    ideal = (QUESTIONS - 1) * 1.015 / PACE
    took = arrivals[-1] - arrivals[0]
    refused = counted["by_kind"].get("too fast", 0)
    print(
        f"by {workers}: {sent} sent, {refused} refused as too fast, at most {counted['most_in_a_second']} in a second"
    )
    print(f"      asking / ideal {took / ideal:.3f}, pace used {QUESTIONS / took / PACE:.3f}", flush=True)


for workers in (1, 8):
    judged(workers, sys.argv[1] if len(sys.argv) > 1 else None)
