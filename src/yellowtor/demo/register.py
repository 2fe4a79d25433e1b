"""The register of the demo: what a health trust knows of its defibrillator cabinets, mess and all.

Made from a world by a seed, with the truth of each row beside it. Nothing here is real.
"""

import random
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date, timedelta

from yellowtor.standin.world import AddressPoint, World

MESS = {
    "clean": 112,
    "same address": 18,
    "typo": 20,
    "abbreviation": 18,
    "blanks": 12,
    "no postcode": 14,
    "no accents": 12,
    "number behind": 8,
    "no town": 5,
    "no such number": 8,
    "twin town": 10,
    "twin street": 5,
    "named place": 4,
    "nowhere": 5,
    "has coordinates": 8,
}

_SITES = [
    "Ferry hall",
    "Library",
    "School gate",
    "Harbour office",
    "Swimming bath",
    "Chandlery",
    "Town hall",
    "Bus shelter",
    "Boat house",
    "Market",
    "Lighthouse store",
    "Sports ground",
    "Post counter",
    "Health centre",
    "Net loft",
    "Village shop",
    "Fish dock",
    "Chapel",
]
_NOTES = (
    "Left of the door",
    "Code 1E5 at the gate",
    "=behind the counter, ask",
    "Open day and night",
    "Key at no. 00412",
    "Under the stairs",
    "-",
    "@ reception",
    "Heated cabinet",
    "",
)
_CUT = {"Street": "St", "Road": "Rd.", "Lane": "Ln", "Avenue": "Ave", "Terrace": "Ter."}


@dataclass(frozen=True)
class Cabinet:
    """One row of the register as text, with the true point (or None)."""

    key: str
    name: str
    street: str
    town: str
    postcode: str
    notes: str
    checked: date
    latitude: float | None
    longitude: float | None
    mess: str
    truth: AddressPoint | None


def make_register(world: World, seed: int) -> list[Cabinet]:
    """About 250 cabinets, all in the first of the two countries."""
    dice = random.Random(seed * 7919 + 1)
    home = world.countries[0][1]
    points = [p for p in world.points if p.country_code == home]
    order = [mess for mess, count in MESS.items() for _ in range(count)]
    dice.shuffle(order)
    twins = {t.name for t in world.towns if t.country_code != home}
    made: list[Cabinet] = []
    names = _sites(dice)
    for number, mess in enumerate(order, 1):
        point = dice.choice(points)
        if mess.startswith("twin"):
            point = dice.choice([p for p in points if p.town in twins])
        if mess == "same address" and (clean := [c for c in made if c.mess in {"clean", "same address"}]):
            other = dice.choice(clean)
            assert other.truth is not None
            point = other.truth
        cabinet = _cabinet(dice, number, point, next(names))
        made.append(_spoil(dice, cabinet, mess, _neighbours(world, point)))
    return made


def _sites(dice: random.Random) -> Iterator[str]:
    while True:
        yield dice.choice(_SITES)


def _cabinet(dice: random.Random, number: int, point: AddressPoint, site: str) -> Cabinet:
    return Cabinet(
        key=f"C-{number:03d}",
        name=f"{site}, {point.town}",
        street=f"{point.number} {point.street}",
        town=point.town,
        postcode=point.postcode,
        notes=dice.choice(_NOTES),
        checked=date(2026, 1, 5) + timedelta(days=dice.randint(0, 290)),
        latitude=None,
        longitude=None,
        mess="clean",
        truth=point,
    )


@dataclass(frozen=True)
class _Neighbours:
    """The surroundings of a point: the numbers of its street, the streets of the town of the same name abroad."""

    numbers: frozenset[str]
    streets_abroad: tuple[str, ...]


def _neighbours(world: World, point: AddressPoint) -> _Neighbours:
    here = [p for p in world.points if p.town == point.town]
    home = {p.street for p in here if p.country_code == point.country_code}
    abroad = {p.street for p in here if p.country_code != point.country_code} - home
    numbers = frozenset(p.number for p in here if (p.street, p.region) == (point.street, point.region))
    return _Neighbours(numbers, tuple(sorted(abroad)))


def _spoil(dice: random.Random, cabinet: Cabinet, mess: str, near: _Neighbours) -> Cabinet:
    """The row as somebody typed it."""
    row = replace(cabinet, mess=mess)
    number, street = row.street.split(" ", 1)
    head, tail = street.rsplit(" ", 1)
    match mess:
        case "typo":
            return replace(row, street=f"{number} {_typo(dice, head)} {tail}")
        case "abbreviation":
            return replace(row, street=f"{number} {head} {_CUT.get(tail, tail)}")
        case "blanks":
            return replace(row, street=f" {number}   {head}\u00a0{tail} ", town=f"{row.town}  ")
        case "no postcode" | "twin town":
            return replace(row, postcode="")
        case "no accents":
            return replace(row, street=_flat(row.street), town=_flat(row.town))
        case "number behind":
            return replace(row, street=f"{street} {number}")
        case "no town":
            return replace(row, town="")
    return _misplace(dice, row, mess, near)


def _misplace(dice: random.Random, row: Cabinet, mess: str, near: _Neighbours) -> Cabinet:
    """The row with an address that does not exist, or with its own coordinates."""
    point = row.truth
    assert point is not None
    number, street = row.street.split(" ", 1)
    match mess:
        case "no such number":
            missing = [str(n) for n in range(3, 30) if str(n) not in near.numbers] if dice.random() < 0.5 else []
            wrong = dice.choice(missing or [str(dice.randint(140, 390))])
            return replace(row, street=f"{wrong} {street}", truth=None)
        case "twin street":
            return replace(row, street=f"{number} {dice.choice(near.streets_abroad)}", postcode="", truth=None)
        case "named place":
            return replace(row, street=dice.choice(_SITES), truth=None)
        case "nowhere":
            return replace(row, street=f"{number} Zwark Prospect", town="Xyphoria", postcode="", truth=None)
        case "has coordinates":
            lat = point.lat + dice.uniform(-2e-5, 2e-5)
            lon = point.lon + dice.uniform(-2e-5, 2e-5)
            return replace(row, latitude=round(lat, 5), longitude=round(lon, 5))
    return row


def _typo(dice: random.Random, word: str) -> str:
    """Two letters swapped, one left out or one doubled; never the first."""
    at = dice.randint(1, len(word) - 2)
    kind = dice.randrange(3)
    if kind == 0 and word[at] != word[at + 1]:
        return word[:at] + word[at + 1] + word[at] + word[at + 2 :]
    return word[:at] + word[at + 1 :] if kind == 1 else word[:at] + word[at] + word[at:]


def _flat(text: str) -> str:
    for accented, flat in zip(
        "íôûøæåÍÔÛØÆÅ", ["i", "o", "u", "o", "ae", "a", "I", "O", "U", "O", "Ae", "A"], strict=True
    ):
        text = text.replace(accented, flat)
    return text
