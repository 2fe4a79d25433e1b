"""The design of everything that Yellowtor draws: one palette, one set of shapes, one font, one spacing.

The colours can be told apart by every kind of colour vision. Each outcome also has its own shape, so that colour alone
never carries the meaning.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from yellowtor.contracts.marker import OUTCOME_LOOKS, Shape
from yellowtor.contracts.outcome import Outcome

INK = "#17242e"
MUTED = "#5b6b77"
LINE = "#d3dbe0"
PAPER = "#ffffff"
GROUND = "#f3f5f6"
ACCENT = "#b98300"
SEA = "#e3ecf1"
LAND = "#fbfaf5"
COAST = "#9fb0bb"
ROAD = "#c9bfa6"
TYPE = '"Inter", "Segoe UI", "Helvetica Neue", "DejaVu Sans", Arial, sans-serif'
STEP_PX = 8


# The outlines of markers, as SVG paths in a box of 20 by 20 whose middle is the position; the tip of a drop is.
PATHS: Mapping[Shape, str] = {
    Shape.CIRCLE: "M10 3a7 7 0 1 1 0 14a7 7 0 1 1 0-14z",
    Shape.SQUARE: "M3.5 3.5h13v13h-13z",
    Shape.TRIANGLE: "M10 2l8.5 15h-17z",
    Shape.CROSS: "M5 2.5l5 5 5-5 2.5 2.5-5 5 5 5-2.5 2.5-5-5-5 5-2.5-2.5 5-5-5-5z",
    Shape.DIAMOND: "M10 2l8 8-8 8-8-8z",
    Shape.OCTAGON: "M7 2h6l5 5v6l-5 5h-6l-5-5v-6z",
    Shape.BAR: "M3 8h14v4h-14z",
    Shape.STAR: "M10 1.5l2.5 5.6 6.1.6-4.6 4 1.4 6-5.4-3.2-5.4 3.2 1.4-6-4.6-4 6.1-.6z",
    Shape.DROP: "M10 20l-5.2-7.2a6.5 6.5 0 1 1 10.4 0z",
}


@dataclass(frozen=True, slots=True)
class Mark:
    """How an outcome is drawn.

    On paper a colour and an outline; in a terminal, dark or light, a character and its colour. rank is the place in
    lists: what a person should look at first is 0.
    """

    colour: str
    path: str
    sign: str
    style: str
    rank: int


IN_TERMINALS = {
    Outcome.PLACED: ("●", "#4aa3df", 5),
    Outcome.KEPT: ("■", "#2fb58a", 6),
    Outcome.DOUBTFUL: ("▲", "#e69f00", 0),
    Outcome.UNPLACED: ("✕", "#e0703a", 1),
    Outcome.INCOMPLETE: ("◆", "#c77dbb", 3),
    Outcome.FAILED: ("⬣", "#e05a52", 2),
    Outcome.WAITING: ("▬", "#8c98a0", 4),
}
MARKS = {
    outcome: Mark(look.colour, PATHS[look.shape], *IN_TERMINALS[outcome]) for outcome, look in OUTCOME_LOOKS.items()
}
