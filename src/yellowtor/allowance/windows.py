"""Windows of an allowance: the day in a named time zone."""

from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo


@dataclass(frozen=True, slots=True)
class DayWindow:
    """So many requests in a calendar day of a zone; None is no limit."""

    limit: int | None
    zone: ZoneInfo

    def start(self, now: datetime) -> datetime:
        """The instant, in UTC, at which the day that holds now began."""
        local = now.astimezone(self.zone)
        return datetime.combine(local.date(), time(), self.zone).astimezone(UTC)

    def end(self, now: datetime) -> datetime:
        """The instant, in UTC, at which the next day begins: 23, 24 or 25 hours after the start."""
        tomorrow = now.astimezone(self.zone).date() + timedelta(days=1)
        return datetime.combine(tomorrow, time(), self.zone).astimezone(UTC)
