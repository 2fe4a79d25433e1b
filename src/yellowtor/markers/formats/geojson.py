"""GeoJSON (RFC 7946), streamed: a FeatureCollection, or a sequence of features (RFC 8142). [longitude, latitude]."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import BinaryIO

import orjson

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.target import MarkerTarget, Properties, lon_lat

SEPARATOR = b"\x1e"  # before each text of a sequence (RFC 8142, section 2)
SEQUENCE = ".geojsons"


class GeoJson:
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: BinaryIO, target: MarkerTarget) -> None:
        self._write = file.write
        self._properties = Properties(target.head).of
        self._without_position = target.without_position
        self._decimals = target.decimals
        self._is_sequence = target.ending == SEQUENCE
        self._before = SEPARATOR if self._is_sequence else b"\n"
        self._after = b"\n" if self._is_sequence else b""

    def add(self, marker: Marker) -> None:
        """Write the feature of a marker."""
        properties = self._properties(marker)
        if marker.position is None:
            if not self._without_position:
                return
            geometry = None
        else:
            geometry = {"type": "Point", "coordinates": lon_lat(marker, self._decimals)}
            if marker.before:
                properties["moved_from"] = (marker.before.lon, marker.before.lat)
        feature = {"type": "Feature", "id": marker.key, "geometry": geometry, "properties": properties}
        self._write(self._before + orjson.dumps(feature) + self._after)
        if not self._is_sequence:
            self._before = b",\n"


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[GeoJson]:
    """Write the features; `attribution` is a foreign member of the collection (RFC 7946 section 6.1)."""
    with written_aside(target.path, like=target.like) as aside, aside.open("wb") as file:
        made = GeoJson(file, target)
        if target.ending == SEQUENCE:
            yield made
            return
        credit = {"attribution": target.attribution} if target.attribution else {}
        head = {"type": "FeatureCollection", "title": target.head.title, **credit}
        file.write(orjson.dumps(head)[:-1] + b',"features":[')
        yield made
        file.write(b"\n]}\n")
