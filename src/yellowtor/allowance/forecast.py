"""What asking so many questions will take: how many leave at once, and when the last one may, given every window."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import Left, Window

MOST_STRETCHES = 100_000  # a window that is opened so often is not worth foretelling


@dataclass(frozen=True, slots=True)
class Forecast:
    """Requests to be sent; those that leave before a window makes them wait, and the seconds that they take.

    stretches is in how many goes all of them are sent, ends_at when the last may leave (ISO 8601, UTC); seconds is None
    without a pace.
    """

    requests: int
    at_once: int
    seconds: float | None
    stretches: int
    ends_at: str


@dataclass
class _Filling:
    """A window as it fills: what it holds, and until when."""

    window: Window
    held: list[tuple[datetime, int]] = field(default_factory=list)

    def room(self, at: datetime) -> int:
        self.held = [(until, units) for until, units in self.held if until > at]
        return max(0, self.window.limit - sum(units for _, units in self.held))

    def put(self, units: int, began: datetime, ended: datetime) -> None:
        window = self.window
        until = ended + timedelta(seconds=window.span.seconds) if window.rolling else window.end(began)
        self.held.append((until, units))


def forecast(requests: int, pace: Pace, windows: Sequence[Window], lefts: Sequence[Left], now: datetime) -> Forecast:
    """The figures for a run that meets no fault and waits for its windows. lefts are of the windows, one for each."""
    filling = [_Filling(window) for window in windows]
    for one, left in zip(filling, lefts, strict=True):
        if left.left < one.window.limit:
            one.put(one.window.limit - left.left, now, now)
    at, rest, goes, at_once = now, requests, 0, 0
    while rest and goes < MOST_STRETCHES:
        room = min((one.room(at) for one in filling), default=rest)
        if room <= 0:
            at = max(min(until for until, _ in one.held) for one in filling if not one.room(at))
            continue
        sent = min(room, rest)
        ended = at + timedelta(seconds=sent * pace.interval_s)
        for one in filling:
            one.put(sent, at, ended)
        at_once = sent if at == now else at_once
        at, rest, goes = ended, rest - sent, goes + 1
    seconds = at_once * pace.interval_s if pace.per_second else None
    return Forecast(requests, at_once, seconds, goes, at.astimezone(UTC).isoformat(timespec="seconds"))
