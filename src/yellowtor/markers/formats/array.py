"""A JSON array of objects, one in a line, for a page of one's own: latitude and longitude, or x and y of a system."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import BinaryIO

import orjson

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.target import InSystem, MarkerTarget, Properties


class JsonArray(InSystem):
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: BinaryIO, target: MarkerTarget) -> None:
        super().__init__(target)
        self._file = file
        self._properties = Properties(target.head).of
        self._names = ("x", "y") if target.system else ("longitude", "latitude")
        self._before = b"\n"

    def _write(self, markers: Sequence[Marker], coordinates: Sequence[tuple[float, float] | None]) -> None:
        for marker, place in zip(markers, coordinates, strict=True):
            x, y = self._names
            at = {y: None, x: None} if place is None else {y: place[1], x: place[0]}
            before = marker.before
            moved = {"moved_from": {"latitude": before.lat, "longitude": before.lon}} if before else {}
            turned = {"text": marker.look.text, "turn": marker.look.turn, "size_px": marker.look.size_px}
            look = turned if self._target.head.legend else {}
            self._file.write(self._before + orjson.dumps({**self._properties(marker), **at, **moved, **look}))
            self._before = b",\n"


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[JsonArray]:
    """Write the objects."""
    with written_aside(target.path, like=target.like) as aside, aside.open("wb") as file:
        file.write(b"[")
        made = JsonArray(file, target)
        yield made
        made.flush()
        file.write(b"\n]\n")
