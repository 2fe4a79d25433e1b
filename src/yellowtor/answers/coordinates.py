"""Coordinates as people keep them in tables: read where their meaning is certain, and what is wrong said.

Latitude and longitude in degrees, WGS 84. Decimal degrees, and degrees with minutes and seconds as in ISO 6709
annex D (47°30′15″N); hemispheres by N, S, E, W.
"""

import re
from dataclasses import dataclass
from enum import StrEnum

from yellowtor.answers.position import Area, Position, is_null_island, written


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
        """Whether it is certain all the same which position is meant: it can be repaired."""
        return self in {Finding.COMMA, Finding.SEXAGESIMAL, Finding.SWAPPED}


@dataclass(frozen=True, slots=True)
class Held:
    """The position that a record has (None: none that can be believed), and what is wrong with how it says so."""

    position: Position | None = None
    finding: Finding | None = None


NOTHING = Held()
_ANGLE = re.compile(
    r"""(?P<front>[NSEW])?\s*(?P<sign>[+-])?\s*(?P<degrees>\d{1,3}(?:[.,]\d+)?)\s*(?:[°º]|\bdeg\b|(?=\s|:|$|[NSEW]))
    (?:[\s:]*(?P<minutes>\d{1,2}(?:[.,]\d+)?)\s*(?:['′’]|:|\bmin\b|(?=\s|$|[NSEW])))?
    (?:[\s:]*(?P<seconds>\d{1,2}(?:[.,]\d+)?)\s*(?:["″”]|''|′′|\bsec\b|(?=\s|$|[NSEW])))?
    \s*(?P<back>[NSEW])?""",
    re.VERBOSE | re.IGNORECASE,
)


def read_coordinates(lat: str, lon: str, decimal: str = ".", area: Area | None = None) -> Held:
    """What two cells say. decimal is the mark that the source writes its numbers with; area where the records lie."""
    lat, lon = lat.strip(), lon.strip()
    if not lat and not lon:
        return NOTHING
    if not lat or not lon:
        return Held(None, Finding.HALF)
    try:
        return _placed(_number(lat, decimal), _number(lon, decimal), None, area)
    except ValueError:
        read = _by_words(lat, lon)
    return _placed(*read[0], read[1], area) if read else Held(None, Finding.NO_NUMBER)


def written_coordinates(lat: str, lon: str, decimal: str, area: Area | None) -> tuple[str | None, Finding | None]:
    """What two cells say, as read_coordinates() has it: the position as it would be written, and what is wrong."""
    if decimal == "." and area is None:
        try:  # most are plain degrees
            north, east = float(lat), float(lon)
        except ValueError:
            pass
        else:
            if -90 <= north <= 90 and -180 <= east <= 180 and not is_null_island(north, east):
                return written(north, east), None
    held = read_coordinates(lat, lon, decimal, area)
    return held.position.written() if held.position else None, held.finding


def _placed(lat: float, lon: float, finding: Finding | None, area: Area | None) -> Held:
    straight = _position(lat, lon)
    if straight and straight.is_null_island:
        return Held(None, Finding.ZERO)
    if straight and (area is None or area.holds(straight)):
        return Held(straight, finding)
    swapped = _position(lon, lat)
    if swapped and (area.holds(swapped) if area else straight is None):
        return Held(swapped, Finding.SWAPPED)
    return Held(straight, Finding.OUTSIDE) if straight else Held(None, Finding.RANGE)


def _position(lat: float, lon: float) -> Position | None:
    try:
        return Position(lat, lon)
    except ValueError:
        return None


def _number(text: str, decimal: str) -> float:
    return float(text if decimal == "." else text.replace(decimal, "."))


def _by_words(lat: str, lon: str) -> tuple[tuple[float, float], Finding] | None:
    """Numbers with the other decimal mark, or angles with their hemispheres; None where neither is certain."""
    if all(re.fullmatch(r"[+-]?\d+(?:[.,]\d+)?", text.replace("−", "-")) for text in (lat, lon)):
        north, east = (float(text.replace("−", "-").replace(",", ".")) for text in (lat, lon))
        return (north, east), Finding.COMMA
    north_south, east_west = _angle(lat), _angle(lon)
    if north_south is None or east_west is None:
        return None
    (first, axis), (second, other) = north_south, east_west
    if (axis, other) == ("lon", "lat"):
        return (second, first), Finding.SWAPPED
    if axis == "lon" or other == "lat":
        return None
    return (first, second), Finding.SEXAGESIMAL


def _angle(text: str) -> tuple[float, str] | None:
    """Degrees, and which axis their hemisphere names ("" where none does)."""
    found = _ANGLE.fullmatch(text.replace("−", "-"))
    if found is None or (found["front"] and found["back"]):
        return None
    degrees, minutes, seconds = (float((found[name] or "0").replace(",", ".")) for name in _PARTS)
    if minutes >= 60 or seconds >= 60 or (found["seconds"] and not found["minutes"]):
        return None
    hemisphere = (found["front"] or found["back"] or "").upper()
    if hemisphere and found["sign"]:
        return None
    size = degrees + minutes / 60 + seconds / 3600
    axis = {"N": "lat", "S": "lat", "E": "lon", "W": "lon"}.get(hemisphere, "")
    return (-size if hemisphere in {"S", "W"} or found["sign"] == "-" else size), axis


_PARTS = ("degrees", "minutes", "seconds")
