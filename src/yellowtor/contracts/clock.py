"""Time, as a Protocol: tests and a shared ledger have clocks of their own."""

from datetime import datetime
from typing import Protocol


class Clock(Protocol):
    """The time of day, and a clock that nobody sets."""

    def now(self) -> datetime:
        """The time of day, in UTC."""

    def boot(self) -> float:
        """Seconds since the boot that boot_id() names; the same for all who share the ledger."""

    def boot_id(self) -> str:
        """The identity of a boot; seconds of different boots can't be compared."""
