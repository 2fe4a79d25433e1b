"""A second run, every answer in the ledger, against the plainest pandas read, merge and write.

python benchmarks/warm.py [RECORDS …]      default 100000 1000000
"""

import sys
from itertools import cycle, islice
from pathlib import Path

from common import PROGRAM, addresses, folder, lay_out, peak_mib, run, stand_in

ROUNDS = {True: 3, False: 1}  # of up to 200,000 records, and of more
PANDAS = """
import pandas as pd
records = pd.read_csv("records.csv", dtype=str, keep_default_na=False).drop(columns=["Latitude", "Longitude"])
answers = pd.read_csv("answers.csv", dtype={"key": str})
records["key"] = records["Street"] + "|" + records["Town"] + "|" + records["Postcode"]
records.merge(answers, on="key", how="left").drop(columns="key").to_csv("merged.csv", index=False)
"""
ANSWERS = """
import pandas as pd
placed = pd.read_csv("placed.csv", dtype={"Id": str, "Postcode": str}, keep_default_na=False)
placed["key"] = placed["Street"] + "|" + placed["Town"] + "|" + placed["Postcode"]
columns = ["key", "Latitude", "Longitude", "Outcome", "Confidence", "Level", "Matched address"]
placed[columns].drop_duplicates("key").to_csv("answers.csv", index=False)
"""


def measure(count):
    with folder() as name, stand_in("--pace", "0") as address:
        place = Path(name)
        distinct = list(addresses(5_000))
        lay_out(place, address, pace=None, parallel=32, rows=islice(cycle(distinct), count))
        run(place, PROGRAM, "run", "job.toml")
        run(place, sys.executable, "-c", ANSWERS)
        run(place, PROGRAM, "run", "job.toml")
        pairs = []
        for _ in range(ROUNDS[count <= 200_000]):
            _, ours = run(place, PROGRAM, "run", "job.toml")
            _, plain = run(place, sys.executable, "-c", PANDAS)
            pairs.append((ours / plain, ours, plain))
        memory = peak_mib(place, PROGRAM, "run", "job.toml")
        size = (place / "ledger.sqlite").stat().st_size / 2**20
    ratio, ours, plain = sorted(pairs)[len(pairs) // 2]
    print(
        f"{count:>9,} records: yellowtor {ours:6.2f} s, pandas {plain:6.2f} s, ratio {ratio:.2f} (wanted: at most "
        f"1.5); peak {memory:.0f} MiB; ledger {size:.0f} MiB"
    )
    return memory


counts = [int(text) for text in sys.argv[1:]] or [100_000, 1_000_000]
peaks = [measure(count) for count in counts]
if len(peaks) > 1:
    print(f"peak memory at {counts[-1]:,} / at {counts[0]:,}: {peaks[-1] / peaks[0]:.3f} (wanted: at most 1.10)")
