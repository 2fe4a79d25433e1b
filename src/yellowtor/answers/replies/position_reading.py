"""Positions, boxes and numbers in a reply: read completely, or refused with the text quoted."""

import math
from typing import Any

from yellowtor.answers.geography.coordinate_text import read_angle, read_number, read_pair
from yellowtor.answers.geography.geometry import point_inside
from yellowtor.answers.replies.reading_rules import Reading
from yellowtor.contracts.position import Area, Position, is_null_island

FARTHEST = 1e9  # of a coordinate, in whatever units
QUOTED = 60  # characters of a text that can't be read
WGS84 = 4326  # EPSG


def read_position(reading: Reading, item: Any) -> Position | str:
    """The position in this part of a reply, or why there is none."""
    if reading.latitude is not None and reading.longitude is not None:
        found = (reading.latitude(item), reading.longitude(item))
        lat, lon = found
        if type(lat) is not float or type(lon) is not float or reading.scale != 1:
            lat = _coordinate(reading, lat, "lat")
            lon = _coordinate(reading, lon, "lon")
    elif reading.position is not None:
        found = reading.position(item)
        if isinstance(found, dict):
            inside = point_inside(found)
            if isinstance(inside, str):
                return f"{inside} is not a position: skipped"
            lat, lon = inside[:2]
        else:
            lat, lon = _pair(reading, found)
    else:
        return "the description names no position"
    if lat is None or lon is None:
        return _unread(found)
    return _on_the_globe(reading, lat, lon)


def _on_the_globe(reading: Reading, lat: float, lon: float) -> Position | str:
    """The position with these coordinates in the units of the reply, or why there is none."""
    if reading.to_degrees:
        if not (-FARTHEST < lat < FARTHEST and -FARTHEST < lon < FARTHEST):
            return f"the position {lat:g}, {lon:g} is not on the globe: skipped"
        if not lat and not lon:
            return "the position 0,0 is not an answer: skipped"
        lat, lon = reading.to_degrees(lat, lon)
    try:
        position = Position(lat, lon)
    except ValueError as error:
        return f"{error}: skipped"
    return "the position 0,0 is not an answer: skipped" if is_null_island(lat, lon) else position


def _unread(found: Any) -> str:
    """Why a value is not a position."""
    if found is None or found in ((None, None), "", ("", "")):
        return "a place without a position was skipped"
    text = ", ".join(map(str, found)) if isinstance(found, tuple) else str(found)
    quoted = f"{text[:QUOTED]}…" if len(text) > QUOTED else text
    return f"{quoted!r} can't be read as a position: skipped"


def _pair(reading: Reading, value: Any) -> tuple[float | None, float | None]:
    """Latitude and longitude from an array of two or more, or from a text; None for what is neither."""
    first_axis, second_axis = ("lon", "lat") if reading.lon_first else ("lat", "lon")
    if isinstance(value, list) and len(value) >= 2:
        first = _coordinate(reading, value[0], first_axis)
        second = _coordinate(reading, value[1], second_axis)
    elif isinstance(value, str) and (pair := read_pair(value, reading.decimal)):
        if pair.srid not in {None, reading.epsg or WGS84} or not (pair.plain or _is_degrees(reading)):
            return None, None
        first, second = (pair.first / reading.scale, pair.second / reading.scale) if pair.plain else pair[:2]
        first_axis = pair.axes[0] if pair.axes else first_axis
    else:
        return None, None
    return (second, first) if first_axis == "lon" else (first, second)


def _coordinate(reading: Reading, value: Any, axis: str) -> float | None:
    """One coordinate in degrees (or the units of the coordinate system): a number, or the text of an angle."""
    if type(value) is str:
        angle = read_angle(value, reading.decimal)
        if angle is None or angle.axis not in {"", axis} or not (angle.plain or _is_degrees(reading)):
            return None
        return angle.value / reading.scale if angle.plain else angle.value
    number = plain_number(value, reading.decimal)
    return None if number is None else number / reading.scale


def _is_degrees(reading: Reading) -> bool:
    """Whether positions may have marks of degrees and hemispheres."""
    return reading.to_degrees is None and reading.scale == 1


def plain_number(value: Any, decimal: str = ".") -> float | None:
    """The number that a value is, or says in text; None for a truth, and for what is not finite."""
    if type(value) is str:
        value = read_number(value, decimal)
    if type(value) is int and abs(value) < 2**63:
        value = float(value)
    return value if type(value) is float and -math.inf < value < math.inf else None


def read_box(reading: Reading, item: Any) -> Area | None:
    sides = [get(item) for get in reading.box]
    if len(sides) == 1 and type(sides[0]) is list:
        sides = sides[0]
    if len(sides) != 4:
        return None
    if not (type(sides[0]) is type(sides[1]) is type(sides[2]) is type(sides[3]) is float):
        sides = [plain_number(side, reading.decimal) for side in sides]
        if None in sides:
            return None
    if reading.scale != 1:
        sides = [side / reading.scale for side in sides]
    west, south, east, north = sides
    if not (-90 <= south <= north <= 90 and -180 <= west <= 180 and -180 <= east <= 180):
        return None
    return Area(west, south, east, north)
