"""How a record becomes the position that is asked about in reverse, at the precision of the question.

An invalid position is never asked about; the reason says what is wrong with it.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellowtor.answers.geography.cell_coordinates import CellCoordinates, Finding, read_coordinates
from yellowtor.contracts.position import Area
from yellowtor.contracts.subject import AskedPosition

READABLE = {None, Finding.COMMA, Finding.SEXAGESIMAL}  # unusual notations with one certain meaning


@dataclass(frozen=True, slots=True)
class PositionComposer:
    """The two columns, the decimals of a degree of the question, and the decimal mark of the source."""

    latitude: str
    longitude: str
    decimals: int
    decimal: str = "."
    area: Area | None = None

    def raw_columns(self) -> Sequence[str]:
        return [self.latitude, self.longitude]

    def rules(self) -> str:
        """As for every composer. The text keeps an earlier name of this class, so that ledgers need no new scan."""
        return repr(self).replace(type(self).__name__, "Spotting", 1)

    def read(self, cells: Mapping[str, str]) -> CellCoordinates:
        """The position in these cells, and what is wrong with it."""
        return read_coordinates(cells[self.latitude], cells[self.longitude], self.decimal, self.area)

    def compose(self, cells: Mapping[str, str]) -> AskedPosition:
        """The position in these cells; an empty one if there is no valid position."""
        held = self.read(cells)
        if held.position is None or held.finding not in READABLE:
            return AskedPosition()
        return AskedPosition.rounded(held.position, self.decimals)

    def says_nothing(self, cells: Mapping[str, str]) -> bool:
        return not self.compose(cells).lat

    def own_line(self, cells: Mapping[str, str]) -> str:
        """Nothing: why_not() says what is wrong with a position."""
        del cells
        return ""

    def why_not(self, cells: Mapping[str, str], subject: AskedPosition) -> str:
        """Why nothing is asked about the position in these cells; empty where something is."""
        if subject.lat:
            return ""
        held = self.read(cells)
        if held.position is None and held.finding is None:
            return "the position is missing"
        return f"the position is not valid: {held.finding}"
