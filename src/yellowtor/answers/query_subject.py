"""What is asked about in reverse: a position, at the precision in which it is asked.

A position that is not valid is never asked about; the reason says what is wrong with it.
"""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from yellowtor.addresses.address import Address
from yellowtor.answers.geography.cell_coordinates import Finding, Held, read_coordinates
from yellowtor.answers.geography.position import Area, Position

READABLE = {None, Finding.COMMA, Finding.SEXAGESIMAL}  # written unusually, and meant for certain


class Subject(Protocol):
    """What a question is about: an address, or a spot."""

    def line(self) -> str: ...
    def key(self) -> str: ...
    def as_dict(self) -> dict[str, str]: ...
    def variables(self) -> dict[str, str]: ...


class Composer(Protocol):
    """How a record becomes what is asked about, from its cells (column name to text)."""

    def raw_columns(self) -> Sequence[str]: ...
    def rules(self) -> str: ...
    def compose(self, cells: Mapping[str, str]) -> Subject: ...
    def says_nothing(self, cells: Mapping[str, str]) -> bool: ...
    def own_line(self, cells: Mapping[str, str]) -> str: ...
    def why_not(self, cells: Mapping[str, str], asked: Any, /) -> str: ...


@dataclass(frozen=True, slots=True)
class Spot:
    """A position in degrees, WGS 84, as texts at the precision in which it is asked about; empty: there is none."""

    lat: str = ""
    lon: str = ""

    @property
    def position(self) -> Position:
        return Position(float(self.lat), float(self.lon))

    def line(self) -> str:
        return f"{self.lat}, {self.lon}" if self.lat else ""

    def key(self) -> str:
        """The geo: URI of it (RFC 5870), which no address is."""
        return f"geo:{self.lat},{self.lon}"

    def as_dict(self) -> dict[str, str]:
        return {"lat": self.lat, "lon": self.lon}

    def variables(self) -> dict[str, str]:
        """What a template can say of it."""
        return self.as_dict()


@dataclass(frozen=True, slots=True)
class Spotting:
    """How a record becomes a spot: its two columns, the decimals of a degree to ask with, the source's decimal mark."""

    latitude: str
    longitude: str
    decimals: int
    decimal: str = "."
    area: Area | None = None

    def raw_columns(self) -> Sequence[str]:
        return [self.latitude, self.longitude]

    def rules(self) -> str:
        return repr(self)

    def read(self, cells: Mapping[str, str]) -> Held:
        """The position in these cells, and what is wrong with it."""
        return read_coordinates(cells[self.latitude], cells[self.longitude], self.decimal, self.area)

    def compose(self, cells: Mapping[str, str]) -> Spot:
        """The spot in these cells; an empty one where there is no valid position."""
        held = self.read(cells)
        if held.position is None or held.finding not in READABLE:
            return Spot()
        return spot_at(held.position, self.decimals)

    def says_nothing(self, cells: Mapping[str, str]) -> bool:
        return not self.compose(cells).lat

    def own_line(self, cells: Mapping[str, str]) -> str:
        """Nothing: what looks odd about a position is told by why_not()."""
        del cells
        return ""

    def why_not(self, cells: Mapping[str, str], spot: Spot) -> str:
        """Why nothing is asked about the position in these cells; empty where something is."""
        if spot.lat:
            return ""
        held = self.read(cells)
        if held.position is None and held.finding is None:
            return "the position is missing"
        return f"the position is not valid: {held.finding}"


def spot_at(position: Position, decimals: int) -> Spot:
    """The spot at a position, with so many decimals of a degree."""
    lat, lon = (f"{round(side, decimals) + 0.0:.{decimals}f}" for side in (position.lat, position.lon))
    return Spot(lat, lon)


def subject_of(text: str) -> Address | Spot:
    """The address or spot that the ledger keeps as this JSON."""
    told = json.loads(text)
    return Spot(**told) if "lat" in told else Address(**told)
