"""GeoJSON files that a job draws under its markers."""

import json
from pathlib import Path
from typing import Any

from yellowtor.errors import BadJob


def read_layer(path: Path) -> Any:
    """A GeoJSON file. Raises BadJob when it isn't one."""
    if path.exists() and not path.is_file():
        raise BadJob(f"{path}, which the job draws under its markers, is not a regular file.")
    try:
        layer = json.loads(path.read_text(encoding="utf-8-sig"))
    except (OSError, ValueError, RecursionError) as error:
        said = getattr(error, "strerror", None) or error
        raise BadJob(f"{path}, which the job draws under its markers, can't be read: {said}.") from error
    if not isinstance(layer, dict) or layer.get("type") not in {"FeatureCollection", "Feature"}:
        raise BadJob(f"{path}, which the job draws under its markers, is not GeoJSON.")
    if wrong := _wrong_in(layer):
        raise BadJob(f"{path}, which the job draws under its markers: {wrong}.")
    return layer


def _wrong_in(layer: Any) -> str:
    """What is wrong with the geometries of a layer (RFC 7946, section 3.1); empty where nothing is."""
    features = layer.get("features") if layer["type"] == "FeatureCollection" else [layer]
    if not isinstance(features, list):
        return "its features are not a list"
    for number, feature in enumerate(features, 1):
        geometries: list[Any] = [feature.get("geometry") if isinstance(feature, dict) else ""]
        while geometries:
            geometry = geometries.pop()
            if geometry is None:
                continue
            kind = geometry.get("type") if isinstance(geometry, dict) else None
            if kind == "GeometryCollection" and isinstance(geometry.get("geometries"), list):
                geometries += geometry["geometries"]
            elif kind not in DEPTHS:
                return f"feature {number} has no geometry that is known"
            elif not _are_positions(geometry.get("coordinates"), DEPTHS[kind]):
                return f"feature {number} has coordinates that are not longitude and latitude in degrees"
    return ""


def _are_positions(value: Any, depth: int) -> bool:
    """Whether this is a list of lists, so deep, of positions: longitude and latitude, and perhaps a height."""
    if depth:
        return isinstance(value, list) and all(_are_positions(inner, depth - 1) for inner in value)
    numbers = isinstance(value, list) and all(isinstance(n, int | float) and not isinstance(n, bool) for n in value)
    return numbers and len(value) >= 2 and -360 <= value[0] <= 360 and -90 <= value[1] <= 90


# How deeply positions are nested in lists.
DEPTHS = {"Point": 0, "MultiPoint": 1, "LineString": 1, "MultiLineString": 2, "Polygon": 2, "MultiPolygon": 3}
