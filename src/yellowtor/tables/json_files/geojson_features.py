"""The features of a GeoJSON file (RFC 7946) of any geometry, to be read only: a point inside each, and its area."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from yellowtor.errors import BadSource
from yellowtor.tables.json_files.json_records import LATITUDE, LONGITUDE, GeoJsonTable, flat
from yellowtor.tables.point_in_area import AREA, point_and_area


class GeoJsonFeatures(GeoJsonTable):
    """Features as rows; an area is well-known binary in hexadecimal (AREA). Raises BadSource."""

    always: Sequence[str] = (LATITUDE, LONGITUDE, AREA)

    def __init__(self, path: Path) -> None:
        super().__init__(path, None)

    def _record(self, value: Any, number: int) -> dict[str, Any]:
        geometry = value.get("geometry") if isinstance(value, dict) else None
        if not isinstance(geometry, dict) or geometry.get("type") in {"Point", None}:
            return super()._record(value, number)
        import shapely

        try:
            shape = shapely.geometry.shape(_numbers(geometry))
        except (shapely.errors.ShapelyError, ValueError, TypeError, AttributeError, KeyError, IndexError) as error:
            raise BadSource(
                f"{self.name}: feature {number} is not valid by RFC 7946 ({error}). Nothing was sent."
            ) from error
        own = {"id": value["id"]} if "id" in value else {}
        lat, lon, area = point_and_area(shape)
        return {**own, **flat(value.get("properties") or {}), LATITUDE: lat, LONGITUDE: lon, AREA: area}


def _numbers(value: Any) -> Any:
    """Coordinates as numbers: the reader keeps decimals as texts."""
    if isinstance(value, dict):
        return {name: inner if name == "type" else _numbers(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return [_numbers(inner) for inner in value]
    return float(value)
