"""What people decide about addresses: where one is, that no answer fits it, or how it should read."""

from typing import NamedTuple

from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject


class Pin(NamedTuple):
    """A position that a person has decided, in degrees: who did, why, when (ISO 8601, UTC).

    Without a position, the person says that no answer fits. service, level and matched are those of the candidate that
    the person has chosen, if any.
    """

    lat: float | None
    lon: float | None
    who: str
    why: str
    pinned_at: str
    service: str = ""
    level: str = ""
    matched: str = ""

    @property
    def position(self) -> Position | None:
        return None if self.lat is None or self.lon is None else Position(self.lat, self.lon)

    @property
    def said(self) -> str:
        what = "nothing fits, says" if self.lat is None else "pinned by"
        because = f": {self.why}" if self.why else ""
        return f"{what} {self.who} on {self.pinned_at[:10]}{because}"


class Correction(NamedTuple):
    """How an address should read, as a person has decided: it is asked instead of `asked`."""

    asked: Subject
    corrected: Subject
    who: str
    why: str
    made_at: str

    @property
    def said(self) -> str:
        because = f": {self.why}" if self.why else ""
        return f"corrected by {self.who} on {self.made_at[:10]}{because}"


class PinnedSubject(NamedTuple):
    """A record that a person has decided about: its position, None if no answer fits."""

    key: str
    subject: Subject
    position: Position | None
