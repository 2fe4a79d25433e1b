"""A position on the globe, and the distance between two."""

import math
from typing import NamedTuple, Self

EARTH_RADIUS_M = 6_371_008.8  # mean radius R1 of the IUGG
WRITTEN_DECIMALS = 6  # of a degree, in the coordinates that we write: 0.11 m at the equator


class _LatLon(NamedTuple):
    lat: float
    lon: float


class Position(_LatLon):
    """A point in degrees, WGS 84. Raises ValueError outside the globe. It is a tuple because that is quick to make."""

    __slots__ = ()

    def __new__(cls, lat: float, lon: float) -> Self:
        if not (-90 <= lat <= 90 and -180 <= lon <= 180):
            raise ValueError(f"latitude {lat}, longitude {lon} is not on the globe")
        return tuple.__new__(cls, (lat, lon))

    @property
    def is_null_island(self) -> bool:
        """Whether this is 0,0 (within about 100 m), which some services return for an unknown address."""
        return is_null_island(self.lat, self.lon)

    def rounded(self) -> "Position":
        """The position at the precision of the coordinates that we write."""
        return Position(round(self.lat, WRITTEN_DECIMALS), round(self.lon, WRITTEN_DECIMALS))


def is_null_island(lat: float, lon: float) -> bool:
    """Whether this is 0,0, within about 100 m."""
    return abs(lat) < 0.001 and abs(lon) < 0.001


def distance_m(one: Position, other: Position) -> float:
    """Great-circle distance in metres (haversine on the mean sphere; at most 0.6 % off the ellipsoid)."""
    lat1 = math.radians(one.lat)
    lat2 = math.radians(other.lat)
    half = math.sin((lat2 - lat1) / 2) ** 2
    half += math.cos(lat1) * math.cos(lat2) * math.sin(math.radians(other.lon - one.lon) / 2) ** 2
    return 2 * EARTH_RADIUS_M * math.asin(min(1.0, math.sqrt(half)))


def length(metres: float) -> str:
    """Metres as people say them."""
    return f"{metres / 1000:.1f} km" if metres >= 1000 else f"{metres:.0f} m"


class Area(NamedTuple):
    """A box in degrees in the order of RFC 7946 section 5: west, south, east, north; may cross 180°."""

    west: float
    south: float
    east: float
    north: float

    def holds(self, position: Position) -> bool:
        if not self.south <= position.lat <= self.north:
            return False
        if self.west <= self.east:
            return self.west <= position.lon <= self.east
        return position.lon >= self.west or position.lon <= self.east

    def radius_m(self) -> float:
        """Half the diagonal, in metres."""
        return distance_m(Position(self.south, self.west), Position(self.north, self.east)) / 2
