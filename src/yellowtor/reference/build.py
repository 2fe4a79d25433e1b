"""Builds the arrays of an index from the columns of a reference table.

Everything is done once for each different text, and with whole arrays for the rest: a million addresses have some ten
thousand names.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowtor.addresses.latin import latin
from yellowtor.addresses.parsing.countries import country_code
from yellowtor.addresses.parsing.words import words_of
from yellowtor.answers.geography.levels import Level
from yellowtor.errors import BadSource
from yellowtor.reference.areas import area_arrays
from yellowtor.reference.columns import BAD_POSITION, NAMES, RowColumns
from yellowtor.reference.hashing import code_number
from yellowtor.reference.index_files import text_arrays
from yellowtor.reference.lookup_keys import KeyTable, place_keys, street_keys
from yellowtor.reference.nearby import grid_arrays
from yellowtor.reference.places import Houses, PlaceRow, merged, own_places, places_of_houses
from yellowtor.reference.spelling import word_table
from yellowtor.reference.streets import METRES, SAME_M, UNIT, StreetGroups, group_streets

Ints = NDArray[Any]
Floats = NDArray[np.float64]
Arrays = dict[str, NDArray[Any]]
Project = Callable[[str], str]
MOST_IMPOSSIBLE = 0.01  # of the rows: more are another coordinate system
APART_M = 50.0  # one address at two places that are farther apart


@dataclass
class IndexCounts:
    """What is in an index, and what was left out of the table."""

    rows: int = 0
    addresses: int = 0
    streets: int = 0
    places: int = 0
    impossible: int = 0
    duplicates: int = 0
    two_places: int = 0
    countries: dict[str, int] = field(default_factory=dict)
    levels: dict[str, int] = field(default_factory=dict)
    left_out: dict[str, int] = field(default_factory=dict)
    examples: dict[str, list[str]] = field(default_factory=dict)


def build_index(
    rows: RowColumns, lat: Floats, lon: Floats, *, keep_repeated: bool = False, project: Project = str
) -> tuple[Arrays, IndexCounts]:
    """The arrays of the index. lat and lon are in degrees, WGS 84, one for each row that was taken in.

    keep_repeated: equal addresses at one point stay apart. project turns an area into degrees.

    Raises BadSource if there is nothing in it, or if the positions can't be degrees.
    """
    counts = IndexCounts(rows.rows, left_out=dict(rows.faults.counts), examples=dict(rows.faults.examples))
    possible = _possible(rows, lat, lon, counts)
    _check_ids(rows)
    wanted = (*NAMES, "alternatives", "id", "area", "low", "high", "level")
    columns = {name: rows.array(name)[possible] for name in wanted}
    columns["population"] = rows.array("population")[possible]
    lat, lon = lat[possible], lon[possible]
    named = _canonical_numbers(rows.texts.all, columns)
    has_street = named["street"] > 0
    houses, groups = _houses(columns, named, lat, lon, has_street, counts, keep_repeated=keep_repeated)
    own = list(
        own_places(rows, {name: c[~has_street] for name, c in columns.items()}, lat[~has_street], lon[~has_street])
    )
    derived = list(places_of_houses(_sorted_houses(columns, named, houses, groups, lat, lon)))
    places = merged(own, derived, rows.texts.all)
    counts.places = len(places)
    arrays = _street_arrays(columns, houses, groups, lat, lon) | _place_arrays(places, rows.texts.all)
    areas = [(at, rows.areas.all[number]) for at, number in enumerate(columns["area"][~has_street].tolist()) if number]
    arrays |= area_arrays([(at, project(area)) for at, area in areas])
    arrays["street_town"] = _towns_of(places, len(groups.middle))
    table = KeyTable()
    words = street_keys(table, rows.texts.all, arrays, places)
    words |= place_keys(table, rows.texts.all, places, len(groups.middle))
    _count(counts, rows.texts.all, columns, named)
    arrays["size"] = _sizes(arrays)
    arrays["key"], arrays["target"] = table.arrays(arrays["size"])
    listed = sorted(words)
    arrays["near_key"], arrays["near_word"] = word_table(listed)
    arrays["word_letters"], arrays["word_starts"] = text_arrays(listed)
    arrays["text_letters"], arrays["text_starts"] = text_arrays(rows.texts.all)
    return arrays, counts


def _possible(rows: RowColumns, lat: Floats, lon: Floats, counts: IndexCounts) -> NDArray[np.bool_]:
    """Which positions are on the globe. Raises BadSource if too few are, or none."""
    on_globe = (np.abs(lat) <= 90) & (np.abs(lon) <= 180)
    zero = (np.abs(lat) < 0.001) & (np.abs(lon) < 0.001)
    possible: NDArray[np.bool_] = on_globe & ~zero
    counts.impossible = int((~possible).sum())
    number = rows.array("row")
    if counts.impossible:
        y, x = rows.array("y"), rows.array("x")
        first = np.lexsort((on_globe, possible))[:3]  # those off the globe
        examples = [f"row {number[at]:,}: {y[at]:g}, {x[at]:g}" for at in first if not possible[at]]
        counts.examples["impossible positions"] = examples
        outside = int((~on_globe).sum())
        if outside > max(10, MOST_IMPOSSIBLE * len(lat)) or (outside and not possible.any()):
            raise BadSource(
                f"{outside:,} of {len(lat):,} positions are not on the globe, so they are not all in one coordinate "
                f'system ({"; ".join(examples)}). State it: reference.crs = "EPSG:…". No index was made.'
            )
    if not possible.any():
        reasons = ", ".join(f"{count:,} with {what}" for what, count in counts.left_out.items())
        shown = counts.examples.get(BAD_POSITION, [])
        hint = f' Such as {shown[0]}; decimal commas: reference.text = {{ decimal = "," }}.' if shown else ""
        raise BadSource(
            f"The reference has no row that can be used ({reasons or 'it is empty'}).{hint} No index was made."
        )
    return possible


def _check_ids(rows: RowColumns) -> None:
    """Raise BadSource if a row has the identifier of another one."""
    ids = rows.array("id")
    given, counts = np.unique(ids[ids > 0], return_counts=True)
    if (repeated := given[counts > 1]).size:
        first = int(repeated[0])
        where = [f"{row:,}" for row in rows.array("row")[ids == first][:3].tolist()]
        raise BadSource(
            f"{len(repeated):,} values of reference.columns.id are in several rows: {rows.texts.all[first]!r} in the "
            f"rows {', '.join(where)}. Name a column that tells rows apart, or none. No index was made."
        )


def _count(counts: IndexCounts, texts: Sequence[str], columns: Mapping[str, Ints], named: Mapping[str, Ints]) -> None:
    """Count the rows of each country and level, the most frequent first."""
    for number, count in _most(named["country"]):
        name = texts[int(columns["country"][np.flatnonzero(named["country"] == number)[0]])]
        counts.countries[country_code(name) or name] = count
    names = {level.rank: str(level) for level in Level}
    counts.levels = {names.get(rank, ""): count for rank, count in _most(columns["level"])}


def _most(numbers: Ints) -> list[tuple[int, int]]:
    found, counts = np.unique(numbers, return_counts=True)
    return sorted(zip(found.tolist(), counts.tolist(), strict=True), key=lambda pair: (-pair[1], pair[0]))[:20]


def _canonical_numbers(texts: Sequence[str], columns: Mapping[str, Ints]) -> dict[str, Ints]:
    """For each row and part, a number that spellings of one name share; 0 is an empty one."""
    found = {}
    for name in ("street", "town", "district", "postcode", "region", "country", "number"):
        used = np.unique(columns[name])
        known: dict[str, int] = {"": 0}
        number = np.zeros(len(texts), np.int32)
        for at in used.tolist():
            number[at] = known.setdefault(_canonical(name, texts[at]), len(known))
        found[name] = number[columns[name]]
    return found


def _canonical(name: str, text: str) -> str:
    if name == "country":
        return country_code(text) or " ".join(words_of(text))
    if name == "number":
        return latin(text).replace(" ", "")
    return " ".join(words_of(text))


def _houses(
    columns: Mapping[str, Ints],
    named: Mapping[str, Ints],
    lat: Floats,
    lon: Floats,
    has_street: NDArray[np.bool_],
    counts: IndexCounts,
    *,
    keep_repeated: bool,
) -> tuple[Ints, StreetGroups]:
    """The rows that are houses, as indexes into the columns without repetitions; and their streets."""
    rows = np.flatnonzero(has_street)
    names = [named[name][rows] for name in ("country", "region", "town", "street")]
    by_number = [columns["low"][rows], named["number"][rows], named["postcode"][rows]]
    first = group_streets(names, by_number, lat[rows], lon[rows])
    street = np.repeat(np.arange(len(first.middle)), np.diff(first.starts))
    order = first.order
    same = np.zeros(len(order), bool)
    same[1:] = street[1:] == street[:-1]
    for one in by_number:
        own = one[order]
        same[1:] &= own[1:] == own[:-1]
    y, x = lat[rows][order], lon[rows][order]
    apart = np.zeros(len(order))
    apart[1:] = np.hypot(np.diff(y), np.diff(x) * np.cos(np.radians(y[1:]))) * METRES
    repeated = same & (apart <= SAME_M) & (not keep_repeated)
    counts.duplicates = int(repeated.sum())
    counts.two_places = int((same & (apart > APART_M) & (columns["low"][rows][order] >= 0)).sum())
    kept = order[~repeated]
    starts = np.concatenate([[0], np.cumsum(~repeated)])[first.starts]
    counts.addresses = len(kept)
    counts.streets = len(first.middle)
    return rows, StreetGroups(kept, starts, first.middle, first.reach_m)


def _sorted_houses(
    columns: Mapping[str, Ints],
    named: Mapping[str, Ints],
    houses: Ints,
    groups: StreetGroups,
    lat: Floats,
    lon: Floats,
) -> Houses:
    rows = houses[groups.order]
    street = np.repeat(np.arange(len(groups.middle)), np.diff(groups.starts))
    texts, numbers = ({name: column[rows] for name, column in mine.items()} for mine in (columns, named))
    return Houses(texts, numbers, lat[rows], lon[rows], street)


def _street_arrays(columns: Mapping[str, Ints], houses: Ints, groups: StreetGroups, lat: Floats, lon: Floats) -> Arrays:
    rows = houses[groups.order]
    middle = houses[groups.middle]
    street = np.repeat(np.arange(len(groups.middle), dtype=np.int64), np.diff(groups.starts))
    low = columns["low"][rows]
    return {
        "street_name": columns["street"][middle].astype(np.int32),
        "street_district": columns["district"][middle].astype(np.int32),
        "street_lat": _units(lat[middle]),
        "street_lon": _units(lon[middle]),
        "street_reach": groups.reach_m.astype(np.float32),
        "house_starts": groups.starts.astype(np.int64),
        "house_key": (street << 24) + np.maximum(low, -1) + 1,
        "house_range": np.minimum(columns["high"][rows] - low, 255).astype(np.uint8),
        "house_id": columns["id"][rows].astype(np.int32) if columns["id"].any() else np.zeros(0, np.int32),
        "house_text": columns["number"][rows].astype(np.int32),
        "house_postcode": columns["postcode"][rows].astype(np.int32),
        "house_level": columns["level"][rows].astype(np.uint8),
        "house_lat": _units(lat[rows]),
        "house_lon": _units(lon[rows]),
        **grid_arrays(_units(lat[rows]), _units(lon[rows])),
    }


def _place_arrays(places: Sequence[PlaceRow], texts: Sequence[str]) -> Arrays:
    def column(name: str, kind: Any) -> NDArray[Any]:
        return np.array([getattr(place, name) for place in places], kind)

    return {
        "place_kind": column("kind", np.uint8),
        "place_level": column("level", np.uint8),
        **{f"place_{name}": column(name, np.int32)
           for name in ("name", "alternatives", "within", "region", "country", "postcode")},
        "place_code": np.array([code_number(texts[place.country]) for place in places], np.uint16),
        "place_lat": _units(column("lat", np.float64)),
        "place_lon": _units(column("lon", np.float64)),
        "place_reach": column("reach_m", np.float32),
        "place_population": column("population", np.float32),
        "place_first": np.array([place.streets[0] for place in places], np.int32),
        "place_last": np.array([place.streets[1] for place in places], np.int32),
    }  # fmt: skip


def _towns_of(places: Sequence[PlaceRow], streets: int) -> NDArray[Any]:
    """The place of each street's town; -1: its rows name none."""
    found = np.full(streets, -1, np.int32)
    for at, place in enumerate(places):
        found[place.streets[0] : place.streets[1]] = at
    return found


def _sizes(arrays: Arrays) -> NDArray[Any]:
    """How large each target is, by which namesakes are sorted: houses of a street, population of a place."""
    houses = np.diff(arrays["house_starts"]).astype(np.float64)
    places = arrays["place_population"] + (arrays["place_last"] - arrays["place_first"])
    return np.concatenate([houses, places]).astype(np.float32)


def _units(degrees: Floats) -> NDArray[np.int32]:
    return np.round(degrees * UNIT).astype(np.int32)
