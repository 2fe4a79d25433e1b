"""KML 2.3 (OGC 12-007r2), and KMZ: a placemark for each marker, styles from the looks, folders by group. WGS 84.

In a KMZ file, each look has its picture. In KML, which is one file, a marker has the usual picture in its colour.
"""

import math
import zipfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from tempfile import SpooledTemporaryFile
from typing import IO

from yellowtor.contracts.marker import SIZE_PX, Look, Marker, Shape
from yellowtor.contracts.position import EARTH_RADIUS_M, Position
from yellowtor.errors import BadSource
from yellowtor.files import written_aside
from yellowtor.markers.pictures import png_of
from yellowtor.markers.target import TO_ESCAPE, MarkerTarget, Properties, lon_lat, xml

HEAD = """<?xml version="1.0" encoding="UTF-8"?>
<kml xmlns="http://www.opengis.net/kml/2.2" version="2.3">
<Document><name>{title}</name><open>1</open>{credit}
"""
TAIL = "</Document>\n</kml>\n"
MOST_FOLDERS = 300
AT_HAND = 1_000_000  # bytes of a folder that are held in memory
USUAL_PX = 32  # what a scale of 1 is, of a picture
CORNERS = 48  # of a circle


class Kml:
    """Takes markers one by one. Each group is collected in a file of its own; write_to() puts them together."""

    def __init__(self, target: MarkerTarget, stack: ExitStack) -> None:
        self._target = target
        self._properties = Properties(target.head).of
        self._stack = stack
        self._groups: dict[str, IO[bytes]] = {}
        self.looks: dict[Look, int] = {}
        self._openings: dict[str, str] = {}

    def add(self, marker: Marker) -> None:
        """Take the placemark of a marker. Raises BadSource for too many folders."""
        if marker.position is None:
            return
        file = self._groups.get(marker.group) or self._new_group(marker.group)
        file.write(self._placemark(marker).encode())

    def _opening(self, name: str) -> str:
        """The beginning of the element for a property."""
        made = self._openings.get(name)
        if made is None:
            made = self._openings[name] = f'<Data name="{xml(name)}"><value>'
        return made

    def _new_group(self, name: str) -> IO[bytes]:
        if len(self._groups) >= MOST_FOLDERS:
            raise BadSource(f"{self._target.path}: there are more than {MOST_FOLDERS} folders; see markers.folders.")
        made = SpooledTemporaryFile(max_size=AT_HAND)  # noqa: SIM115 - closed with the others
        self._groups[name] = self._stack.enter_context(made)
        return self._groups[name]

    def _placemark(self, marker: Marker) -> str:
        number = self.looks.setdefault(marker.look, len(self.looks))
        lon, lat = lon_lat(marker, self._target.decimals)
        properties = self._properties(marker)
        properties["reasons"] = "; ".join(marker.reasons)
        del properties["name"]
        description = properties.pop("description", "")
        said = f"<description>{xml(description)}</description>" if description else ""
        opening = self._opening
        texts = [
            (name, value if isinstance(value, str) else str(value))
            for name, value in properties.items()
            if value is not None and value != ""
        ]
        if TO_ESCAPE.search("".join([text for _, text in texts])):
            texts = [(name, xml(text)) for name, text in texts]
        data = "".join([f"{opening(name)}{text}</value></Data>" for name, text in texts])
        geometry = f"<Point><coordinates>{lon!r},{lat!r}</coordinates></Point>"
        if shapes := _shapes(marker):
            geometry = f"<MultiGeometry>{geometry}{shapes}</MultiGeometry>"
        return (
            f"<Placemark><name>{xml(marker.name)}</name>{said}<styleUrl>#look-{number}</styleUrl>"
            f"<ExtendedData>{data}</ExtendedData>{geometry}</Placemark>\n"
        )

    def write_to(self, file: IO[bytes], *, pictures: bool) -> None:
        """Write the document. pictures: each look has a file in pictures/."""
        target = self._target
        credit = f"<description>{xml(target.attribution)}</description>" if target.attribution else ""
        file.write(HEAD.format(title=xml(target.head.title), credit=credit).encode())
        for look, number in self.looks.items():
            file.write(_style(look, number, pictures=pictures).encode())
        for name, group in self._groups.items():
            if name:
                file.write(f"<Folder><name>{xml(name)}</name>\n".encode())
            group.seek(0)
            while block := group.read(1 << 20):
                file.write(block)
            if name:
                file.write(b"</Folder>\n")
        file.write(TAIL.encode())


def _style(look: Look, number: int, *, pictures: bool) -> str:
    """A style; colours in KML are aabbggrr."""
    red, green, blue = look.colour[1:3], look.colour[3:5], look.colour[5:7]
    turned = f"<heading>{look.turn % 360:g}</heading>" if look.turn and not pictures else ""
    icon = f"<Icon><href>pictures/{number}.png</href></Icon>" if pictures else ""
    tip = '<hotSpot x="0.5" y="0.05" xunits="fraction" yunits="fraction"/>'
    icon += tip if pictures and look.shape is Shape.DROP and not look.icon else ""
    colour = "ffffffff" if pictures else f"ff{blue}{green}{red}"
    return (
        f'<Style id="look-{number}"><IconStyle><color>{colour}</color>'
        f"<scale>{look.size_px / (USUAL_PX if pictures else SIZE_PX):g}</scale>{turned}{icon}</IconStyle>"
        "<LabelStyle><scale>0.8</scale></LabelStyle>"
        f"<LineStyle><color>ff{blue}{green}{red}</color><width>2</width></LineStyle>"
        f"<PolyStyle><color>33{blue}{green}{red}</color></PolyStyle></Style>\n"
    )


def _shapes(marker: Marker) -> str:
    """The circle around a marker, and the line from where it was before."""
    made = ""
    if marker.position is None:
        return made
    if marker.before:
        ends = " ".join(f"{lon},{lat}" for lat, lon in (marker.before, marker.position))
        made += f"<LineString><tessellate>1</tessellate><coordinates>{ends}</coordinates></LineString>"
    if marker.circle_m:
        corners = " ".join(f"{lon:.7f},{lat:.7f}" for lat, lon in circle(marker.position, marker.circle_m))
        ring = f"<LinearRing><coordinates>{corners}</coordinates></LinearRing>"
        made += f"<Polygon><outerBoundaryIs>{ring}</outerBoundaryIs></Polygon>"
    return made


def circle(centre: Position, radius_m: float) -> list[Position]:
    """The corners of a circle on the sphere, counter-clockwise, the first one again at the end."""
    lat = math.radians(centre.lat)
    part = min(radius_m / EARTH_RADIUS_M, math.pi / 2)
    found = []
    for n in range(CORNERS + 1):
        turn = -2 * math.pi * (n % CORNERS) / CORNERS
        there = math.asin(
            min(1.0, max(-1.0, math.sin(lat) * math.cos(part) + math.cos(lat) * math.sin(part) * math.cos(turn)))
        )
        east = math.atan2(
            math.sin(turn) * math.sin(part) * math.cos(lat), math.cos(part) - math.sin(lat) * math.sin(there)
        )
        lon = (centre.lon + math.degrees(east) + 180) % 360 - 180
        found.append(Position(math.degrees(there), lon))
    return found


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[Kml]:
    """Write the document: as it is, or with the pictures of its looks in a ZIP file."""
    with written_aside(target.path, like=target.like) as aside, ExitStack() as stack:
        made = Kml(target, stack)
        yield made
        if target.ending == ".kml":
            with aside.open("wb") as file:
                made.write_to(file, pictures=False)
            return
        _write_kmz(made, aside)


def _write_kmz(made: Kml, path: Path) -> None:
    """The document as doc.kml, the first file in the archive, and the pictures. Its bytes hold no time."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        with archive.open(_entry("doc.kml"), "w", force_zip64=True) as file:
            made.write_to(file, pictures=True)
        for look, number in made.looks.items():
            archive.writestr(_entry(f"pictures/{number}.png"), png_of(look))


def _entry(name: str) -> zipfile.ZipInfo:
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type = zipfile.ZIP_DEFLATED
    entry.external_attr = 0o644 << 16
    return entry
