"""CSV (RFC 4180) with latitude and longitude in degrees, or with points in well-known text (OGC 06-103r4)."""

import csv
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TextIO

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.target import InSystem, MarkerTarget, Properties

FORMULA = frozenset("=+-@\t\r")  # what a spreadsheet takes for the beginning of a formula


class Delimited(InSystem):
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: TextIO, target: MarkerTarget) -> None:
        super().__init__(target)
        self._rows = csv.writer(file)
        self._is_wkt = target.path.name.lower().endswith(".wkt.csv")
        properties = Properties(target.head)
        self._columns = list(target.head.columns)
        place = ["geometry"] if self._is_wkt else ["x", "y"] if target.system else ["latitude", "longitude"]
        look = ["look", "colour"] if target.head.legend else []
        ours = ["outcome", "confidence", "level", "asked", "matched", "reasons", "description"]
        self._rows.writerow([shielded(name) for name in ["key", "name", *place, *ours, *look, *properties.names]])

    def _write(self, markers: Sequence[Marker], coordinates: Sequence[tuple[float, float] | None]) -> None:
        self._rows.writerows(
            [
                shielded(marker.key),
                shielded(marker.name),
                *self._place(place),
                marker.outcome.value,
                "" if marker.confidence is None else marker.confidence,
                marker.level,
                shielded(marker.asked),
                shielded(marker.matched),
                shielded("; ".join(marker.reasons)),
                shielded(marker.description),
                *([shielded(marker.look.name), marker.look.colour] if self._target.head.legend else ()),
                *(shielded(marker.columns[name]) for name in self._columns),
            ]
            for marker, place in zip(markers, coordinates, strict=True)
            if place is not None or self._target.without_position
        )

    def _place(self, place: tuple[float, float] | None) -> Sequence[object]:
        if self._is_wkt:
            return ["POINT EMPTY" if place is None else f"POINT ({place[0]} {place[1]})"]
        if place is None:
            return ["", ""]
        return place if self._target.system else (place[1], place[0])


def shielded(text: str) -> str:
    """A text that no spreadsheet takes for a formula: one gets an apostrophe first."""
    return f"'{text}" if text[:1] in FORMULA else text


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[Delimited]:
    """Write a row for each marker."""
    with (
        written_aside(target.path, like=target.like) as aside,
        aside.open("w", encoding="utf-8", newline="") as file,
    ):
        made = Delimited(file, target)
        yield made
        made.flush()
