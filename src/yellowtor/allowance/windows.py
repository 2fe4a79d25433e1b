"""Windows of a quota: a number of requests in a span of time, by the calendar of a time zone, or rolling.

A calendar window begins for everybody at once, at midnight or on the first of a month. A rolling window is the last
span before any instant (a day is 86,400 s, a month 30 days).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from enum import StrEnum
from typing import Literal, Self
from zoneinfo import ZoneInfo

GREENWICH = ZoneInfo("UTC")


class Span(StrEnum):
    """How long a window is; seconds are those of a rolling one."""

    seconds: int
    now: str

    def __new__(cls, name: str, seconds: int, now: str) -> Self:
        member = str.__new__(cls, name)
        member._value_ = name
        member.seconds = seconds
        member.now = now
        return member

    SECOND = "second", 1, "this second"
    MINUTE = "minute", 60, "this minute"
    HOUR = "hour", 3_600, "this hour"
    DAY = "day", 86_400, "today"
    WEEK = "week", 7 * 86_400, "this week"
    MONTH = "month", 30 * 86_400, "this month"


SHORT = {Span.SECOND, Span.MINUTE, Span.HOUR}  # by UTC: as long as any other of its kind, whatever a zone's clocks do


@dataclass(frozen=True, slots=True)
class Window:
    """A number of requests in a span, without those that are left for others. Instants are in UTC.

    A cap is the user's own limit: for all jobs (own) or for one (job's). With money, limit is in millionths of the
    account's currency.
    """

    limit: int
    span: Span = Span.DAY
    zone: ZoneInfo = GREENWICH
    rolling: bool = False
    money: bool = False
    cap: Literal["", "own", "job's"] = ""
    leave: int = 0  # what limit is below the service's

    @property
    def name(self) -> str:
        """What the ledger knows it by, beside whose it is; and people."""
        name = f"rolling {self.span}" if self.rolling else str(self.span)
        return name + (" of money" if self.money else "") + (f", {self.cap} cap" if self.cap else "")

    @property
    def said(self) -> str:
        """What is spent, in a sentence: the quota of the day."""
        what = f"{self.span}'s money" if self.money else f"rolling {self.span}" if self.rolling else str(self.span)
        whose = {"": "the quota", "own": "your own cap", "job's": "the job's own cap"}[self.cap]
        return f"{whose} of the {what}"

    @property
    def words(self) -> str:
        """When its requests may be used, in words: today."""
        return f"in any {self.span}" if self.rolling else self.span.now

    def start(self, now: datetime) -> datetime:
        """The instant at which the calendar's window that holds now began."""
        if self.span in SHORT:
            utc = now.astimezone(UTC)
            into = timedelta(minutes=utc.minute, seconds=utc.second, microseconds=utc.microsecond)
            return utc - into % timedelta(seconds=self.span.seconds)
        day = now.astimezone(self.zone).date()
        if self.span is Span.WEEK:  # ISO 8601: it begins on Monday
            day -= timedelta(days=day.weekday())
        elif self.span is Span.MONTH:
            day = day.replace(day=1)
        return datetime.combine(day, time(), self.zone).astimezone(UTC)

    def end(self, now: datetime) -> datetime:
        """The instant at which the calendar's next window begins: a day may have 23, 24 or 25 hours."""
        start = self.start(now)
        if self.span in SHORT:
            return start + timedelta(seconds=self.span.seconds)
        day = start.astimezone(self.zone).date()
        match self.span:
            case Span.DAY:
                day += timedelta(days=1)
            case Span.WEEK:
                day += timedelta(days=7)
            case _:
                day = (day.replace(day=28) + timedelta(days=4)).replace(day=1)
        return datetime.combine(day, time(), self.zone).astimezone(UTC)


@dataclass(frozen=True, slots=True)
class Left:
    """What is left of a window, and when it is renewed (ISO 8601, UTC; empty if nothing is used).

    Money is in millionths.
    """

    window: str
    words: str
    limit: int
    left: int
    resets_at: str
    money: bool = False


def tightest(lefts: Sequence[Left]) -> Left | None:
    """The window with the fewest requests left; None if there is no window."""
    return min((left for left in lefts if not left.money), key=lambda left: left.left, default=None)
