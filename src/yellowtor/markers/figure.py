"""The looks of all figures. Matplotlib draws without a screen (`pip install 'yellowtor[pictures]'`)."""

import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob
from yellowtor.files import written_aside
from yellowtor.markers.style import LINE, MARKS, MUTED, PAPER

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

SIZE_IN = (12.8, 8.0)
DPI = 100
DRAWN = (Outcome.PLACED, Outcome.UNPLACED, Outcome.INCOMPLETE, Outcome.KEPT)
COLOURS = tuple(MARKS[outcome].colour for outcome in DRAWN)


def canvas(height_in: float = SIZE_IN[1]) -> "Figure":
    """An empty figure of this height in inches. Raises BadJob without Matplotlib."""
    try:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure
    except ModuleNotFoundError as error:
        raise BadJob("A picture needs Matplotlib: pip install 'yellowtor[pictures]'. Nothing was drawn.") from error
    figure = Figure(figsize=(SIZE_IN[0], height_in), dpi=DPI, facecolor=PAPER)
    FigureCanvasAgg(figure)
    return figure


def axes_in(figure: "Figure", box: tuple[float, float, float, float]) -> "Axes":
    """Axes in a box (left, bottom, width, height as shares of the figure) with faint lines."""
    axes: Axes = figure.add_axes(box)
    plain(axes)
    axes.grid(axis="y", color=LINE, linewidth=0.8)
    return axes


def plain(axes: "Axes") -> None:
    """Take away what carries no data."""
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(LINE)
    axes.tick_params(colors=MUTED, length=0, labelsize=11)
    axes.set_axisbelow(True)


@contextmanager
def unworried() -> Iterator[None]:
    """Without Matplotlib's warnings about signs that its fonts do not have: they are drawn as boxes."""
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="(Glyph|Matplotlib currently does not support)")
        yield


def save(figure: "Figure", path: Path) -> None:
    """Write the figure as a PNG."""
    with written_aside(path) as aside:
        figure.savefig(aside, format="png")
