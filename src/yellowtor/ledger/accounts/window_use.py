"""What is used of each window: read from the ledger, then counted in memory."""

from collections import deque
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Protocol

from sqlalchemy import ColumnElement, Connection, func, select

from yellowtor.allowance.windows import Left, Window
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import request, window_use

PUT_USE = """INSERT INTO window_use (account, "window", start, used) VALUES (?, ?, ?, ?)
    ON CONFLICT (account, "window", start) DO UPDATE SET used = excluded.used"""


class Use(Protocol):
    """What is used of a window, independent of its limit."""

    window: Window

    def used(self, now: datetime) -> int: ...
    def more_at(self, now: datetime) -> datetime: ...
    def reserved(self, request: int, units: int, cost: int) -> None: ...
    def closed(self, requests: Iterable[int], now: datetime) -> None: ...
    def released(self, units: Mapping[int, int], cost: int) -> None: ...  # units by the number of the request
    def rows(self) -> list[tuple[object, ...]]: ...


class CalendarUse:
    """What is used of a calendar window; never of an earlier window than the last one that was seen.

    A request counts in the window in which it was reserved. A request in flight when the next window begins counts in
    that one too: the service counts it when it arrives, and nobody here knows when that is. `whose` is the name that
    the ledger counts the window under, `charged` selects its requests.
    """

    def __init__(
        self, window: Window, whose: str, charged: ColumnElement[bool], connection: Connection, now: datetime
    ) -> None:
        self.window = window
        self._whose = whose
        self._charged = charged
        self._connection = connection
        query = select(window_use.c.start, window_use.c.used).where(
            window_use.c.account == whose, window_use.c.window == window.name
        )
        last = connection.execute(query.order_by(window_use.c.start.desc()).limit(1)).first()
        self._start = window.start(now)
        if last and datetime.fromisoformat(last[0]) >= self._start:
            self._start = datetime.fromisoformat(last[0])
            self._used = int(last[1])
        else:
            self._used = self._recorded()

    def _recorded(self) -> int:
        """What the requests of the ledger have used: those that were not settled before the window began."""
        amount = request.c.cost if self.window.money else request.c.units
        query = select(func.coalesce(func.sum(amount), 0)).where(
            self._charged,
            request.c.settled_at.is_(None) | (request.c.settled_at >= stamp(self._start)),
            request.c.state != "released",
        )
        return int(self._connection.execute(query).scalar_one())

    def used(self, now: datetime) -> int:
        """What is used of the window that holds now."""
        if (start := self.window.start(now)) > self._start:
            self._start = start
            self._used = self._recorded()
        return self._used

    def more_at(self, now: datetime) -> datetime:
        return self.window.end(max(now, self._start))

    def reserved(self, request: int, units: int, cost: int) -> None:  # noqa: ARG002 - counted, not named
        self._used += cost if self.window.money else units

    def closed(self, requests: Iterable[int], now: datetime) -> None:
        """They count already."""

    def released(self, units: Mapping[int, int], cost: int) -> None:
        self._used = max(0, self._used - (cost if self.window.money else sum(units.values())))

    def rows(self) -> list[tuple[object, ...]]:
        return [(self._whose, self.window.name, stamp(self._start), self._used)]


class RollingUse:
    """What is used of a rolling window, counted from the ledger's requests.

    The service counts a request when it arrives: at an unknown instant before its reply. So a request counts while it
    is in flight, and for the whole span after its reply.
    """

    def __init__(self, window: Window, account: str, connection: Connection, now: datetime) -> None:
        self.window = window
        self._span = timedelta(seconds=window.span.seconds)
        flying = select(request.c.id, request.c.units).where(
            request.c.account == account, request.c.state == "reserved"
        )
        self._flying: dict[int, int] = {row[0]: row[1] for row in connection.execute(flying)}
        settled = select(request.c.settled_at, func.sum(request.c.units)).where(
            request.c.account == account, request.c.settled_at > stamp(now - self._span), request.c.state != "released"
        )
        rows = connection.execute(settled.group_by(request.c.settled_at).order_by(request.c.settled_at))
        self._past: deque[tuple[datetime, int]] = deque((datetime.fromisoformat(at), units) for at, units in rows)
        self._used: int = sum(units for _, units in self._past) + sum(self._flying.values())

    def used(self, now: datetime) -> int:
        while self._past and self._latest(now) - self._past[0][0] >= self._span:
            self._used -= self._past.popleft()[1]
        return self._used

    def more_at(self, now: datetime) -> datetime:
        """When the oldest falls out; what is in flight has all of it before it."""
        return (self._past[0][0] if self._past else now) + self._span

    def reserved(self, request: int, units: int, cost: int) -> None:  # noqa: ARG002 - never of money
        self._flying[request] = units
        self._used += units

    def closed(self, requests: Iterable[int], now: datetime) -> None:
        units = sum(self._flying.pop(number, 0) for number in requests)
        if units:
            self._past.append((self._latest(now), units))

    def released(self, units: Mapping[int, int], cost: int) -> None:  # noqa: ARG002 - never of money
        self._used -= sum(self._flying.pop(number, 0) for number in units)

    def rows(self) -> list[tuple[object, ...]]:
        return []

    def _latest(self, now: datetime) -> datetime:
        """Now, or the last reply if that was later: a clock may be set back."""
        return max(now, self._past[-1][0]) if self._past else now


@dataclass(frozen=True, slots=True)
class Limit:
    """A window with the limit of one description, and what all descriptions have used of it."""

    window: Window
    use: Use

    def left(self, now: datetime) -> int:
        return max(0, self.window.limit - self.use.used(now))

    def more_at(self, now: datetime) -> datetime:
        """When something of it is free again."""
        return self.use.more_at(now)

    def shown(self, now: datetime) -> Left:
        """As reports show it."""
        window = self.window
        left = self.left(now)
        resets_at = stamp(self.more_at(now)) if left < window.limit else ""
        return Left(window.name, window.words, window.limit, left, resets_at, window.money)
