"""The pace: 1,000 distinct questions at 40 a second, against the ideal, with the stand-in as the judge.

python benchmarks/pace.py      takes about half a minute
"""

import json
from pathlib import Path

from common import PROGRAM, addresses, counters, folder, lay_out, run, stand_in

QUESTIONS, PACE = 1_000, 40

with folder() as name, stand_in("--pace", str(PACE)) as address:
    place = Path(name)
    lay_out(place, address, pace=PACE, parallel=8, rows=addresses(QUESTIONS))
    out, seconds = run(place, PROGRAM, "run", "job.toml", "--json")
    asked, counted = json.loads(out)["requests"], counters(address)

ideal = QUESTIONS / PACE
print(f"questions               {QUESTIONS}, requests counted by the stand-in {counted['requests']}")
print(f"refused as too fast     {counted['by_kind'].get('too fast', 0)}")
print(f"most in a rolling second {counted['most_in_a_second']} (allowed {PACE})")
print(f"asking / ideal          {asked['seconds'] / ideal:.3f}  (ideal {ideal:.1f} s)")
print(f"whole command / ideal   {seconds / ideal:.3f}")
