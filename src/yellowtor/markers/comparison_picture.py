"""A comparison as a picture: how many records are how far apart, and which outcomes they have."""

import math
from collections.abc import Mapping, Sequence
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import length
from yellowtor.markers.figure import COLOURS, axes_in, canvas, plain, save, unworried
from yellowtor.markers.style import INK, LINE, MUTED

if TYPE_CHECKING:
    from matplotlib.axes import Axes

STEPS = (0, 0.1, 1, 3, 10, 30, 100, 300, 1_000, 3_000, 10_000, 30_000, 100_000, math.inf)  # metres


def draw_comparison(
    path: Path,
    names: tuple[str, str],
    distances: Sequence[float],
    tolerance_m: float,
    outcomes: Mapping[tuple[Outcome | None, Outcome | None], int],
) -> None:
    """Distances in metres as a histogram, beside the matrix of outcomes. Raises BadJob without Matplotlib."""
    figure = canvas()
    with unworried():
        figure.text(0.07, 0.94, f"A: {names[0]}", fontsize=14, color=INK, weight="bold", va="center")
        figure.text(0.07, 0.895, f"B: {names[1]}", fontsize=14, color=INK, weight="bold", va="center")
    axes = axes_in(figure, (0.07, 0.16, 0.43, 0.62))
    counts = [sum(low <= away < high for away in distances) for low, high in pairwise(STEPS)]
    moved = [low >= tolerance_m for low in STEPS[:-1]]
    colours = [COLOURS[1] if far else COLOURS[0] for far in moved]
    axes.bar(range(len(counts)), counts, color=colours, width=0.86)
    for at, count in enumerate(counts):
        if count:
            axes.annotate(f"{count:,}", (at, count), (0, 4), textcoords="offset points", ha="center", color=MUTED)
    axes.set_xticks(range(len(counts)), [_below(high) for high in STEPS[1:]], rotation=60, ha="right")
    axes.set_xlabel("distance between A and B, below", color=MUTED)
    said = f"{len(distances):,} records with both positions; tolerance {length(tolerance_m)}"
    axes.set_title(said, fontsize=12, color=INK)
    axes.margins(y=0.12)
    _matrix(figure.add_axes((0.62, 0.16, 0.33, 0.62)), outcomes)
    save(figure, path)


def _below(high: float) -> str:
    if math.isinf(high):
        return "more"
    return f"{high:g} m" if high < 1000 else f"{high / 1000:g} km"


def _matrix(axes: "Axes", outcomes: Mapping[tuple[Outcome | None, Outcome | None], int]) -> None:
    """A (rows) against B (columns); the more records, the darker."""
    from matplotlib.patches import Rectangle

    rows = [one for one in (*Outcome, None) if any(pair[0] is one for pair in outcomes)]
    across = [one for one in (*Outcome, None) if any(pair[1] is one for pair in outcomes)]
    most = max(outcomes.values(), default=1)
    plain(axes)
    for y, one in enumerate(rows):
        for x, other in enumerate(across):
            count = outcomes.get((one, other), 0)
            shade = 0.15 + 0.6 * math.log1p(count) / math.log1p(most) if count else 0.0
            changed = one is not other
            box = (x - 0.46, y - 0.46)
            axes.add_patch(Rectangle(box, 0.92, 0.92, color=COLOURS[1 if changed else 0], alpha=shade, linewidth=0))
            axes.text(x, y, f"{count:,}" if count else "", ha="center", va="center", color=INK, fontsize=12)
    axes.set_xlim(-0.5, max(1, len(across)) - 0.5)
    axes.set_ylim(max(1, len(rows)) - 0.5, -0.5)
    axes.set_xticks(range(len(across)), [str(one or "nothing") for one in across], rotation=60, ha="right")
    axes.set_yticks(range(len(rows)), [str(one or "nothing") for one in rows])
    axes.spines["bottom"].set_color(LINE)
    axes.set_xlabel("outcome of B", color=MUTED)
    axes.set_ylabel("outcome of A", color=MUTED)
    axes.set_title("Records by their outcomes", fontsize=12, color=INK)
