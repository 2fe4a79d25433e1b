"""What a marker file is made for, and what the formats share."""

import re
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yellowtor.answers.geography.projection import Projection
from yellowtor.contracts.map_view import LabelSheet, MapView
from yellowtor.contracts.marker import Marker, MarkerHead
from yellowtor.errors import BadJob

BATCH = 2_000
PROPERTIES = ("key", "name", "outcome", "asked", "matched", "level", "confidence", "basis", "reasons")
TAKEN = (*PROPERTIES, "description", "look", "colour", "shape", "circle_m", "moved_from", "latitude", "longitude", "x",
    "y", "fid", "geom", "geometry", "text", "turn", "size_px")  # fmt: skip
NOT_IN_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, section 2.2
TO_ESCAPE = re.compile("[^\t\n\r\x20!#-%'-;=?-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # these, and & < > "


@dataclass(frozen=True)
class MarkerTarget:
    """A marker file: its path and the settings of the job.

    attribution is the credit that the services require; under are GeoJSON files to draw below the markers. The marker
    file gets the permissions of the file `like`. without_position: markers without one are written too. system is an
    EPSG code; empty for WGS 84.
    """

    path: Path
    head: MarkerHead
    attribution: str = ""
    under: Sequence[Path] = ()
    like: Path | None = None
    without_position: bool = False
    decimals: int | None = None
    system: str = ""
    view: MapView = field(default_factory=MapView)
    sheet: LabelSheet = field(default_factory=LabelSheet)

    @property
    def ending(self) -> str:
        """The last ending of the name."""
        return self.path.suffix.lower()


class Properties:
    """What a marker says, by name: the answer's properties, and the source's columns.

    A column that is called like one of the names that are taken gets `_source` behind its name, whatever its case.
    """

    def __init__(self, head: MarkerHead) -> None:
        self._columns = list(head.columns)
        taken = set(TAKEN)
        self.names = []
        for name in self._columns:
            free = name
            while free.casefold() in taken:
                free += "_source"
            taken.add(free.casefold())
            self.names.append(free)
        self._pairs = list(zip(self.names, self._columns, strict=True))
        self._has_looks = bool(head.legend)

    def of(self, marker: Marker) -> dict[str, Any]:
        """The properties of a marker; reasons are a list."""
        found: dict[str, Any] = {
            "key": marker.key,
            "name": marker.name,
            "outcome": marker.outcome,
            "asked": marker.asked,
            "matched": marker.matched or None,
            "level": marker.level or None,
            "confidence": marker.confidence,
            "basis": marker.basis or None,
            "reasons": marker.reasons,
        }
        if marker.description:
            found["description"] = marker.description
        if self._has_looks:
            found["look"] = marker.look.name
            found["colour"] = marker.look.colour
            found["shape"] = marker.look.shape
        if marker.circle_m:
            found["circle_m"] = marker.circle_m
        columns = marker.columns
        for name, column in self._pairs:
            found[name] = columns[column]
        return found


class FlatProperties:
    """The properties as columns of texts and of numbers, for formats whose rows are all alike."""

    NUMBERS = ("confidence", "circle_m")

    def __init__(self, head: MarkerHead) -> None:
        properties = Properties(head)
        self._of = properties.of
        looks = ["look", "colour", "shape"] if head.legend else []
        self.texts = [
            *(name for name in PROPERTIES if name not in self.NUMBERS),
            "description",
            *looks,
            *properties.names,
        ]

    def cells(self, marker: Marker) -> list[str | float | None]:
        """The texts of a marker, then its numbers; None where it has none."""
        said = self._of(marker)
        said["reasons"] = "; ".join(marker.reasons)
        texts = (said.get(name) for name in self.texts)
        return [*(None if text is None else str(text) for text in texts), *(said.get(name) for name in self.NUMBERS)]


class Bounds:
    """The box around coordinates."""

    def __init__(self) -> None:
        self._box: list[float] = []

    def hold(self, x: float, y: float) -> None:
        """Widen the box for a point."""
        west, south, east, north = self._box or (x, y, x, y)
        self._box = [min(west, x), min(south, y), max(east, x), max(north, y)]

    @property
    def box(self) -> list[float]:
        """West, south, east, north; empty without a point."""
        return self._box


class InSystem(ABC):
    """A writer of markers whose coordinates may be of another system: it writes them many at a time."""

    def __init__(self, target: MarkerTarget) -> None:
        self._target = target
        self._waiting: list[Marker] = []
        self._projection = projection_of(target.system)

    def add(self, marker: Marker) -> None:
        """Take a marker."""
        if marker.position is None and not self._target.without_position:
            return
        self._waiting.append(marker)
        if len(self._waiting) >= BATCH:
            self.flush()

    def flush(self) -> None:
        """Write the markers that wait."""
        if self._waiting:
            pairs = zip(self._waiting, self._coordinates(self._waiting), strict=True)
            known = [pair for pair in pairs if pair[1] is not None or self._target.without_position]
            self._write([marker for marker, _ in known], [place for _, place in known])
            self._waiting = []

    @abstractmethod
    def _write(self, markers: Sequence[Marker], coordinates: Sequence[tuple[float, float] | None]) -> None:
        """Write markers with their coordinates: longitude and latitude, or easting and northing."""

    def _coordinates(self, markers: Sequence[Marker]) -> list[tuple[float, float] | None]:
        decimals = self._target.decimals
        points = [marker.position for marker in markers if marker.position is not None]
        if self._projection:
            found = iter(self._projection.project([tuple(point) for point in points]))  # type: ignore[misc]
        else:
            found = iter([(point.lon, point.lat) for point in points])
        made: list[tuple[float, float] | None] = []
        for marker in markers:
            x, y = next(found) if marker.position is not None else (None, None)
            if x is None or y is None or abs(x) == float("inf") or x != x:  # noqa: PLR0124 - beyond the system's reach
                made.append(None)
            else:
                made.append((x, y) if decimals is None else (round(x, decimals), round(y, decimals)))
        return made


def projection_of(system: str) -> Projection | None:
    """How points become those of this system; None for WGS 84. Raises BadJob for an unknown one."""
    if not system:
        return None
    try:
        return Projection(system)
    except ValueError as error:
        raise BadJob(f"markers.system: {error}. Nothing was sent.") from error


def lon_lat(marker: Marker, decimals: int | None) -> tuple[float, float]:
    """Longitude and latitude of a marker that has a position, in degrees."""
    assert marker.position is not None, "the caller has looked"
    lat, lon = marker.position
    return (lon, lat) if decimals is None else (round(lon, decimals), round(lat, decimals))


def xml(text: str) -> str:
    """A text escaped for XML, in an element or in an attribute with double quotes."""
    if TO_ESCAPE.search(text) is None:
        return text
    text = NOT_IN_XML.sub("\ufffd", text)
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace('"', "&quot;")


def said_of(marker: Marker) -> Mapping[str, str]:
    """What a marker says, in words for people: the description, the columns, and how sure the answer is."""
    confidence = f" (confidence {marker.confidence})" if marker.confidence is not None else ""
    said = {"description": marker.description, **marker.columns, "outcome": f"{marker.outcome}{confidence}"}
    return {name: text for name, text in said.items() if text}
