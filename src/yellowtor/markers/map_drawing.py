"""Draws a map with Matplotlib: layers, markers by their looks, labels that do not overlap, scale bar, north arrow.

Positions are drawn in the spherical Mercator projection (EPSG:3857), as on most web maps: north is up everywhere.
"""

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from yellowtor.contracts.marker import Look, Marker
from yellowtor.contracts.position import EARTH_RADIUS_M, Position
from yellowtor.markers.pictures import outline
from yellowtor.markers.style import COAST, INK, LAND, MUTED, PATHS, ROAD, SEA

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.path import Path as Outline

POINTS = 0.75  # of a pixel: 72 to an inch, and 96
SOUTHERNMOST = 85.05  # what Mercator can show
MANY = 20_000  # markers that are drawn as a picture in a PDF or SVG
LEAST_M = 400.0  # of a map's width and height
PLACES = ((1, 0, "left", "center"), (-1, 0, "right", "center"), (0, 1, "center", "bottom"), (0, -1, "center", "top"),
          (0.8, 0.8, "left", "bottom"), (-0.8, 0.8, "right", "bottom"), (0.8, -0.8, "left", "top"),
          (-0.8, -0.8, "right", "top"))  # fmt: skip


def mercator(lat: float, lon: float) -> tuple[float, float]:
    """Metres east and north on the map."""
    lat = max(-SOUTHERNMOST, min(SOUTHERNMOST, lat))
    return EARTH_RADIUS_M * math.radians(lon), EARTH_RADIUS_M * math.log(math.tan(math.pi / 4 + math.radians(lat) / 2))


def ground_m(lat: float) -> float:
    """How many metres on the ground one metre of the map is, at this latitude."""
    return math.cos(math.radians(max(-SOUTHERNMOST, min(SOUTHERNMOST, lat))))


@dataclass
class DrawnMarkers:
    """Markers in columns: where they are on the map, and how they look."""

    xs: list[float] = field(default_factory=list)
    ys: list[float] = field(default_factory=list)
    looks: list[Look] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    circles: list[tuple[Position, float]] = field(default_factory=list)
    moves: list[tuple[Position, Position]] = field(default_factory=list)

    def add(self, marker: Marker) -> None:
        """Take a marker that has a position."""
        assert marker.position is not None, "the caller has looked"
        x, y = mercator(*marker.position)
        self.xs.append(x)
        self.ys.append(y)
        self.looks.append(marker.look)
        self.names.append(marker.name)
        if marker.circle_m:
            self.circles.append((marker.position, marker.circle_m))
        if marker.before:
            self.moves.append((marker.before, marker.position))


@dataclass(frozen=True)
class MapBox:
    """What a map shows, in metres of the map."""

    left: float
    bottom: float
    right: float
    top: float

    @property
    def latitude(self) -> float:
        """That of the middle, in degrees."""
        north = (self.bottom + self.top) / 2 / EARTH_RADIUS_M
        return math.degrees(2 * math.atan(math.exp(north)) - math.pi / 2)


def box_around(xs: Sequence[float], ys: Sequence[float], shape: float) -> MapBox:
    """A box around points with some room, as wide as `shape` times its height."""
    if not xs:
        xs, ys = [0.0], [0.0]
    middle_x, middle_y = (min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2
    width = max((max(xs) - min(xs)) * 1.12, LEAST_M)
    height = max((max(ys) - min(ys)) * 1.12, LEAST_M)
    width, height = max(width, height * shape), max(height, width / shape)
    return MapBox(middle_x - width / 2, middle_y - height / 2, middle_x + width / 2, middle_y + height / 2)


def prepare(axes: "Axes", box: MapBox) -> None:
    """Axes that show this box, and nothing else yet."""
    axes.set_facecolor(SEA)
    axes.set_xlim(box.left, box.right)
    axes.set_ylim(box.bottom, box.top)
    axes.set_xticks([])
    axes.set_yticks([])
    for spine in axes.spines.values():
        spine.set_color(COAST)


@dataclass(frozen=True)
class LayerShapes:
    """The shapes of a layer: rings of areas, lines, points; all in metres of the map."""

    areas: Sequence[Sequence[Sequence[tuple[float, float]]]]
    lines: Sequence[Sequence[tuple[float, float]]]
    points: Sequence[tuple[float, float]]


def shapes_of(layer: Any) -> LayerShapes:
    """The shapes of a GeoJSON layer that read_layer() has read."""
    areas: list[Any] = []
    lines: list[Any] = []
    points: list[Any] = []
    for kind, coordinates in _geometries(layer):
        if kind == "Polygon":
            areas.append(_lines(coordinates))
        elif kind == "MultiPolygon":
            areas += map(_lines, coordinates)
        elif kind == "LineString":
            lines += _lines([coordinates])
        elif kind == "MultiLineString":
            lines += _lines(coordinates)
        else:
            points += _line([coordinates] if kind == "Point" else coordinates)
    return LayerShapes([rings for rings in areas if rings], lines, points)


def _geometries(layer: Any) -> Iterator[tuple[str, Any]]:
    features = layer["features"] if layer["type"] == "FeatureCollection" else [layer]
    open_ = [feature["geometry"] for feature in features]
    while open_:
        geometry = open_.pop()
        if geometry is None:
            continue
        if geometry["type"] == "GeometryCollection":
            open_ += geometry["geometries"]
        else:
            yield geometry["type"], geometry["coordinates"]


def _lines(several: Any) -> list[list[tuple[float, float]]]:
    """Those that are not empty."""
    return [_line(positions) for positions in several if positions]


def _line(positions: Any) -> list[tuple[float, float]]:
    return [mercator(position[1], position[0]) for position in positions]


def draw_layer(axes: "Axes", shapes: LayerShapes) -> None:
    """Areas as land, lines as roads."""
    from matplotlib.collections import LineCollection, PathCollection
    from matplotlib.path import Path as Outline

    areas = [Outline.make_compound_path(*[Outline(ring, closed=True) for ring in rings]) for rings in shapes.areas]
    axes.add_collection(PathCollection(areas, facecolor=LAND, edgecolor=COAST, linewidth=0.8), autolim=False)
    axes.add_collection(LineCollection(shapes.lines, colors=ROAD, linewidths=1.2), autolim=False)
    if shapes.points:
        xs, ys = zip(*shapes.points, strict=True)
        axes.plot(xs, ys, ".", color=MUTED, markersize=3)


def draw_markers(axes: "Axes", drawn: DrawnMarkers, *, times: float = 1.0) -> None:
    """Circles, moves, and the markers look by look; those of the rarest look come last, above the others."""
    from matplotlib.collections import LineCollection, PatchCollection
    from matplotlib.patches import Circle

    circles = [Circle(mercator(*at), metres / ground_m(at.lat)) for at, metres in drawn.circles]
    axes.add_collection(PatchCollection(circles, facecolor="#0072b222", edgecolor="#0072b2", linewidth=0.6))
    moves = [[mercator(*one), mercator(*other)] for one, other in drawn.moves]
    axes.add_collection(LineCollection(moves, colors=MUTED, linewidths=1, linestyles="dashed"))
    by_look: dict[Look, list[int]] = {}
    for at, look in enumerate(drawn.looks):
        by_look.setdefault(look, []).append(at)
    as_picture = len(drawn.looks) > MANY
    for level, (look, places) in enumerate(sorted(by_look.items(), key=lambda pair: -len(pair[1]))):
        path, size = marker_path(look)
        axes.scatter(
            [drawn.xs[at] for at in places],
            [drawn.ys[at] for at in places],
            s=(size * POINTS * times) ** 2,
            marker=path,
            facecolor=look.colour,
            edgecolor="white",
            linewidth=0.7,
            zorder=3 + level / 1000,
            rasterized=as_picture,
        )
        for at in places if look.text else ():
            axes.text(drawn.xs[at], drawn.ys[at], look.text, color=look.text_colour, weight="bold",
                zorder=3 + level / 1000, fontsize=look.size_px * 0.36 * times, ha="center", va="center",
                parse_math=False)  # fmt: skip


def marker_path(look: Look) -> tuple["Outline", float]:
    """The outline of a look around its position, y upwards, and its size in pixels."""
    import numpy as np
    from matplotlib.path import Path as Outline

    plain = outline(PATHS[look.shape])
    low = 20.0 if look.shape == "drop" else 10.0  # the tip of a drop is at the position
    turn = math.radians(-look.turn)
    vertices = [(float(x) - 10, low - float(y)) for x, y in np.asarray(plain.vertices)]
    vertices = [(x * math.cos(turn) - y * math.sin(turn), x * math.sin(turn) + y * math.cos(turn)) for x, y in vertices]
    reach = max(max(abs(x), abs(y)) for x, y in vertices)  # Matplotlib makes this half of the size
    return Outline(vertices, closed=True), look.size_px * reach / 10


def draw_labels(axes: "Axes", drawn: DrawnMarkers, *, most: int, size_pt: float = 8.0) -> int:
    """Names beside the markers, where there is room; how many were drawn."""
    transform = axes.transData.transform(list(zip(drawn.xs, drawn.ys, strict=True)) or [(0.0, 0.0)])
    scale = axes.figure.dpi / 72
    frame = axes.get_window_extent()
    taken = _Room(scale * 12)
    for (x, y), look in zip(transform, drawn.looks, strict=False):
        half = look.size_px * POINTS * scale / 2
        taken.take(x - half, y - half, x + half, y + half)
    count = 0
    for (x, y), look, name in zip(transform, drawn.looks, drawn.names, strict=False):
        if count >= most:
            break
        width, height = 0.56 * size_pt * scale * len(name), 1.25 * size_pt * scale
        gap = look.size_px * POINTS * scale / 2 + 2
        for right, up, ha, va in PLACES:
            left = x + right * gap - {"left": 0.0, "center": width / 2, "right": width}[ha]
            bottom = y + up * gap - {"bottom": 0.0, "center": height / 2, "top": height}[va]
            edges = (left, bottom, left + width, bottom + height)
            inside = frame.x0 < edges[0] and edges[2] < frame.x1 and frame.y0 < edges[1] and edges[3] < frame.y1
            if inside and taken.is_free(*edges):
                taken.take(*edges)
                east, north = axes.transData.inverted().transform((x + right * gap, y + up * gap))
                axes.text(east, north, name, fontsize=size_pt, color=INK, ha=ha, va=va, zorder=5, parse_math=False)
                count += 1
                break
    return count


class _Room:
    """What is taken of a drawing, in cells."""

    def __init__(self, cell: float) -> None:
        self._cell = cell
        self._boxes: dict[tuple[int, int], list[tuple[float, float, float, float]]] = {}

    def _cells(self, left: float, bottom: float, right: float, top: float) -> Iterable[tuple[int, int]]:
        for x in range(int(left // self._cell), int(right // self._cell) + 1):
            for y in range(int(bottom // self._cell), int(top // self._cell) + 1):
                yield x, y

    def take(self, left: float, bottom: float, right: float, top: float) -> None:
        for cell in self._cells(left, bottom, right, top):
            self._boxes.setdefault(cell, []).append((left, bottom, right, top))

    def is_free(self, left: float, bottom: float, right: float, top: float) -> bool:
        return not any(
            left < r and right > le and bottom < t and top > b
            for cell in self._cells(left, bottom, right, top)
            for le, b, r, t in self._boxes.get(cell, ())
        )


def draw_scale(axes: "Axes", box: MapBox) -> None:
    """A bar with a round number of metres, at the lower left, right at the latitude of the middle."""
    wide = (box.right - box.left) * ground_m(box.latitude)
    rough = wide / 5
    power = 10.0 ** math.floor(math.log10(rough))
    metres = next(power * times for times in (5, 2, 1) if power * times <= rough)
    part = metres / wide
    words = f"{metres / 1000:g} km" if metres >= 1000 else f"{metres:g} m"
    axes.plot([0.02, 0.02, 0.02 + part, 0.02 + part], [0.035, 0.025, 0.025, 0.035], transform=axes.transAxes, color=INK,
        linewidth=1.4, zorder=6, solid_capstyle="butt")  # fmt: skip
    axes.text(0.02 + part / 2, 0.04, words, transform=axes.transAxes, ha="center", va="bottom", fontsize=9, color=INK,
        zorder=6)  # fmt: skip


def draw_north(axes: "Axes") -> None:
    """An arrow to the north, at the upper right."""
    axes.annotate("", (0.97, 0.965), (0.97, 0.9), xycoords="axes fraction", zorder=6,
        arrowprops={"arrowstyle": "-|>", "color": INK, "linewidth": 1.4, "mutation_scale": 16})  # fmt: skip
    axes.text(0.97, 0.885, "N", transform=axes.transAxes, ha="center", va="top", fontsize=11, color=INK, weight="bold",
        zorder=6)  # fmt: skip
