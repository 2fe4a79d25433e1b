"""Way points in GPX 1.1 (topografix.com/GPX/1/1), for receivers and phones. WGS 84."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TextIO

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.target import MarkerTarget, lon_lat, said_of, xml

HEAD = """<?xml version="1.0" encoding="UTF-8"?>
<gpx version="1.1" creator="Yellowtor" xmlns="http://www.topografix.com/GPX/1/1">
<metadata><name>{title}</name>{credit}</metadata>
"""


class Gpx:
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: TextIO, target: MarkerTarget) -> None:
        self._file = file
        self._decimals = target.decimals

    def add(self, marker: Marker) -> None:
        """Write the way point of a marker. Longitude 180 is -180 here, as the schema wants it."""
        if marker.position is None:
            return
        lon, lat = lon_lat(marker, self._decimals)
        said = said_of(marker)
        lines = [text if name == "description" else f"{name}: {text}" for name, text in said.items()]
        self._file.write(
            f'<wpt lat="{_plain(lat)}" lon="{_plain(-180.0 if lon >= 180 else lon)}"><name>{xml(marker.name)}</name>'
            f"<cmt>{xml(marker.matched or marker.asked)}</cmt><desc>{xml(chr(10).join(lines))}</desc>"
            f"<sym>{xml(marker.look.name)}</sym><type>{xml(marker.group or marker.outcome)}</type></wpt>\n"
        )


def _plain(number: float) -> str:
    """A number without an exponent, as xsd:decimal wants it."""
    text = repr(number)
    return f"{number:.9f}" if "e" in text else text


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[Gpx]:
    """Write the way points."""
    credit = f"<copyright author={chr(34)}{xml(target.attribution)}{chr(34)}/>" if target.attribution else ""
    with written_aside(target.path, like=target.like) as aside, aside.open("w", encoding="utf-8", newline="\n") as file:
        file.write(HEAD.format(title=xml(target.head.title), credit=credit))
        yield Gpx(file, target)
        file.write("</gpx>\n")
