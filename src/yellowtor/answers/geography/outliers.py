"""Finds positions far from all others of a job, often with latitude and longitude swapped.

A position is far if its distance to the centre is several times the distance of three quarters of them.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from statistics import median

from yellowtor.contracts.position import Area, Position, distance_m

LEAST = 5  # positions from which on there is a middle that can be believed
TIMES = 5  # as far from the middle as three quarters of them
LEAST_M = 100_000.0


@dataclass(frozen=True)
class Cluster:
    """Where most positions lie: their middle, and metres from it from which on a position is far from all of them."""

    middle: Position
    reach_m: float

    def is_far(self, position: Position) -> bool:
        return distance_m(self.middle, position) > self.reach_m

    def holds_swapped(self, position: Position) -> bool:
        """Whether a position would lie among the others if latitude and longitude were swapped."""
        try:
            return not self.is_far(Position(position.lon, position.lat))
        except ValueError:
            return False


def cluster_of(positions: Sequence[Position], least_m: float = LEAST_M) -> Cluster | None:
    """Where most of these positions lie; None where there are too few to tell. Nothing nearer than least_m is far."""
    if len(positions) < LEAST:
        return None
    middle = _middle(positions)
    distances = sorted(distance_m(middle, position) for position in positions)
    return Cluster(middle, max(least_m, TIMES * distances[3 * len(distances) // 4]))


def area_of(positions: Sequence[Position]) -> Area | None:
    """A box, in whole tenths of a degree, around those of these positions that are not far from the others."""
    cluster = cluster_of(positions)
    if cluster is None:
        return None
    near = [position for position in positions if not cluster.is_far(position)]
    east = [(position.lon - cluster.middle.lon + 180) % 360 - 180 for position in near]
    south = min(position.lat for position in near)
    north = max(position.lat for position in near)
    room = max(0.1, (north - south) / 4, (max(east) - min(east)) / 4)
    west_end = min(east) - room
    east_end = max(east) + room
    if east_end - west_end >= 360:
        west = -180.0
        right = 180.0
    else:
        west, right = (_wrapped(cluster.middle.lon + end) for end in (west_end, east_end))
    return Area(
        math.floor(west * 10) / 10,
        max(-90.0, math.floor((south - room) * 10) / 10),
        math.ceil(right * 10) / 10,
        min(90.0, math.ceil((north + room) * 10) / 10),
    )


def _middle(positions: Sequence[Position]) -> Position:
    """The median of latitudes, and of longitudes relative to where most of them are (180° is no edge)."""
    east = sum(math.cos(math.radians(position.lon)) for position in positions)
    north = sum(math.sin(math.radians(position.lon)) for position in positions)
    origin = math.degrees(math.atan2(north, east))
    lon = median((position.lon - origin + 180) % 360 - 180 for position in positions)
    return Position(median(position.lat for position in positions), _wrapped(origin + lon))


def _wrapped(lon: float) -> float:
    return (lon + 180) % 360 - 180
