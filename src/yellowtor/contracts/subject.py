"""What a question is about: an address or, in reverse, a position."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from yellowtor.contracts.address import PARTS, Address
from yellowtor.contracts.position import Position


class Subject(Protocol):
    """What a question is about."""

    def line(self) -> str:
        """One readable line."""

    def as_dict(self) -> dict[str, str]:
        """The parts that are known, by name."""

    def variables(self) -> dict[str, str]:
        """The variables of a template."""


@dataclass(frozen=True, slots=True)
class AskedPosition:
    """A position in degrees, WGS 84, each side as text at the precision of the question; empty: there is none."""

    lat: str = ""
    lon: str = ""

    @classmethod
    def rounded(cls, position: Position, decimals: int) -> "AskedPosition":
        """The position, rounded to this many decimals of a degree."""
        lat, lon = (f"{round(side, decimals) + 0.0:.{decimals}f}" for side in (position.lat, position.lon))
        return cls(lat, lon)

    @property
    def position(self) -> Position:
        return Position(float(self.lat), float(self.lon))

    @property
    def uri(self) -> str:
        """The `geo:` URI (RFC 5870)."""
        return f"geo:{self.lat},{self.lon}"

    def line(self) -> str:
        return f"{self.lat}, {self.lon}" if self.lat else ""

    def as_dict(self) -> dict[str, str]:
        return {"lat": self.lat, "lon": self.lon}

    def variables(self) -> dict[str, str]:
        return self.as_dict()


def subject_from(parts: Mapping[str, str]) -> Address | AskedPosition:
    """The subject that as_dict() describes."""
    return AskedPosition(**parts) if "lat" in parts else Address(**parts)


_encoded = json.JSONEncoder(ensure_ascii=False).encode  # json.dumps() makes such an encoder each time


def subject_text(subject: Subject) -> str:
    """The subject in JSON, as it is stored and passed between processes."""
    return _encoded(subject.as_dict())


def parts_text(texts: Sequence[str]) -> str:
    """The same for an address, of its texts()."""
    return _encoded({part: text for part, text in zip(PARTS, texts, strict=True) if text})


def read_subject(text: str) -> Address | AskedPosition:
    """The subject that subject_text() describes."""
    return subject_from(json.loads(text))


class Composer(Protocol):
    """How a record becomes the subject of a question. cells are texts by column name."""

    def raw_columns(self) -> Sequence[str]:
        """The columns that are read."""

    def rules(self) -> str:
        """All rules as one text: equal texts compose equally."""

    def compose(self, cells: Mapping[str, str]) -> Subject:
        """The subject in these cells."""

    def says_nothing(self, cells: Mapping[str, str]) -> bool:
        """Whether the record itself contains nothing to ask about."""

    def own_line(self, cells: Mapping[str, str]) -> str:
        """What the record itself contains, without what the job fixes, in one line."""

    def why_not(self, cells: Mapping[str, str], subject: Any, /) -> str:
        """Why nothing is asked about the subject; empty if something is."""
