"""The features of a GeoPackage (OGC 12-128r17) as rows, to be read only: a point for each, in degrees or as stored."""

import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from yellowtor.contracts.table import Row
from yellowtor.errors import BadSource
from yellowtor.tables.cells import as_text
from yellowtor.tables.json_files.json_records import LATITUDE, LONGITUDE
from yellowtor.tables.point_in_area import AREA, point_and_area

BATCH = 5_000
ENVELOPES = (0, 32, 48, 48, 64)  # bytes, by the indicator in the flags (clause 2.1.3)


class GeoPackageRows:
    """The features of a layer (default: the only one). crs is their coordinate system, such as EPSG:4326.

    Raises BadSource.
    """

    decimal = "."

    def __init__(self, path: Path, layer: str | None = None) -> None:
        self.name = str(path)
        if not path.is_file():
            raise BadSource(f"There is no file {path}. Nothing was sent.")
        self._database = sqlite3.connect(f"file:{path}?mode=ro", uri=True)
        try:
            layers = self._layers()
            if layer is None and len(layers) != 1:
                raise BadSource(f"{path} has {len(layers)} layers ({', '.join(layers)}): name one as table.")
            self._layer = layer or next(iter(layers))
            if self._layer not in layers:
                raise BadSource(f"{path} has no layer {self._layer!r} (it has: {', '.join(layers)}). Nothing was sent.")
            self._geometry, self.crs = layers[self._layer]
            columns = [row[1] for row in self._database.execute(f"PRAGMA table_info({_quoted(self._layer)})")]
        except sqlite3.Error as error:
            raise BadSource(f"{path} is not a GeoPackage that can be read: {error}. Nothing was sent.") from error
        self._columns = [column for column in columns if column != self._geometry]
        self.header = [*self._columns, LATITUDE, LONGITUDE, AREA]

    def batches(self) -> Iterator[Sequence[Row]]:
        """The features, some thousands at a time."""
        names = ", ".join(map(_quoted, [*self._columns, self._geometry]))
        try:
            cursor = self._database.execute(f"SELECT {names} FROM {_quoted(self._layer)}")  # noqa: S608 - quoted
            while rows := cursor.fetchmany(BATCH):
                yield [[*map(as_text, row[:-1]), *_point(row[-1])] for row in rows]
        except sqlite3.Error as error:
            raise BadSource(f"{self.name} can't be read: {error}. Nothing was kept.") from error

    def _layers(self) -> dict[str, tuple[str, str]]:
        """The geometry column and the coordinate system of each layer."""
        found = self._database.execute(
            "SELECT g.table_name, g.column_name, s.organization, s.organization_coordsys_id "
            "FROM gpkg_geometry_columns g JOIN gpkg_spatial_ref_sys s ON s.srs_id = g.srs_id"
        )
        return {table: (column, f"{organization}:{code}") for table, column, organization, code in found}


def _point(blob: Any) -> tuple[str, str, str]:
    """The point that a geometry has or contains, and its area; empty texts if there is none."""
    if not isinstance(blob, bytes) or len(blob) < 8 or blob[:2] != b"GP":
        return "", "", ""
    import shapely

    flags = blob[3]
    size = (flags >> 1) & 7
    if flags & 0x10 or size >= len(ENVELOPES):
        return "", "", ""
    try:
        return point_and_area(shapely.from_wkb(blob[8 + ENVELOPES[size] :]))
    except (shapely.errors.ShapelyError, ValueError, AttributeError):
        return "", "", ""


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
