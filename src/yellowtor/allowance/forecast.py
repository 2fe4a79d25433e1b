"""Forecasts the requests of a run: how many are sent before a window is spent, and when the last one is sent."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Price, price_on
from yellowtor.allowance.windows import GREENWICH, Left, Span, Window

MOST_STRETCHES = 100_000  # a window that is opened so often is not worth foretelling


@dataclass(frozen=True, slots=True)
class Forecast:
    """The requests of a run; at_once of them are sent before a window makes the others wait, in `seconds`.

    seconds is None if it is unknown: for a service without a pace that has not replied yet. stretches is the number of
    stretches in which the requests are sent, ends_at the end of the last one (ISO 8601, UTC). reply_s is the time of a
    reply, if replies and not the pace limit the run. goes_on_at is the start of the second stretch (None: there is only
    one). curve has the start, the end and the requests so far of each stretch.
    """

    requests: int
    at_once: int
    seconds: float | None
    stretches: int
    ends_at: str
    cost: int = 0  # millionths, by the tiers of the months that they fall in
    goes_on_at: datetime | None = None
    curve: Sequence[tuple[datetime, datetime, int]] = ()
    reply_s: float | None = None


@dataclass
class _Filling:
    """A window as it fills: what it holds (requests, or money), and until when."""

    window: Window
    held: list[tuple[datetime, int]] = field(default_factory=list)

    def room(self, at: datetime) -> int:
        self.held = [(until, amount) for until, amount in self.held if until > at]
        return max(0, self.window.limit - sum(amount for _, amount in self.held))

    def put(self, amount: int, began: datetime, ended: datetime) -> None:
        window = self.window
        until = ended + timedelta(seconds=window.span.seconds) if window.rolling else window.end(began)
        self.held.append((until, amount))


@dataclass
class _Month:
    """What requests cost, by how many of the calendar month are used."""

    prices: Sequence[Price]
    filling: _Filling

    def used(self, at: datetime) -> int:
        return self.filling.window.limit - self.filling.room(at)

    def affords(self, amount: int, at: datetime, requests: int) -> int:
        """How many of the requests an amount buys."""
        price = price_on(self.prices, at.date())
        bought = price.affords(self.used(at), amount) if price else None
        return requests if bought is None else min(requests, bought)

    def cost(self, requests: int, at: datetime) -> int:
        price = price_on(self.prices, at.date())
        return price.cost(self.used(at), requests) if price else 0


@dataclass(frozen=True, slots=True)
class Charges:
    """What requests cost: the prices, and how many requests of the calendar month count for them already.

    The month is that of the windows' time zone, else of UTC.
    """

    prices: Sequence[Price] = ()
    month_used: int = 0


FREE = Charges()


def forecast(
    requests: int,
    pace: Pace,
    windows: Sequence[Window],
    lefts: Sequence[Left],
    now: datetime,
    charges: Charges = FREE,
    begins: datetime | None = None,
) -> Forecast:
    """The figures for a run that meets no fault and waits for its windows. lefts are of the windows, one for each.

    It begins now, or later.
    """
    filling = [_Filling(window) for window in windows]
    for one, left in zip(filling, lefts, strict=True):
        if left.left < one.window.limit:
            one.put(one.window.limit - left.left, now, now)
    zone = windows[0].zone if windows else GREENWICH
    month = _Month(charges.prices, _Filling(Window(2**62, Span.MONTH, zone)))
    month.filling.put(charges.month_used, now, now)
    at = start = max(now, begins or now)
    rest = requests
    at_once = 0
    spent = 0
    curve = list[tuple[datetime, datetime, int]]()
    while rest and len(curve) < MOST_STRETCHES:
        rooms = [(one, one.room(at)) for one in filling]
        allowed = [(one, month.affords(room, at, rest) if one.window.money else room) for one, room in rooms]
        room = min((count for _, count in allowed), default=rest)
        if room <= 0:
            waits = [min((until for until, _ in one.held), default=None) for one, count in allowed if not count]
            if None in waits:  # an empty window that has no room for a single request never will
                return Forecast(requests, at_once, None, 0, "", spent, None, curve)
            at = max(until for until in waits if until is not None)
            continue
        sent = min(room, rest)
        ended = at + timedelta(seconds=sent * pace.interval_s)
        cost = month.cost(sent, at)
        for one in [*filling, month.filling]:
            one.put(cost if one.window.money else sent, at, ended)
        at_once = sent if at == start else at_once
        rest = rest - sent
        spent = spent + cost
        curve.append((at, ended, requests - rest))
        at = ended
    seconds = at_once * pace.interval_s if pace.per_second else None
    goes_on = curve[1][0] if at_once and len(curve) > 1 else curve[0][0] if curve and not at_once else None
    ends_at = at.astimezone(UTC).isoformat(timespec="seconds")
    return Forecast(requests, at_once, seconds, len(curve), ends_at, spent, goes_on, curve)
