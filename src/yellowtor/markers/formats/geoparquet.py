"""GeoParquet 1.1 (OGC): points in well-known binary, by pyarrow, many rows at a time."""

import json
import struct
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.target import Bounds, FlatProperties, InSystem, MarkerTarget

GROUP = 50_000  # markers in a row group


class GeoParquet(InSystem):
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, path: Path, target: MarkerTarget) -> None:
        import pyarrow as pa
        import pyarrow.parquet as pq

        super().__init__(target)
        self._properties = FlatProperties(target.head)
        texts = [(name, pa.string()) for name in self._properties.texts]
        numbers = [(name, pa.float64()) for name in self._properties.NUMBERS]
        self._schema = pa.schema([("geometry", pa.binary()), *texts, *numbers])
        self._writer = pq.ParquetWriter(path, self._schema, compression="snappy")
        self._columns: list[list[Any]] = [[] for _ in self._schema]
        self._bounds = Bounds()

    def _write(self, markers: Sequence[Marker], coordinates: Sequence[tuple[float, float] | None]) -> None:
        for marker, place in zip(markers, coordinates, strict=True):
            row = (self._point(place), *self._properties.cells(marker))
            for column, value in zip(self._columns, row, strict=True):
                column.append(value)
        if len(self._columns[0]) >= GROUP:
            self._write_group()

    def _write_group(self) -> None:
        import pyarrow as pa

        arrays = [pa.array(column, field.type) for column, field in zip(self._columns, self._schema, strict=True)]
        self._writer.write_table(pa.Table.from_arrays(arrays, schema=self._schema))
        self._columns = [[] for _ in self._schema]

    def _point(self, place: tuple[float, float] | None) -> bytes | None:
        if place is None:
            return None
        self._bounds.hold(*place)
        return struct.pack("<BIdd", 1, 1, *place)

    def finish(self) -> None:
        """Write the last rows and what describes them."""
        self.flush()
        if self._columns[0]:
            self._write_group()
        column: dict[str, Any] = {"encoding": "WKB", "geometry_types": ["Point"]}
        if self._bounds.box:
            column["bbox"] = self._bounds.box
        if self._target.system:
            import pyproj

            column["crs"] = pyproj.CRS.from_user_input(self._target.system).to_json_dict()
        about = {"version": "1.1.0", "primary_column": "geometry", "columns": {"geometry": column}}
        said = {"geo": json.dumps(about), "title": self._target.head.title, "attribution": self._target.attribution}
        self._writer.add_key_value_metadata(said)

    def close(self) -> None:
        """Close the file."""
        self._writer.close()


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[GeoParquet]:
    """Write the rows."""
    with written_aside(target.path, like=target.like) as aside:
        made = GeoParquet(aside, target)
        try:
            yield made
            made.finish()
        finally:
            made.close()
