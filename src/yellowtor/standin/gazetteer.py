"""The stand-in's gazetteer on disk: two small files of comma-separated values, and GeoJSON to draw on."""

import csv
import gzip
import io
import json
from dataclasses import astuple, fields
from pathlib import Path
from typing import Any

from yellowtor.standin.world import AddressPoint, Town, World

POINTS = "addresses.csv.gz"
TOWNS = "towns.csv"
COAST = "coast.geojson"
ROADS = "roads.geojson"


def write_gazetteer(world: World, folder: Path) -> None:
    """Write the four files; the same world gives the same bytes."""
    folder.mkdir(parents=True, exist_ok=True)
    text = io.StringIO()
    csv.writer(text).writerows([[f.name for f in fields(AddressPoint)], *map(astuple, world.points)])
    (folder / POINTS).write_bytes(gzip.compress(text.getvalue().encode(), 9, mtime=0))
    with (folder / TOWNS).open("w", encoding="utf-8", newline="") as file:
        csv.writer(file).writerows([[f.name for f in fields(Town)], *map(astuple, world.towns)])
    shapes = [_feature({"type": "Polygon", "coordinates": [i.coast()]}, i.name) for i in world.islands]
    roads = [_feature({"type": "LineString", "coordinates": line}, "main road") for line in world.roads]
    for name, features in ((COAST, shapes), (ROADS, roads)):
        collection = {"type": "FeatureCollection", "features": features}
        (folder / name).write_text(json.dumps(collection, ensure_ascii=False) + "\n", encoding="utf-8")


def _feature(geometry: dict[str, Any], name: str) -> dict[str, Any]:
    return {"type": "Feature", "geometry": geometry, "properties": {"name": name}}


def read_gazetteer(folder: Path) -> tuple[list[AddressPoint], list[Town]]:
    """The address points and towns of a gazetteer folder."""
    with gzip.open(folder / POINTS, "rt", encoding="utf-8", newline="") as file:
        rows = csv.reader(file)
        next(rows)
        points = [AddressPoint(*row[:7], float(row[7]), float(row[8])) for row in rows]  # type: ignore[arg-type, call-arg]
    with (folder / TOWNS).open(encoding="utf-8", newline="") as file:
        rows = csv.reader(file)
        next(rows)
        towns = [Town(*row[:4], float(row[4]), float(row[5]), int(row[6])) for row in rows]  # type: ignore[arg-type, call-arg]
    return points, towns
