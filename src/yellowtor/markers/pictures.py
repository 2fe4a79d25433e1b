"""Small pictures of looks, as PNG: what a file in a KMZ archive or a legend shows."""

import base64
import math
import re
from functools import lru_cache
from io import BytesIO
from typing import TYPE_CHECKING

from yellowtor.contracts.marker import Look
from yellowtor.errors import BadJob
from yellowtor.markers.style import PATHS

if TYPE_CHECKING:
    from matplotlib.path import Path as Outline

PIXELS = 64
TOKEN = re.compile(r"[A-Za-z]|-?(?:\d+\.?\d*|\.\d+)")


@lru_cache(maxsize=1_000)
def png_of(look: Look) -> bytes:
    """A picture of 64 by 64 pixels with a transparent ground. Raises BadJob without Matplotlib."""
    if look.icon.startswith("data:image/png;base64,") and not look.turn:
        return base64.b64decode(look.icon.partition(",")[2])
    try:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure
        from matplotlib.patches import PathPatch
        from matplotlib.transforms import Affine2D
    except ModuleNotFoundError as error:
        raise BadJob("A KMZ file needs Matplotlib for its pictures: pip install 'yellowtor[pictures]'.") from error
    figure = Figure(figsize=(1, 1), dpi=PIXELS)
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_axis_off()
    axes.set_xlim(-1, 21)
    axes.set_ylim(21, -1)
    turned = Affine2D().rotate_deg_around(10, 10, look.turn) + axes.transData
    patch = PathPatch(outline(PATHS[look.shape]), facecolor=look.colour, edgecolor="white", linewidth=2)
    patch.set_transform(turned)
    axes.add_patch(patch)
    if look.text:
        size = {1: 30, 2: 22, 3: 16}[len(look.text)]
        axes.text(
            10, 10.4, look.text, color=look.text_colour, weight="bold", fontsize=size * 0.9, ha="center", va="center"
        )
    made = BytesIO()
    figure.savefig(made, format="png", transparent=True, metadata={"Software": None})
    return made.getvalue()


@lru_cache(maxsize=50)
def outline(path: str) -> "Outline":
    """The outline that an SVG path of style.PATHS describes: M, m, L, l, H, h, V, v, and A and a as large arcs, Z."""
    from matplotlib.path import Path as Outline

    points: list[tuple[float, float]] = []
    tokens = TOKEN.findall(path)
    x = y = radius = 0.0
    at = 0
    command = ""

    def number() -> float:
        nonlocal at
        at += 1
        return float(tokens[at - 1])

    while at < len(tokens):
        if tokens[at].isalpha():
            command = tokens[at]
            at += 1
            if command in "zZ":
                continue
        base_x, base_y = (x, y) if command.islower() else (0.0, 0.0)
        before = (x, y)
        if command in "aA":
            radius = number()
            at += 4
        x = base_x + number() if command not in "vV" else x
        y = base_y + number() if command not in "hH" else y
        if command in "aA":
            points += _arc(before, (x, y), radius)
        points.append((x, y))
        command = {"M": "L", "m": "l"}.get(command, command)
    return Outline([*points, points[0]], closed=True)


def _arc(one: tuple[float, float], other: tuple[float, float], radius: float) -> list[tuple[float, float]]:
    """Points on the larger arc between two ends, clockwise on a page whose y goes down."""
    half = math.dist(one, other) / 2
    height = math.sqrt(max(0.0, radius**2 - half**2))
    across = ((other[0] - one[0]) / (2 * half), (other[1] - one[1]) / (2 * half))
    middle = ((one[0] + other[0]) / 2 + across[1] * height, (one[1] + other[1]) / 2 - across[0] * height)
    begin = math.atan2(one[1] - middle[1], one[0] - middle[0])
    end = math.atan2(other[1] - middle[1], other[0] - middle[0])
    turn = (end - begin) % (2 * math.pi)
    turns = [begin + turn * n / 24 for n in range(1, 24)]
    return [(middle[0] + radius * math.cos(angle), middle[1] + radius * math.sin(angle)) for angle in turns]
