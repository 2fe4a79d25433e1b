"""Where a record was before, and how it stands at an instant, as plain values."""

from typing import NamedTuple

from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position


class PastPosition(NamedTuple):
    """How a record stood from one instant to another (ISO 8601, UTC; empty: from the beginning, until now).

    judged_by is the digest of the rules and weights behind it; said is what a person said, of a pin.
    """

    since: str
    until: str
    address: str
    outcome: Outcome
    position: Position | None
    confidence: float | None = None
    basis: str = ""
    level: str = ""
    matched: str = ""
    service: str = ""
    asked_at: str = ""
    judged_by: str = ""
    said: str = ""


class RecordStanding(NamedTuple):
    """How a record stands, to be compared. address is what was asked, in one line."""

    outcome: Outcome | None
    position: Position | None
    confidence: float | None = None
    level: str = ""
    address: str = ""
    matched: str = ""
    service: str = ""


NOWHERE = RecordStanding(None, None)
