"""A question above its answer, part by part, each word marked."""

from collections.abc import Sequence

from rich.table import Table
from rich.text import Text

from yellowtor.addresses.alignment import EXPLAINED, WordMark
from yellowtor.addresses.side_by_side import AlignedPart
from yellowtor.addresses.similarity import AGREES

STYLES = {
    "agrees": "green",
    "agrees in part": "yellow",
    "differs": "red",
    "not confirmed": "yellow",
    "not comparable": "yellow",
}
LEGEND = "~ explained in part   ! not explained"


def alignment_table(parts: Sequence[AlignedPart]) -> Table:
    """The parts as columns; in three rows the question, the answer, and how they agree."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    table.add_column("", style="bright_black")
    for part in parts:
        table.add_column(part.name, overflow="fold")
    table.add_row("question", *(_marked(part.asked) for part in parts))
    table.add_row("answer", *(Text(part.answered or "–") for part in parts))
    table.add_row("", *(Text(part.agreement, STYLES.get(part.agreement, "bright_black")) for part in parts))
    return table


def needs_legend(parts: Sequence[AlignedPart]) -> bool:
    return any(mark.explained < AGREES for part in parts for mark in part.asked)


def _marked(marks: Sequence[WordMark]) -> Text:
    text = Text("–" if not marks else "")
    for at, mark in enumerate(marks):
        sign, style = ("", "") if mark.explained >= AGREES else ("~", "yellow")
        if mark.explained < EXPLAINED:
            sign, style = "!", "red"
        text.append(" " if at else "").append(f"{mark.text}{sign}", style)
    return text
