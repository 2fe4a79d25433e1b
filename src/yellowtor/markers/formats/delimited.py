"""CSV (RFC 4180) with latitude and longitude in degrees, or with points in well-known text (OGC 06-103r4)."""

import csv
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TextIO

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.target import InSystem, MarkerTarget, Properties
from yellowtor.spreadsheet_text import FORMULA, shielded


class Delimited(InSystem):
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: TextIO, target: MarkerTarget) -> None:
        super().__init__(target)
        self._rows = csv.writer(file)
        self._is_wkt = target.path.name.lower().endswith(".wkt.csv")
        self._has_looks = bool(target.head.legend)
        self._is_plain = not target.system and target.decimals is None and not target.without_position
        properties = Properties(target.head)
        self._columns = list(target.head.columns)
        place = ["geometry"] if self._is_wkt else ["x", "y"] if target.system else ["latitude", "longitude"]
        look = ["look", "colour"] if target.head.legend else []
        ours = ["outcome", "confidence", "level", "asked", "matched", "reasons", "description"]
        self._rows.writerow([shielded(name) for name in ["key", "name", *place, *ours, *look, *properties.names]])

    def add(self, marker: Marker) -> None:
        """Write the row of a marker; if its coordinates are to be changed, with many others."""
        if self._is_plain and marker.position is not None:
            lat, lon = marker.position
            self._rows.writerow(self._row(marker, (f"POINT ({lon} {lat})",) if self._is_wkt else (lat, lon)))
        else:
            super().add(marker)

    def _write(self, markers: Sequence[Marker], coordinates: Sequence[tuple[float, float] | None]) -> None:
        self._rows.writerows(
            self._row(marker, self._place(place)) for marker, place in zip(markers, coordinates, strict=True)
        )

    def _row(self, marker: Marker, place: Sequence[object]) -> Sequence[object]:
        """The cells of a marker."""
        columns = marker.columns
        rest = [columns[name] for name in self._columns]
        reasons = "; ".join(marker.reasons)
        texts = (marker.key, marker.name, marker.asked, marker.matched, reasons, marker.description, *rest)
        if not FORMULA.isdisjoint([text[:1] for text in texts]):
            texts = tuple(map(shielded, texts))
        key, name, asked, matched, reasons, description, *rest = texts
        look = (shielded(marker.look.name), marker.look.colour) if self._has_looks else ()
        sure = marker.outcome, marker.confidence, marker.level
        return (key, name, *place, *sure, asked, matched, reasons, description, *look, *rest)

    def _place(self, place: tuple[float, float] | None) -> Sequence[object]:
        if self._is_wkt:
            return ["POINT EMPTY" if place is None else f"POINT ({place[0]} {place[1]})"]
        if place is None:
            return ["", ""]
        return place if self._target.system else (place[1], place[0])


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
