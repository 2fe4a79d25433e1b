"""A map of all markers as a picture: PNG, SVG or PDF, over the job's layers, with legend, scale and labels."""

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yellowtor.contracts.marker import OUTCOME_LOOKS, Look, Marker
from yellowtor.files import written_aside
from yellowtor.markers.figure import canvas, unworried
from yellowtor.markers.layers import read_layer
from yellowtor.markers.map_drawing import (
    DrawnMarkers,
    box_around,
    draw_labels,
    draw_layer,
    draw_markers,
    draw_north,
    draw_scale,
    marker_path,
    prepare,
    shapes_of,
)
from yellowtor.markers.style import INK, MUTED
from yellowtor.markers.target import MarkerTarget

if TYPE_CHECKING:
    from matplotlib.figure import Figure

MAP = (0.02, 0.05, 0.74, 0.86)  # left, bottom, width, height as shares of the figure
LABELS = 250
NO_TIME: dict[str, dict[str, Any]] = {  # equal markers make equal bytes
    ".png": {"Software": None},
    ".svg": {"Date": None, "Creator": None},
    ".pdf": {"CreationDate": None, "Producer": None, "Creator": None},
}


class MapPicture:
    """Collects markers; they are drawn at the end."""

    def __init__(self, target: MarkerTarget) -> None:
        self._target = target
        self._drawn = DrawnMarkers()
        self._by = target.view.pages if target.ending == ".pdf" else ""
        self._looks: dict[str, Look] = {}
        self._without = 0
        self._pages: dict[str, DrawnMarkers] = {}

    def add(self, marker: Marker) -> None:
        """Take a marker; one without a position is only counted."""
        if marker.position is None:
            self._without += 1
            return
        self._drawn.add(marker)
        self._looks.setdefault(marker.look.name, marker.look)
        if self._by:
            self._pages.setdefault(marker.columns[self._by].strip(), DrawnMarkers()).add(marker)

    def figures(self) -> Iterator["Figure"]:
        """The map of all markers; then one for each text of the column that the pages are by, in order."""
        yield self._figure(self._target.head.title, self._drawn)
        for name, drawn in sorted(self._pages.items()):
            yield self._figure(f"{self._target.head.title}: {name or '–'}", drawn)

    def _figure(self, title: str, drawn: DrawnMarkers) -> "Figure":
        target = self._target
        figure = canvas()
        figure.text(MAP[0], 0.945, title, fontsize=18, color=INK, weight="bold", parse_math=False)
        axes = figure.add_axes(MAP)
        width, height = figure.get_size_inches()
        box = box_around(drawn.xs, drawn.ys, MAP[2] * width / (MAP[3] * height))
        prepare(axes, box)
        for layer in target.under:
            draw_layer(axes, shapes_of(read_layer(layer)))
        draw_markers(axes, drawn)
        if target.view.label != "never":
            draw_labels(axes, drawn, most=LABELS)
        draw_scale(axes, box)
        draw_north(axes)
        self._draw_legend(figure, Counter(look.name for look in drawn.looks))
        credit = "; ".join(filter(None, (target.attribution, target.view.tile_credit if target.view.tiles else "")))
        figure.text(MAP[0], 0.02, credit, fontsize=8, color=MUTED, parse_math=False)
        return figure

    def _draw_legend(self, figure: "Figure", counts: Counter[str]) -> None:
        """Each look with its name and the number of its markers, in the order of the rules."""
        axes = figure.add_axes((0.78, 0.05, 0.21, 0.86))
        axes.set_axis_off()
        axes.set_xlim(0, 1)
        axes.set_ylim(24, 0)
        for row, look in enumerate(self._entries()):
            path, size = marker_path(look)
            axes.scatter(
                [0.05], [row + 0.6], s=(size * 0.75) ** 2, marker=path, facecolor=look.colour, edgecolor="white"
            )
            if look.text:
                axes.text(
                    0.05,
                    row + 0.62,
                    look.text,
                    color=look.text_colour,
                    weight="bold",
                    fontsize=7,
                    ha="center",
                    va="center",
                )
            axes.text(0.14, row + 0.62, look.name[:28], fontsize=11, color=INK, va="center", parse_math=False)
            count = f"{counts[look.name]:,}"
            axes.text(1, row + 0.62, count, fontsize=11, color=INK, va="center", ha="right", weight="bold")
        if self._without and counts.total() == len(self._drawn.xs):
            said = f"{self._without:,} without a position"
            axes.text(0.14, len(self._entries()) + 1.1, said, fontsize=10, color=MUTED, va="center")

    def _entries(self) -> Sequence[Look]:
        legend = [self._looks[look.name] for look in self._target.head.legend if look.name in self._looks]
        rest = [look for look in OUTCOME_LOOKS.values() if look.name in self._looks]
        return [*legend, *(look for look in rest if look not in legend)][:22]


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[MapPicture]:
    """Draw the picture. Raises BadJob without Matplotlib."""
    made = MapPicture(target)
    yield made
    with written_aside(target.path, like=target.like) as aside:
        save_as(made.figures(), aside, target.ending)


def save_as(figures: Iterator["Figure"], path: Path, ending: str) -> None:
    """Write figures in the format of this ending, without the time: the first one, or in a PDF all of them."""
    import matplotlib as mpl
    from matplotlib.backends.backend_pdf import PdfPages

    with unworried(), mpl.rc_context({"svg.hashsalt": "yellowtor", "svg.fonttype": "none", "pdf.fonttype": 42}):
        if ending != ".pdf":
            next(figures).savefig(path, format=ending[1:], metadata=NO_TIME[ending])
            return
        with PdfPages(path, metadata=NO_TIME[ending]) as pages:
            for figure in figures:
                pages.savefig(figure)
