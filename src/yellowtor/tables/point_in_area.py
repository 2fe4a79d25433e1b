"""Geometries of rows that are read only: a point inside, and the area as well-known binary in hexadecimal."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from shapely.geometry.base import BaseGeometry

AREA = "geometry.area"  # the column


def point_and_area(shape: "BaseGeometry") -> tuple[str, str, str]:
    """Latitude and longitude (or northing and easting) of a point inside; the area, empty for points and lines."""
    import shapely

    if shape.is_empty:
        return "", "", ""
    point = shape if isinstance(shape, shapely.Point) else shape.representative_point()
    is_area = shape.geom_type in {"Polygon", "MultiPolygon"}
    return repr(point.y), repr(point.x), shapely.to_wkb(shape, hex=True) if is_area else ""
