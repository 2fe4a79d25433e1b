"""Sheets of postal labels, as PDF: columns and rows of texts on A4 or Letter, one label for each marker."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.figure import unworried
from yellowtor.markers.style import INK
from yellowtor.markers.target import MarkerTarget

if TYPE_CHECKING:
    from matplotlib.backends.backend_pdf import PdfPages

PAPERS_MM = {"A4": (210.0, 297.0), "Letter": (215.9, 279.4)}
INCH_MM = 25.4
LARGEST_PT, SMALLEST_PT = 11.0, 5.0
WIDE = 0.56  # of its size: the width of a character, on average
HIGH = 1.25  # of its size: the height of a line
MARGIN_MM = 4.0  # inside a label


class LabelSheets:
    """Takes markers one by one; every full sheet is written."""

    def __init__(self, pages: "PdfPages", target: MarkerTarget) -> None:
        self._pages = pages
        self._sheet = target.sheet
        self._texts: list[str] = []

    def add(self, marker: Marker) -> None:
        """Take the label of a marker."""
        self._texts.append(marker.label or "\n".join([marker.name, *(marker.matched or marker.asked).split(", ")]))
        if len(self._texts) == self._sheet.across * self._sheet.down:
            self._write_sheet()

    def finish(self) -> None:
        """Write the last sheet; an empty one if there is no label."""
        if self._texts or not self._pages.get_pagecount():  # type: ignore[no-untyped-call]
            self._write_sheet()

    def _write_sheet(self) -> None:
        from matplotlib.figure import Figure

        sheet = self._sheet
        width, height = PAPERS_MM[sheet.paper]
        figure = Figure(figsize=(width / INCH_MM, height / INCH_MM))
        cell_w = (width - 2 * sheet.margin_mm) / sheet.across
        cell_h = (height - 2 * sheet.margin_mm) / sheet.down
        for n, text in enumerate(self._texts):
            row, column = divmod(n, sheet.across)
            lines, size = fitted(text, cell_w - 2 * MARGIN_MM, cell_h - 2 * MARGIN_MM)
            x = (sheet.margin_mm + column * cell_w + MARGIN_MM) / width
            y = 1 - (sheet.margin_mm + row * cell_h + cell_h / 2) / height
            figure.text(
                x, y, "\n".join(lines), fontsize=size, color=INK, va="center", linespacing=HIGH, parse_math=False
            )
        self._pages.savefig(figure)  # type: ignore[no-untyped-call]
        self._texts = []


def fitted(text: str, width_mm: float, height_mm: float) -> tuple[list[str], float]:
    r"""The lines of a label and their size in points: as large as there is room; what is still too long is cut.

    >>> fitted("A\nB", 50, 30)
    (['A', 'B'], 11.0)
    """
    lines = [" ".join(line.split()) for line in text.splitlines() if line.strip()] or [""]
    point = INCH_MM / 72
    longest = max(map(len, lines))
    size = min(LARGEST_PT, width_mm / (max(1, longest) * WIDE * point), height_mm / (len(lines) * HIGH * point))
    size = max(SMALLEST_PT, round(size, 1))
    room = int(width_mm / (size * WIDE * point))
    most = max(1, int(height_mm / (size * HIGH * point)))
    return [line if len(line) <= room else f"{line[: room - 1]}…" for line in lines[:most]], size


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[LabelSheets]:
    """Write the sheets."""
    import matplotlib as mpl
    from matplotlib.backends.backend_pdf import PdfPages

    still = {"CreationDate": None, "Producer": None, "Creator": None}
    with (
        written_aside(target.path, like=target.like) as aside,
        unworried(),
        mpl.rc_context({"pdf.fonttype": 42}),
        PdfPages(aside, metadata=still) as pages,
    ):
        made = LabelSheets(pages, target)
        yield made
        made.finish()
