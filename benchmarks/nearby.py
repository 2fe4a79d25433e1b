"""The nearest of a million points: the time of a query once the index is built, and that of measuring all of them.

python benchmarks/nearby.py [POINTS]      default 1000000
"""

import random
import sys
import time

import numpy as np
from pyproj import Geod

from yellowtor.answers.geography.nearest import NearestPoints
from yellowtor.contracts.position import Position

QUERIES = 200


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    chance = random.Random(1)
    points = [Position(chance.gauss(48, 2), chance.gauss(5, 3)) for _ in range(count)]
    began = time.perf_counter()
    index = NearestPoints(points)
    built = time.perf_counter() - began
    lats, lons = np.array(points).T
    geod = Geod(ellps="WGS84")
    worst = total = whole = 0.0
    for n, here in enumerate(chance.sample(points, QUERIES)):
        began = time.perf_counter()
        found = index.near(here, 5)
        took = time.perf_counter() - began
        worst = max(worst, took)
        total += took
        if n < 3:
            began = time.perf_counter()
            metres = geod.inv(np.full(count, here.lon), np.full(count, here.lat), lons, lats)[2]
            whole = max(whole, time.perf_counter() - began)
            assert np.allclose(np.sort(metres)[:5], [one.metres for one in found], atol=1e-6)
    each = total / QUERIES * 1000
    print(
        f"{count:,} points, built in {built:.1f} s: a query takes {each:.2f} ms (worst {worst * 1000:.1f}, wanted: 10)"
    )
    print(f"measuring all takes {whole * 1000:.0f} ms")


if __name__ == "__main__":
    main()
