"""GeoJSON geometries (RFC 7946) other than points: a point inside, and the greatest distance to the edge."""

from collections.abc import Mapping
from typing import Any, NamedTuple

from yellowtor.answers.geography.levels import Level
from yellowtor.contracts.position import Position, distance_m

MOST_VERTICES = 100_000


class Inside(NamedTuple):
    """A point on the geometry (latitude, longitude, degrees) and its farthest corner, in metres; is_line: a street."""

    lat: float
    lon: float
    reach_m: float
    is_line: bool = False


def point_inside(geometry: Mapping[str, Any]) -> Inside | str:
    """A point on a geometry and its reach; in words, why there is none."""
    if geometry.get("type") == "Point":
        coordinates = geometry.get("coordinates")
        if isinstance(coordinates, list) and len(coordinates) >= 2 and all(map(_is_number, coordinates[:2])):
            return Inside(float(coordinates[1]), float(coordinates[0]), 0.0)
        return "a Point without two numbers"
    try:
        import shapely
    except ImportError:
        return f"a {geometry.get('type')}, which needs: pip install 'yellowtor[geometry]'"
    try:
        shape = shapely.geometry.shape(dict(geometry))
        if shape.is_empty or shapely.get_num_coordinates(shape) > MOST_VERTICES:
            return f"a {geometry.get('type')} that is empty or has too many corners"
        point = shape.representative_point()
        west, south, east, north = shape.bounds
        here = Position(point.y, point.x)
        corners = [Position(lat, lon) for lat in (south, north) for lon in (west, east)]
    except Exception as error:  # noqa: BLE001 - whatever stands there, the library says so in its own ways
        return f"a geometry that is none ({type(error).__name__})"
    reach_m = max(distance_m(here, corner) for corner in corners)
    return Inside(here.lat, here.lon, reach_m, is_line="Line" in shape.geom_type)


def coarsened(level: Level | None, found: Inside) -> Level | None:
    """The level of a point that represents a geometry: not finer than the size of the geometry."""
    if level is None or not found.reach_m:
        return level
    finest = Level.SEGMENT if found.is_line and level.rank < Level.SEGMENT.rank else level
    fits = (one for one in Level if one.rank >= finest.rank and one.reach_m >= found.reach_m)
    return next(fits, Level.ADMIN_UNIT_1)


def _is_number(value: Any) -> bool:
    return type(value) in {int, float}
