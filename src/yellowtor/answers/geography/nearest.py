"""The nearest of many points: a k-d tree on the unit sphere finds them, and geodesics on the ellipsoid measure them.

Distances are those of the geodesic on WGS 84 (C. F. F. Karney, "Algorithms for geodesics", 2013), by PROJ. The chord on
the sphere only chooses who is measured; it is right across the date line and at the poles.
"""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from yellowtor.contracts.position import EARTH_RADIUS_M, Position
from yellowtor.errors import BadJob

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

FLATTENED = 1.01  # a geodesic is at most 0.6 % longer or shorter than the arc on the mean sphere
MOST = 0.99  # of half the way round: beyond, the chord says little


class Near(NamedTuple):
    """A point by its place in the list, and its distance in metres."""

    at: int
    metres: float


class NearestPoints:
    """An index of points. Raises BadJob without SciPy and pyproj."""

    def __init__(self, points: Sequence[Position]) -> None:
        try:
            import numpy as np
            from pyproj import Geod
            from scipy.spatial import cKDTree
        except ModuleNotFoundError as error:
            raise BadJob(f"Distances need {error.name}: pip install 'yellowtor[nearby]'. Nothing was sent.") from error
        self._degrees = np.array(points, dtype=float).reshape(-1, 2)
        self._tree: Any = cKDTree(_on_sphere(self._degrees))
        self._geod = Geod(ellps="WGS84")

    def near(self, here: Position, count: int, within_m: float | None = None, *, but: int | None = None) -> list[Near]:
        """The nearest points, the nearest first, at most count of them; no farther than within_m.

        but is the place of a point that does not count: itself.
        """
        import numpy as np

        total = len(self._degrees)
        if total == 0 or count < 1:
            return []
        vector = _on_sphere(np.array([here], dtype=float))[0]
        chords, _ = self._tree.query(vector, k=min(count + 1, total))
        reach = min(_chord(_arc(float(np.max(chords))) * FLATTENED**2), 2.0)
        if within_m is not None:
            reach = min(reach, _chord(within_m * FLATTENED))
        places = np.array(self._tree.query_ball_point(vector, reach + 1e-12), dtype=int)
        places = places[places != but] if but is not None else places
        metres = self._metres(here, places)
        order = np.lexsort((places, metres))[:count]
        found = [Near(int(places[n]), float(metres[n])) for n in order]
        return [one for one in found if within_m is None or one.metres <= within_m]

    def _metres(self, here: Position, places: "NDArray[np.int_]") -> "NDArray[np.float64]":
        import numpy as np

        if len(places) == 0:
            return np.zeros(0)
        there = self._degrees[places]
        lons = np.full(len(places), here.lon)
        lats = np.full(len(places), here.lat)
        _, _, metres = self._geod.inv(lons, lats, there[:, 1], there[:, 0])
        return np.asarray(metres)


def _on_sphere(degrees: "NDArray[np.float64]") -> "NDArray[np.float64]":
    """Unit vectors of latitudes and longitudes."""
    import numpy as np

    lat, lon = np.radians(degrees[:, 0]), np.radians(degrees[:, 1])
    return np.column_stack((np.cos(lat) * np.cos(lon), np.cos(lat) * np.sin(lon), np.sin(lat)))


def _arc(chord: float) -> float:
    """Metres on the mean sphere of a chord of the unit sphere."""
    return 2 * EARTH_RADIUS_M * math.asin(min(1.0, chord / 2))


def _chord(metres: float) -> float:
    """The chord of an arc; 2 from half the way round on."""
    turn = metres / EARTH_RADIUS_M
    return 2.0 if turn >= MOST * math.pi else 2 * math.sin(turn / 2)
