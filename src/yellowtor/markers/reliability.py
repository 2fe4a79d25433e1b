"""Reliability diagrams: how many of the answers with a confidence were right. Drawn by Matplotlib without a screen."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yellowtor.answers.judging.calibrating import Decision, bins, calibration_error
from yellowtor.markers.figure import COLOURS, axes_in, canvas, save
from yellowtor.markers.style import INK, LINE, MUTED

LARGEST = 900.0  # area of the dot of a part that has every answer, in points squared


@dataclass(frozen=True)
class Diagram:
    """One diagram, with the decisions that it shows."""

    title: str
    decisions: Sequence[Decision]


def draw_reliability(path: Path, title: str, diagrams: Sequence[Diagram]) -> None:
    """The diagrams side by side, two in a row. Raises BadJob without Matplotlib."""
    rows = (len(diagrams) + 1) // 2
    height = 0.9 + 5.6 * rows
    figure = canvas(height)
    figure.text(0.08, 1 - 0.5 / height, title, fontsize=16, color=INK, weight="bold")
    for at, diagram in enumerate(diagrams):
        top = 1 - (1.15 + 5.6 * (at // 2)) / height
        axes = axes_in(figure, (0.08 + 0.48 * (at % 2), top - 4.6 / height, 0.4, 4.2 / height))
        axes.plot([0, 1], [0, 1], color=LINE, linewidth=1.6)
        axes.text(1.05, 0.03, "grey line: as often right as stated", ha="right", fontsize=10, color=MUTED)
        parts = bins(diagram.decisions)
        total = max(1, len(diagram.decisions))
        axes.plot([one.confidence for one in parts], [one.right for one in parts], color=COLOURS[0], linewidth=2)
        sizes = [max(20.0, LARGEST * one.answers / total) for one in parts]
        axes.scatter(
            [one.confidence for one in parts], [one.right for one in parts], s=sizes, color=COLOURS[0], alpha=0.6
        )
        for one in parts:
            place = ((one.confidence, one.right), (-8, 8))
            axes.annotate(f"{one.answers:,}", *place, textcoords="offset points", ha="right", fontsize=10, color=MUTED)
        error = calibration_error(diagram.decisions)
        axes.set_title(f"{diagram.title}\n{total:,} answers, calibration error {error:.3f}", fontsize=12, color=INK)
        axes.set_xlim(-0.03, 1.08)
        axes.set_ylim(-0.03, 1.08)
        axes.set_xlabel("confidence", color=MUTED)
        if at % 2 == 0:
            axes.set_ylabel("share of right answers", color=MUTED)
    save(figure, path)
