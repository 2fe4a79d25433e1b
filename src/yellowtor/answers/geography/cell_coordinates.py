"""Coordinates as people keep them in tables: read where their meaning is certain, and what is wrong said.

Latitude and longitude in degrees, WGS 84, by the grammar of coordinate_text: decimal degrees, and degrees with minutes
and seconds as in ISO 6709 annex D (47°30′15″N); hemispheres by N, S, E, W.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from yellowtor.answers.geography.coordinate_text import Angle, read_angle, read_number, read_pair
from yellowtor.contracts.position import Area, Position, is_null_island


class Finding(StrEnum):
    """What is wrong with the coordinates that a record has."""

    COMMA = "a decimal comma"
    SEXAGESIMAL = "degrees, minutes and seconds"
    SWAPPED = "latitude and longitude swapped"
    OUTSIDE = "outside the job's area"
    NO_NUMBER = "no numbers"
    HALF = "one of the two missing"
    RANGE = "off the globe"
    ZERO = "0,0"
    OURS = "those that we wrote for another record, now judged like all that we wrote"

    @property
    def is_certain(self) -> bool:
        """Whether the position is certain in spite of it, and can be repaired."""
        return self in {Finding.COMMA, Finding.SEXAGESIMAL, Finding.SWAPPED}


@dataclass(frozen=True, slots=True)
class CellCoordinates:
    """The position that a record has (None: none that can be believed), and what is wrong with how it says so."""

    position: Position | None = None
    finding: Finding | None = None


NOTHING = CellCoordinates()
WGS84 = 4326  # EPSG
SPECIAL = "_nN"  # of what float() takes: 1_000, nan, infinity


def read_coordinates(lat: str, lon: str, decimal: str = ".", area: Area | None = None) -> CellCoordinates:
    """What two cells say. decimal is the mark that the source writes its numbers with; area where the records lie."""
    lat = lat.strip()
    lon = lon.strip()
    if not lat and not lon:
        return NOTHING
    if not lat or not lon:
        return CellCoordinates(None, Finding.HALF)
    north = read_number(lat, decimal)
    east = read_number(lon, decimal)
    if north is not None and east is not None:
        return _placed(north, east, None, area)
    read = _by_words(lat, lon)
    return _placed(*read[0], read[1], area) if read else CellCoordinates(None, Finding.NO_NUMBER)


def read_place(text: str) -> CellCoordinates:
    """The position that a text is, in any notation of coordinate_text, with a decimal point or a decimal comma.

    Latitude comes first, unless the text itself says otherwise (hemispheres, WKT). The finding is what is wrong with a
    text that is not accepted: swapped sides are, too, for nothing shows which is meant.
    """
    pair = read_pair(text) or read_pair(text, ",")
    if pair is None or pair.srid not in {None, WGS84}:
        return CellCoordinates(None, Finding.NO_NUMBER)
    is_wkt = bool(re.match(r"\s*(SRID|POINT)\b", text, re.IGNORECASE))
    if is_wkt or pair.axes == ("lon", "lat"):
        return _placed(pair.second, pair.first, None, None)
    return _placed(pair.first, pair.second, None, None)


def read_positions(
    lats: Sequence[str], lons: Sequence[str], decimal: str, area: Area | None
) -> tuple[list[Position | None], list[Finding | None]]:
    """As read_coordinates() for many records: their positions, and what is wrong with each."""
    full = [at for at, (lat, lon) in enumerate(zip(lats, lons, strict=True)) if lat and lon]
    plain = None if area else _plain_degrees([lats[at] for at in full], [lons[at] for at in full], decimal)
    if plain is None:
        read = [read_coordinates(lat, lon, decimal, area) for lat, lon in zip(lats, lons, strict=True)]
        return [held.position for held in read], [held.finding for held in read]
    findings: list[Finding | None] = [None] * len(lats)
    if len(full) == len(lats):
        return [*plain], findings
    positions: list[Position | None] = [None] * len(lats)
    for at, position in zip(full, plain, strict=True):
        positions[at] = position
    for at in set(range(len(lats))).difference(full):
        findings[at] = read_coordinates(lats[at], lons[at]).finding
    return positions, findings


def _plain_degrees(lats: Sequence[str], lons: Sequence[str], decimal: str) -> list[Position] | None:
    """The positions, if all are plain degrees with which nothing is wrong, as most are; else None."""
    together = "".join([*lats, *lons])
    if decimal != "." or not together.isascii() or any(mark in together for mark in SPECIAL):
        return None
    try:
        norths = list(map(float, lats))
        easts = list(map(float, lons))
    except ValueError:
        return None
    if max(map(abs, norths), default=0) > 90 or max(map(abs, easts), default=0) > 180:
        return None
    if min(map(abs, norths), default=1) < 1 and any(map(is_null_island, norths, easts)):
        return None
    return list(map(Position._make, zip(norths, easts, strict=True)))


def _placed(lat: float, lon: float, finding: Finding | None, area: Area | None) -> CellCoordinates:
    straight = _position(lat, lon)
    if straight and straight.is_null_island:
        return CellCoordinates(None, Finding.ZERO)
    if straight and (area is None or area.holds(straight)):
        return CellCoordinates(straight, finding)
    swapped = _position(lon, lat)
    if swapped and (area.holds(swapped) if area else straight is None):
        return CellCoordinates(swapped, Finding.SWAPPED)
    return CellCoordinates(straight, Finding.OUTSIDE) if straight else CellCoordinates(None, Finding.RANGE)


def _position(lat: float, lon: float) -> Position | None:
    try:
        return Position(lat, lon)
    except ValueError:
        return None


def _by_words(lat: str, lon: str) -> tuple[tuple[float, float], Finding] | None:
    """Numbers with the other decimal mark, or angles with their hemispheres; None where neither is certain."""
    north = _either(lat)
    east = _either(lon)
    if north is None or east is None:
        return None
    if north.plain and east.plain:
        return (north.value, east.value), Finding.COMMA
    if (north.axis, east.axis) == ("lon", "lat"):
        return (east.value, north.value), Finding.SWAPPED
    if north.axis == "lon" or east.axis == "lat":
        return None
    return (north.value, east.value), Finding.SEXAGESIMAL


def _either(text: str) -> Angle | None:
    """The angle that a text is, with a decimal point or a decimal comma."""
    return read_angle(text) or read_angle(text, ",")
