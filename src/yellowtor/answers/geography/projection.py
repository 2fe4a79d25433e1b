"""Points in another coordinate system than WGS 84, and as databases keep them."""

import struct
from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Degrees = NDArray[np.float64]

Point = tuple[float, float]  # latitude and longitude, degrees, WGS 84


class Projection:
    """Turns points into another system's eastings and northings (EPSG code), by PROJ, its network off.

    Raises ValueError for a code that PROJ does not know.
    """

    def __init__(self, code: str) -> None:
        try:
            import pyproj
        except ImportError as error:
            raise ValueError("needs pyproj: pip install 'yellowtor[crs]'") from error
        pyproj.network.set_network_enabled(active=False)  # type: ignore[attr-defined]
        try:
            crs = pyproj.CRS.from_user_input(code)
            self._transformer = pyproj.Transformer.from_crs("EPSG:4326", crs, always_xy=True)
        except pyproj.exceptions.ProjError as error:
            raise ValueError(f"{code!r} is not a coordinate system that PROJ knows, such as EPSG:3857") from error
        self._decimals = 7 if crs.is_geographic else 3  # a millimetre, or a centimetre's worth of degrees

    def project(self, points: Sequence[Point]) -> list[tuple[float, float]]:
        """Easting and northing of each point, in the system's units (metres or degrees, mostly).

        NaN where the system does not reach.
        """
        if not points:
            return []
        x, y = self._transformer.transform([lon for _, lon in points], [lat for lat, _ in points])
        return [(round(e, self._decimals), round(n, self._decimals)) for e, n in zip(x, y, strict=True)]

    def degrees(self, north: float, east: float) -> Point:
        """Latitude and longitude of a northing and an easting; not finite where the system does not reach."""
        lon, lat = self._transformer.transform(east, north, direction="INVERSE")
        return lat, lon

    def all_degrees(self, norths: "NDArray[np.float64]", easts: "NDArray[np.float64]") -> "tuple[Degrees, Degrees]":
        """Latitudes and longitudes of many points; infinite where the system does not reach."""
        lon, lat = self._transformer.transform(easts, norths, direction="INVERSE")
        return lat, lon

    def area_in_degrees(self, area: str) -> str:
        """An area (well-known binary in hexadecimal) of this system in degrees, longitude first."""
        import shapely

        def turned(corners: "NDArray[np.float64]") -> "NDArray[np.float64]":
            lat, lon = self.all_degrees(corners[:, 1], corners[:, 0])
            corners[:, 0], corners[:, 1] = lon, lat
            return corners

        return shapely.to_wkb(shapely.transform(shapely.from_wkb(area), turned), hex=True)


def ewkb(lat: float, lon: float) -> str:
    """A point as extended well-known binary in hexadecimal, little-endian, SRID 4326: as PostGIS writes it."""
    return struct.pack("<BIIdd", 1, 0x20000001, 4326, lon, lat).hex().upper()
