"""A list of geo: URIs (RFC 5870), one in a line (text/uri-list, RFC 2483), each below a comment with its name."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TextIO

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.target import MarkerTarget, lon_lat


class GeoUris:
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: TextIO, target: MarkerTarget) -> None:
        self._file = file
        self._decimals = target.decimals

    def add(self, marker: Marker) -> None:
        """Write the comment and the URI of a marker."""
        if marker.position is not None:
            said = marker.key if marker.name == marker.key else f"{marker.key} {marker.name}"
            self._file.write(f"# {' '.join(said.split())}\r\n{geo_uri(marker, self._decimals)}\r\n")


def geo_uri(marker: Marker, decimals: int | None) -> str:
    """The URI of a marker that has a position; its uncertainty, if known, in metres."""
    lon, lat = lon_lat(marker, decimals)
    uncertainty = f";u={marker.uncertainty_m:g}" if marker.uncertainty_m else ""
    return f"geo:{_coordinate(lat)},{_coordinate(lon)}{uncertainty}"


def _coordinate(number: float) -> str:
    """A number without an exponent, and no minus before zero (RFC 5870, section 3.4.4)."""
    text = f"{number:.9f}".rstrip("0").rstrip(".")
    return "0" if text == "-0" else text


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[GeoUris]:
    """Write the list."""
    with written_aside(target.path, like=target.like) as aside, aside.open("w", encoding="utf-8", newline="") as file:
        yield GeoUris(file, target)
