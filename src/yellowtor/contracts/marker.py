"""A marker: a record as it is shown to others, and how it looks."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position

SIZE_PX = 20
LIGHT_TEXT, DARK_TEXT = "#ffffff", "#17242e"
MIDDLE = 150.0  # of brightness, 0 to 255 (ITU-R BT.601)


class Shape(StrEnum):
    """The outline of a marker."""

    CIRCLE = "circle"
    SQUARE = "square"
    TRIANGLE = "triangle"
    CROSS = "cross"
    DIAMOND = "diamond"
    OCTAGON = "octagon"
    BAR = "bar"
    STAR = "star"
    DROP = "drop"  # its tip is at the position


@dataclass(frozen=True, slots=True)
class Look:
    """How a marker looks.

    name is for the legend; colour is #rrggbb; size_px is the width and height on a screen; text (up to three
    characters) is drawn inside; turn is in degrees, clockwise; icon is a picture as a data: URL, in place of the shape.
    """

    name: str
    colour: str
    shape: Shape
    size_px: int = SIZE_PX
    text: str = ""
    turn: float = 0.0
    icon: str = ""

    @property
    def text_colour(self) -> str:
        """What can be read on its colour: white, or nearly black."""
        red, green, blue = (int(self.colour[at : at + 2], 16) for at in (1, 3, 5))
        return LIGHT_TEXT if 0.299 * red + 0.587 * green + 0.114 * blue < MIDDLE else DARK_TEXT


# The colours are those that M. Okabe and K. Ito proposed for every kind of colour vision ("Color Universal Design",
# 2008), some darkened; each outcome also has its own shape.
OUTCOME_LOOKS: Mapping[Outcome, Look] = {
    Outcome.PLACED: Look("placed", "#0072b2", Shape.CIRCLE),
    Outcome.KEPT: Look("kept", "#00795a", Shape.SQUARE),
    Outcome.DOUBTFUL: Look("doubtful", "#e69f00", Shape.TRIANGLE),
    Outcome.UNPLACED: Look("unplaced", "#c24a00", Shape.CROSS),
    Outcome.INCOMPLETE: Look("incomplete", "#a05195", Shape.DIAMOND),
    Outcome.FAILED: Look("failed", "#8c1d18", Shape.OCTAGON),
    Outcome.WAITING: Look("waiting", "#6b7780", Shape.BAR),
}


@dataclass(frozen=True, slots=True)
class MarkerHead:
    """What a file of markers says once: its title, the columns that each marker shows, the looks of the legend.

    Without looks in the legend, the outcomes are the looks.
    """

    title: str
    columns: Sequence[str] = ()
    legend: Sequence[Look] = ()


@dataclass(slots=True)
class Marker:
    """A record that has an answer.

    asked is the question in one line; columns are the source's columns that the job names; group is the folder that it
    belongs to. circle_m is the radius of a circle around it in metres, before the position that the record had before.
    label is the text of a postal label.
    Both are None where there is none. uncertainty_m is how far off the point may be, as its level says.
    """

    key: str
    name: str
    outcome: Outcome
    position: Position | None
    look: Look
    asked: str = ""
    matched: str = ""
    level: str = ""
    confidence: float | None = None
    basis: str = ""
    reasons: Sequence[str] = ()
    description: str = ""
    columns: Mapping[str, str] = field(default_factory=dict)
    group: str = ""
    circle_m: float | None = None
    before: Position | None = None
    uncertainty_m: float | None = None
    label: str = ""
    aligned: Sequence[Mapping[str, Any]] = ()
