"""The places of a reference: rows without a street, and the towns, districts, postcodes and regions of its houses.

A place that has a row of its own takes its position from there. The others get the middle and the extent of their
houses.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from yellowtor.addresses.parsing.countries import country_code
from yellowtor.addresses.parsing.words import words_of
from yellowtor.answers.geography.levels import Level
from yellowtor.contracts.position import Position, distance_m
from yellowtor.reference.columns import RowColumns
from yellowtor.reference.csr import run_starts
from yellowtor.reference.streets import middles

Ints = NDArray[Any]
Floats = NDArray[np.float64]
SAME_PLACE_M = 30_000.0  # two rows of one name in one country so near are one place


class PlaceKind(IntEnum):
    """What sort of place it is; the number is kept in the index."""

    TOWN = 0
    DISTRICT = 1
    POSTCODE = 2
    REGION = 3


LEVEL_OF = {
    PlaceKind.TOWN: Level.ADDRESS_AREA,
    PlaceKind.DISTRICT: Level.ADDRESS_AREA,
    PlaceKind.POSTCODE: Level.POSTAL_DESCRIPTOR,
    PlaceKind.REGION: Level.ADMIN_UNIT_2,
}


NAME_OF = {
    PlaceKind.TOWN: "town",
    PlaceKind.DISTRICT: "district",
    PlaceKind.POSTCODE: "postcode",
    PlaceKind.REGION: "region",
}
PARTS = ("country", "region", "town", "district", "postcode")


NO_STREETS = (0, 0)


class PlaceRow(NamedTuple):
    """A place; its names are numbers of texts. within is the town of a district or a postcode.

    streets are the first and the last but one of the streets that are in it (of a town only).
    """

    kind: PlaceKind
    level: int
    name: int
    alternatives: int
    within: int
    region: int
    country: int
    postcode: int
    lat: float
    lon: float
    reach_m: float
    population: float
    streets: tuple[int, int] = NO_STREETS


@dataclass(frozen=True)
class Houses:
    """Rows with a street, sorted by country, region, town and street. street is the number of each row's street.

    columns are numbers of texts; named are numbers that spellings of one name share.
    """

    columns: Mapping[str, Ints]
    named: Mapping[str, Ints]
    lat: Floats
    lon: Floats
    street: Ints


def own_places(rows: RowColumns, columns: Mapping[str, Ints], lat: Floats, lon: Floats) -> Iterator[PlaceRow]:
    """The rows without a street, as places."""
    texts = rows.texts.all
    for at in range(len(lat)):
        names = {name: int(columns[name][at]) for name in ("town", "district", "postcode", "region", "country")}
        if texts[names["district"]].strip():
            kind, name, within = PlaceKind.DISTRICT, names["district"], names["town"]
        elif texts[names["town"]].strip():
            kind, name, within = PlaceKind.TOWN, names["town"], 0
        elif texts[names["postcode"]].strip():
            kind, name, within = PlaceKind.POSTCODE, names["postcode"], 0
        else:
            kind, name, within = PlaceKind.REGION, names["region"], 0
        level = int(columns["level"][at]) or LEVEL_OF[kind].rank
        yield PlaceRow(kind, level, name, int(columns["alternatives"][at]), within, names["region"], names["country"],
            names["postcode"], float(lat[at]), float(lon[at]), 0.0, float(columns["population"][at]))  # fmt: skip


def places_of_houses(houses: Houses) -> Iterator[PlaceRow]:
    """The towns, districts, postcodes and regions that the houses name."""
    column = houses.named
    by_street = np.arange(len(houses.lat))
    for kind, names in (
        (PlaceKind.TOWN, ("country", "region", "town")),
        (PlaceKind.DISTRICT, ("country", "region", "town", "district")),
        (PlaceKind.POSTCODE, ("country", "postcode")),
        (PlaceKind.REGION, ("country", "region")),
    ):
        key = column[names[-1]]
        chosen = by_street[key > 0]
        if kind is not PlaceKind.TOWN:
            chosen = chosen[np.lexsort(tuple(column[name][chosen] for name in reversed(names)))]
        if not len(chosen):
            continue
        yield from _groups(kind, [column[name] for name in names], chosen, houses)


def _groups(kind: PlaceKind, names: list[Ints], chosen: Ints, houses: Houses) -> Iterator[PlaceRow]:
    changed = np.zeros(len(chosen), bool)
    for name in names:
        own = name[chosen]
        changed[1:] |= own[1:] != own[:-1]
    starts = run_starts(np.cumsum(changed))
    ends = np.append(starts, len(chosen))
    middle, reach = middles(chosen, ends, houses.lat, houses.lon)
    first, last = houses.street[chosen[ends[:-1]]], houses.street[chosen[ends[1:] - 1]]
    for at, row in enumerate(middle.tolist()):
        text = {name: int(houses.columns[name][row]) for name in PARTS}
        yield PlaceRow(
            kind,
            LEVEL_OF[kind].rank,
            text[NAME_OF[kind]],
            0,
            text["town"] if kind in {PlaceKind.DISTRICT, PlaceKind.POSTCODE} else 0,
            text["region"],
            text["country"],
            text["postcode"] if kind is PlaceKind.POSTCODE else 0,
            float(houses.lat[row]),
            float(houses.lon[row]),
            float(reach[at]),
            0.0,
            (int(first[at]), int(last[at]) + 1) if kind is PlaceKind.TOWN else NO_STREETS,
        )


def merged(own: list[PlaceRow], derived: list[PlaceRow], texts: list[str]) -> list[PlaceRow]:
    """One place for each: a row of the table itself, with the streets of the town of its name that is near."""
    named: dict[tuple[int, tuple[str, ...]], list[int]] = {}
    for at, place in enumerate(own):
        named.setdefault((place.kind, words_of(texts[place.name])), []).append(at)
    result = list(own)
    for place in derived:
        alike = named.get((place.kind, words_of(texts[place.name])), ())
        known = next((at for at in alike if _is_same(result[at], place, texts)), None)
        if known is None or result[known].streets != NO_STREETS:
            result.append(place)
            continue
        mine = result[known]
        away = distance_m(Position(mine.lat, mine.lon), Position(place.lat, place.lon))
        result[known] = mine._replace(
            streets=place.streets,
            reach_m=min(place.reach_m + away, SAME_PLACE_M),
            region=mine.region or place.region,
            country=mine.country or place.country,
        )
    return result


def _is_same(one: PlaceRow, other: PlaceRow, texts: list[str]) -> bool:
    """Whether two rows of one name are near, and not in different regions or countries."""
    regions = [words_of(texts[place.region]) for place in (one, other) if place.region]
    countries = [country_code(text) or words_of(text) for place in (one, other) if (text := texts[place.country])]
    if len(set(regions)) > 1 or len(set(countries)) > 1:
        return False
    return distance_m(Position(one.lat, one.lon), Position(other.lat, other.lon)) <= SAME_PLACE_M
