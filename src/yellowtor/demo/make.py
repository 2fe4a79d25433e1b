"""Makes the demo's data from a seed: `python -m yellowtor.demo.make --seed 1 --into FOLDER`.

The folder gets the gazetteer, coast and roads, the register as a workbook, the partners' sites as SQL, the lamp posts
as a table, and truth.csv for the tests.
"""

import argparse
import csv
from pathlib import Path

from yellowtor.demo.lamps import make_lamps
from yellowtor.demo.partners import make_partners
from yellowtor.demo.register import make_register
from yellowtor.demo.workbook import write_workbook
from yellowtor.standin.gazetteer import write_gazetteer
from yellowtor.standin.world import make_world

REGISTER = "cabinets.xlsx"
LAMPS = "lamps.csv"
TRUTH = "truth.csv"
PARTNERS = ("partners.sql", "partners-later.sql")


def make(seed: int, into: Path) -> None:
    """Make all files of the demo's data in the folder."""
    world = make_world(seed)
    cabinets = make_register(world, seed)
    write_gazetteer(world, into)
    write_workbook(cabinets, into / REGISTER, f"Cabinets of the {world.countries[0][0]} Health Trust")
    for name, text in zip(PARTNERS, make_partners(world, cabinets, seed), strict=True):
        (into / name).write_text(text, encoding="utf-8")
    with (into / LAMPS).open("w", encoding="utf-8", newline="") as file:
        csv.writer(file).writerows(make_lamps(world, seed))
    with (into / TRUTH).open("w", encoding="utf-8", newline="") as file:
        write = csv.writer(file)
        write.writerow(["key", "mess", "lat", "lon", "country_code"])
        for cabinet in cabinets:
            point = cabinet.truth
            where = (point.lat, point.lon, point.country_code) if point else ("", "", "")
            write.writerow([cabinet.key, cabinet.mess, *where])


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--into", type=Path, required=True)
    chosen = parser.parse_args()
    make(chosen.seed, chosen.into)
