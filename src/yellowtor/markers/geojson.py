"""GeoJSON (RFC 7946): a feature for each record that has a point, streamed, [longitude, latitude]."""

import json
from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import IO, Any

from yellowtor.files import written_aside
from yellowtor.markers.target import MarkerTarget

PROPERTIES = ("key", "name", "outcome", "asked", "matched", "level", "confidence", "basis", "reasons")


class GeoJson:
    """Takes records one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: IO[str]) -> None:
        self._file = file
        self._between = "\n"

    def add(self, record: Mapping[str, Any]) -> None:
        if record["lat"] is None:
            return
        feature = {
            "type": "Feature",
            "id": record["key"],
            "geometry": {"type": "Point", "coordinates": [record["lon"], record["lat"]]},
            "properties": {name: record[name] for name in PROPERTIES},
        }
        self._file.write(self._between + json.dumps(feature, ensure_ascii=False))
        self._between = ",\n"


@contextmanager
def geojson_file(path: Path, attribution: str, like: Path | None = None) -> Iterator[GeoJson]:
    """Write a FeatureCollection to path; `attribution` is a foreign member (RFC 7946 section 6.1).

    Its readers are those of the file `like`.
    """
    with written_aside(path, like=like) as aside, aside.open("w", encoding="utf-8") as file:
        head = {"type": "FeatureCollection", **({"attribution": attribution} if attribution else {})}
        file.write(json.dumps(head, ensure_ascii=False)[:-1] + ', "features": [')
        yield GeoJson(file)
        file.write("\n]}\n")


def open_file(target: MarkerTarget) -> AbstractContextManager[GeoJson]:
    """The marker file of a job."""
    return geojson_file(target.path, target.attribution, target.like)
