"""The demo's second source: the sites of the trust's partners in a database, and edits overnight.

It is SQL text, made from a world by a seed. Some addresses are those of the register. Nothing is real.
"""

import random
from collections.abc import Sequence

from yellowtor.demo.register import Cabinet
from yellowtor.standin.world import AddressPoint, World

SITES = 48
KINDS = ("Pharmacy", "Dentist", "Care home", "Surgery", "Optician", "Day centre")
TABLE = """CREATE TABLE sites (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  street TEXT,
  town TEXT,
  postcode TEXT,
  closed_on TEXT,
  lat REAL,
  lon REAL
);
"""


def make_partners(world: World, cabinets: Sequence[Cabinet], seed: int) -> tuple[str, str]:
    """Two texts of SQL: one that makes the table, one that changes it."""
    dice = random.Random(seed * 104_729 + 5)
    home = [p for p in world.points if p.country_code == world.countries[0][1]]
    shared = [c.truth for c in cabinets if c.mess == "clean" and c.truth][: SITES // 3]
    places = [*shared, *dice.sample(home, SITES - len(shared) + 4)]
    rows = [_insert(number, dice.choice(KINDS), point) for number, point in enumerate(places[:SITES], 1)]
    rows += [
        _change(number, lat=round(p.lat, 5), lon=round(p.lon, 5))
        for number in (7, 19, 31)
        for p in [places[number - 1]]
    ]
    rows.append(_change(40, closed_on="2026-06-30"))
    new = [_insert(SITES + n, dice.choice(KINDS), point) for n, point in enumerate(places[SITES : SITES + 2], 1)]
    moved = places[SITES + 2]
    same = places[24]
    later = [
        *new,
        _change(22, street=_street(moved), town=moved.town, postcode=moved.postcode),
        _change(25, street=_street(same).upper()),
        _change(33, closed_on="2026-11-01"),
        "DELETE FROM sites WHERE id = 44;",
    ]
    return TABLE + "\n".join(rows) + "\n", "\n".join(later) + "\n"


def _insert(number: int, kind: str, point: AddressPoint) -> str:
    cells: list[str | float] = [number, f"{kind} {point.town}", _street(point), point.town, point.postcode]
    return f"INSERT INTO sites (id, name, street, town, postcode) VALUES ({', '.join(map(_cell, cells))});"  # noqa: S608


def _change(number: int, **cells: str | float) -> str:
    new = ", ".join(f"{column} = {_cell(cell)}" for column, cell in cells.items())
    return f"UPDATE sites SET {new} WHERE id = {number};"  # noqa: S608


def _street(point: AddressPoint) -> str:
    return f"{point.number} {point.street}"


def _cell(cell: str | float) -> str:
    return "'" + cell.replace("'", "''") + "'" if isinstance(cell, str) else str(cell)
