"""A layer of points in a GeoPackage 1.3 (OGC 12-128r17), by SQLite itself."""

import sqlite3
import struct
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager

from yellowtor.contracts.marker import Marker
from yellowtor.errors import BadJob, BadSource
from yellowtor.files import written_aside
from yellowtor.markers.target import Bounds, FlatProperties, InSystem, MarkerTarget

APPLICATION = 0x47504B47  # GPKG
VERSION = 10300
LAYER = "markers"
GEOMETRY = "geom"
TABLES = """
CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER PRIMARY KEY, organization TEXT NOT NULL,
    organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL, description TEXT);
CREATE TABLE gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL, identifier TEXT UNIQUE,
    description TEXT DEFAULT '', last_change DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')),
    min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
    CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE gpkg_geometry_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL,
    geometry_type_name TEXT NOT NULL, srs_id INTEGER NOT NULL, z TINYINT NOT NULL, m TINYINT NOT NULL,
    CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name), CONSTRAINT uk_gc_table_name UNIQUE (table_name),
    CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
    CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
"""
WGS_84 = (
    'GEOGCS["WGS 84",DATUM["World Geodetic System 1984",SPHEROID["WGS 84",6378137,298.257223563,'
    'AUTHORITY["EPSG","7030"]],'
    'AUTHORITY["EPSG","6326"]],PRIMEM["Greenwich",0,AUTHORITY["EPSG","8901"]],UNIT["degree",0.0174532925199433,'
    'AUTHORITY["EPSG","9122"]],AUTHORITY["EPSG","4326"]]'
)
SYSTEMS = (
    ("Undefined Cartesian", -1, "NONE", -1, "undefined", None),
    ("Undefined geographic", 0, "NONE", 0, "undefined", None),
    ("WGS 84", 4326, "EPSG", 4326, WGS_84, "longitude and latitude in degrees"),
)
NO_TIME = "1970-01-01T00:00:00.000Z"  # equal markers make equal bytes


class GeoPackage(InSystem):
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, base: sqlite3.Connection, target: MarkerTarget) -> None:
        super().__init__(target)
        self._base = base
        self._properties = FlatProperties(target.head)
        self._srs = int(target.system.partition(":")[2] or 4326)
        self._bounds = Bounds()
        texts = [_quoted(name) for name in self._properties.texts]
        numbers = [_quoted(name) for name in self._properties.NUMBERS]
        columns = ", ".join([*(f"{name} TEXT" for name in texts), *(f"{name} REAL" for name in numbers)])
        base.executescript(TABLES)
        base.execute(f"CREATE TABLE {LAYER} (fid INTEGER PRIMARY KEY, {GEOMETRY} POINT, {columns})")
        names = [GEOMETRY, *texts, *numbers]
        marks = ", ".join("?" * len(names))
        self._insert = f"INSERT INTO {LAYER} ({', '.join(names)}) VALUES ({marks})"  # noqa: S608 - quoted

    def _write(self, markers: Sequence[Marker], coordinates: Sequence[tuple[float, float] | None]) -> None:
        pairs = zip(markers, coordinates, strict=True)
        self._base.executemany(
            self._insert, [(self._blob(place), *self._properties.cells(marker)) for marker, place in pairs]
        )

    def _blob(self, place: tuple[float, float] | None) -> bytes | None:
        """A point as GeoPackageBinary (clause 2.1.3): a header without envelope, and well-known binary."""
        if place is None:
            return None
        self._bounds.hold(*place)
        return struct.pack("<2sBBiBIdd", b"GP", 0, 1, self._srs, 1, 1, *place)

    def finish(self) -> None:
        """Write what describes the layer."""
        self.flush()
        bounds: Sequence[float | None] = self._bounds.box or [None] * 4
        systems = [*SYSTEMS] if self._srs == 4326 else [*SYSTEMS, _system(self._target.system)]
        self._base.executemany("INSERT INTO gpkg_spatial_ref_sys VALUES (?, ?, ?, ?, ?, ?)", systems)
        head = (LAYER, "features", LAYER, self._target.attribution, NO_TIME, *bounds, self._srs)
        self._base.execute("INSERT INTO gpkg_contents VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", head)
        row = (LAYER, GEOMETRY, "POINT", self._srs, 0, 0)
        self._base.execute("INSERT INTO gpkg_geometry_columns VALUES (?, ?, ?, ?, ?, ?)", row)


def _system(code: str) -> tuple[object, ...]:
    """A coordinate system as the file lists it. Raises BadJob for one that has no form in WKT 1."""
    import pyproj

    crs = pyproj.CRS.from_user_input(code)
    number = int(code.partition(":")[2])
    try:
        return crs.name, number, "EPSG", number, crs.to_wkt("WKT1_GDAL"), None
    except pyproj.exceptions.CRSError as error:
        raise BadJob(f"markers.system: a GeoPackage can't have {code}: {error}.") from error


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[GeoPackage]:
    """Write the layer."""
    with written_aside(target.path, like=target.like) as aside, closing(sqlite3.connect(aside)) as base:
        try:
            base.executescript(f"PRAGMA application_id = {APPLICATION}; PRAGMA user_version = {VERSION}")
            base.execute("PRAGMA synchronous = OFF")  # it replaces the old file only when it is complete
            base.execute("PRAGMA journal_mode = OFF")
            made = GeoPackage(base, target)
            yield made
            made.finish()
            base.commit()
        except sqlite3.Error as error:
            raise BadSource(f"{target.path} can't be written: {error}.") from error
