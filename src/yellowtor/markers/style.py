"""The design of everything that Yellowtor draws: one palette, one set of shapes, one font, one spacing.

The colours are those that M. Okabe and K. Ito proposed for every kind of colour vision ("Color Universal Design",
2008), some darkened. Each outcome also has its own shape, so that colour alone never carries the meaning.
"""

from dataclasses import dataclass
from typing import assert_never

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


@dataclass(frozen=True, slots=True)
class Mark:
    """How an outcome is drawn.

    On paper a colour and an SVG path in a box of 20 by 20; in a terminal, dark or light, a character and its colour.
    rank is the place in lists: what a person should look at first is 0.
    """

    colour: str
    path: str
    sign: str
    style: str
    rank: int


def _mark(outcome: Outcome) -> Mark:
    match outcome:
        case Outcome.PLACED:
            return Mark("#0072b2", "M10 3a7 7 0 1 1 0 14a7 7 0 1 1 0-14z", "●", "#4aa3df", 5)
        case Outcome.KEPT:
            return Mark("#00795a", "M4 4h12v12h-12z", "■", "#2fb58a", 6)
        case Outcome.DOUBTFUL:
            return Mark("#e69f00", "M10 2l8.5 15h-17z", "▲", "#e69f00", 0)
        case Outcome.UNPLACED:
            cross = "M5 2.5l5 5 5-5 2.5 2.5-5 5 5 5-2.5 2.5-5-5-5 5-2.5-2.5 5-5-5-5z"
            return Mark("#c24a00", cross, "✕", "#e0703a", 1)
        case Outcome.INCOMPLETE:
            return Mark("#a05195", "M10 2l8 8-8 8-8-8z", "◆", "#c77dbb", 3)
        case Outcome.FAILED:
            return Mark("#8c1d18", "M7 2h6l5 5v6l-5 5h-6l-5-5v-6z", "⬣", "#e05a52", 2)
        case Outcome.WAITING:
            return Mark("#6b7780", "M3 8h14v4h-14z", "▬", "#8c98a0", 4)
        case _:
            assert_never(outcome)


MARKS = {outcome: _mark(outcome) for outcome in Outcome}
