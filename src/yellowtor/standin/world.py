"""Makes a made-up archipelago from a seed: two countries, islands, towns, streets, address points.

It is in open ocean around 47.5 N 28.5 W. Its country codes are from ISO 3166's user-assigned range. All names are
composed of syllables. A seed always makes the same world.
"""

import math
import random
from collections.abc import Iterator
from dataclasses import dataclass, field

CENTRE = (47.5, -28.5)
METRES_PER_DEGREE = 111_195.0
ISLANDS = 7
TOWNS_PER_ISLAND = 4
STREETS_PER_TOWN = 13
TWINS = 5  # towns that share their name with one in the other country

_HEADS = [
    "Ulv",
    "Vesk",
    "Thør",
    "Quil",
    "Bræn",
    "Skel",
    "Ijm",
    "Zhel",
    "Marr",
    "Ørl",
    "Dunv",
    "Fjell",
    "Grøl",
    "Hask",
    "Jorv",
    "Kelm",
    "Løv",
    "Nymr",
    "Ostr",
    "Pell",
    "Råv",
    "Svel",
]
_MIDDLES = ["", "", "", "e", "a", "in", "o"]
_TAILS = [
    "vík",
    "nessa",
    "holt",
    "mærk",
    "sund",
    "berga",
    "tarn",
    "ound",
    "wick",
    "lô",
    "fjara",
    "stead",
    "havn",
    "dûn",
    "mere",
]
_STREET_HEADS = [
    "Kelp",
    "Lantern",
    "Harbour",
    "Gannet",
    "Anchor",
    "Beacon",
    "Cooper",
    "Driftwood",
    "Eider",
    "Ferry",
    "Granary",
    "Heron",
    "Jetty",
    "Lobster",
    "Mariner",
    "Nettle",
    "Oyster",
    "Pilot",
    "Quay",
    "Ropewalk",
    "Saltpan",
    "Tanner",
    "Upper",
    "Vestry",
    "Weaver",
    "Chandler",
    "Bellows",
    "Cormorant",
    "Dyer",
    "Signal",
    "Ørlun",
    "Sævik",
    "Thistle",
    "Turbine",
    "Windlass",
    "Cask",
    "Barley",
    "Smokehouse",
    "Puffin",
    "Tarrock",
]
_STREET_TAILS = ["Lane", "Street", "Road", "Terrace", "Rise", "Steps", "Row", "Avenue"]


@dataclass(frozen=True, slots=True)
class AddressPoint:
    """One address with its true position in degrees, WGS 84."""

    number: str
    street: str
    town: str
    postcode: str
    region: str
    country: str
    country_code: str
    lat: float
    lon: float


@dataclass(frozen=True)
class Town:
    name: str
    region: str
    country: str
    country_code: str
    lat: float
    lon: float
    population: int


@dataclass
class Island:
    name: str
    lat: float
    lon: float
    waves: list[tuple[float, float]]
    radius_m: float

    def reach_m(self, angle: float) -> float:
        """From the middle to the coast in this direction, in metres."""
        shape = sum(a * math.sin((n + 2) * angle + phase) for n, (a, phase) in enumerate(self.waves))
        return self.radius_m * (1 + shape)

    def at(self, angle: float, metres: float) -> tuple[float, float]:
        return offset(self.lat, self.lon, metres * math.cos(angle), metres * math.sin(angle))

    def coast(self) -> list[list[float]]:
        """A closed ring, counter-clockwise as RFC 7946 wants it, [longitude, latitude]."""
        ring = [self.at(a, self.reach_m(a)) for a in (i * math.tau / 180 for i in range(180))]
        return [[round(lon, 5), round(lat, 5)] for lat, lon in [*ring, ring[0]]]


@dataclass
class World:
    """All that the generator made. Roads are lists of [longitude, latitude]."""

    seed: int
    countries: list[tuple[str, str]]
    islands: list[Island] = field(default_factory=list)
    towns: list[Town] = field(default_factory=list)
    points: list[AddressPoint] = field(default_factory=list)
    roads: list[list[list[float]]] = field(default_factory=list)


def offset(lat: float, lon: float, east_m: float, north_m: float) -> tuple[float, float]:
    """The position this many metres to the east and north."""
    return lat + north_m / METRES_PER_DEGREE, lon + east_m / (METRES_PER_DEGREE * math.cos(math.radians(lat)))


def make_world(seed: int) -> World:
    """The world of this seed."""
    dice = random.Random(seed)
    names = _names(dice)
    countries = [(f"{next(names)} Isles", "XT"), (f"Greater {next(names)}", "QO")]
    world = World(seed, countries)
    shared: list[str] = []
    for number in range(ISLANDS):
        first = number < (ISLANDS + 1) // 2
        country = countries[0] if first else countries[1]
        island = _island(dice, number, next(names))
        world.islands.append(island)
        towns = []
        for place in _places(dice, island):
            twin = not first and shared and dice.random() < 0.6
            name = shared.pop() if twin else next(names)
            people = int(dice.uniform(20_000, 60_000) if twin else dice.lognormvariate(8, 0.8))
            towns.append(Town(name, island.name, *country, *place, people))
        if first:
            shared += [town.name for town in towns[:2]][: max(0, TWINS - len(shared))]
        world.towns += towns
        world.roads += list(_roads(dice, towns))
        for town in towns:
            world.points += _streets(dice, town, len(world.points))
    return world


def _names(dice: random.Random) -> Iterator[str]:
    """Names without end, none twice."""
    used: set[str] = set()
    while True:
        name = dice.choice(_HEADS) + dice.choice(_MIDDLES) + dice.choice(_TAILS)
        if name not in used:
            used.add(name)
            yield name


def _island(dice: random.Random, number: int, name: str) -> Island:
    angle = number * math.tau / ISLANDS + 2.2
    lat, lon = offset(*CENTRE, 48_000 * math.cos(angle), 34_000 * math.sin(angle))
    waves = [(dice.uniform(0.03, 0.16) / (n + 1) ** 0.5, dice.uniform(0, math.tau)) for n in range(7)]
    return Island(name, lat, lon, waves, dice.uniform(9_500, 13_000))


def _places(dice: random.Random, island: Island) -> list[tuple[float, float]]:
    """Where an island's towns lie: apart from each other, inside the coast."""
    turn = dice.uniform(0, math.tau)
    places = []
    for i in range(TOWNS_PER_ISLAND):
        angle = turn + i * math.tau / TOWNS_PER_ISLAND + dice.uniform(-0.3, 0.3)
        places.append(island.at(angle, island.reach_m(angle) * dice.uniform(0.5, 0.72)))
    return places


def _roads(dice: random.Random, towns: list[Town]) -> Iterator[list[list[float]]]:
    for here, there in zip(towns, [*towns[1:], towns[0]], strict=True):
        line = []
        wide = dice.uniform(-900, 900)
        wave = dice.uniform(-400, 400)
        for step in range(25):
            t = step / 24
            bend = math.sin(t * math.pi) * wide + math.sin(t * 2 * math.pi) * wave
            lat = here.lat + (there.lat - here.lat) * t
            lon = here.lon + (there.lon - here.lon) * t
            lat, lon = offset(lat, lon, bend, -bend)
            line.append([round(lon, 5), round(lat, 5)])
        yield line


def _streets(dice: random.Random, town: Town, before: int) -> list[AddressPoint]:
    """The streets of a town, crossing each other on a turned grid, and the doors along them."""
    turn = dice.uniform(0, math.pi)
    heads = dice.sample(_STREET_HEADS, STREETS_PER_TOWN)
    points: list[AddressPoint] = []
    codes = [_postcode(dice, town, before, part) for part in range(2)]
    for number, head in enumerate(heads):
        across = number % 2
        shift = (number // 2 - STREETS_PER_TOWN / 4) * 95
        angle = turn + across * math.pi / 2
        name = f"{head} {dice.choice(_STREET_TAILS)}"
        for label, along, side in _doors(dice):
            east = along * math.cos(angle) - (shift + side) * math.sin(angle)
            north = along * math.sin(angle) + (shift + side) * math.cos(angle)
            lat, lon = offset(town.lat, town.lon, east, north)
            code = codes[0] if number < STREETS_PER_TOWN // 2 else codes[1]
            points.append(
                AddressPoint(
                    label,
                    name,
                    town.name,
                    code,
                    town.region,
                    town.country,
                    town.country_code,
                    round(lat, 6),
                    round(lon, 6),
                )
            )
    return points


def _doors(dice: random.Random) -> Iterator[tuple[str, float, float]]:
    """House numbers, metres along the street and to its side: odd ones left, even ones right, some missing."""
    along = -330.0
    for number in range(1, dice.randint(32, 40)):
        along += dice.uniform(7, 12) + (9 if number % 2 else 0)
        side = (11 if number % 2 else -11) + dice.uniform(-2, 2)
        if number > 3 and dice.random() < 0.06:
            continue
        yield str(number), along, side
        if dice.random() < 0.05:
            for suffix in "AB"[: dice.randint(1, 2)]:
                yield f"{number}{suffix}", along + 3 * (1 + (suffix == "B")), side * 1.6


def _postcode(dice: random.Random, town: Town, before: int, part: int) -> str:
    """Five digits with zeros in front in the one country, a digit, a letter E and a digit in the other."""
    order = 2 * (before // 400) + part
    if town.country_code == "XT":
        return f"{100 + order * 13 + dice.randint(0, 5):05d}"
    return f"{1 + order % 9}E{dice.randint(0, 9)}"
