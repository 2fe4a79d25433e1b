"""What an account has used of its windows: read from the ledger, counted along while a run has it to itself."""

from collections import deque
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Protocol

from sqlalchemy import ColumnElement, Connection, func, select

from yellowtor.allowance.windows import Left, Window
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import request, run, window_use

PUT_USE = """INSERT INTO window_use (account, "window", start, used) VALUES (?, ?, ?, ?)
    ON CONFLICT (account, "window", start) DO UPDATE SET used = excluded.used"""


class Use(Protocol):
    """What is used of one window, as of a version of the database."""

    window: Window

    def left(self, now: datetime) -> int: ...
    def more_at(self, now: datetime) -> datetime: ...
    def reserved(self, request: int, units: int, cost: int) -> None: ...
    def closed(self, requests: Iterable[int], now: datetime) -> None: ...
    def released(self, units: Mapping[int, int], cost: int) -> None: ...  # units by the number of the request
    def rows(self) -> list[tuple[object, ...]]: ...


class CalendarUse:
    """Of a calendar's window; never of an earlier one than the last that was seen.

    A request counts in the window that it was reserved in. What is in flight when the next one begins counts in that
    too: the service counts it when it comes, which nobody here knows. whose is what the window is counted by in the
    ledger, charged are its requests there; of a window that was never counted, what is in the record of them counts.
    """

    def __init__(
        self, window: Window, whose: str, charged: ColumnElement[bool], connection: Connection, now: datetime
    ) -> None:
        self.window = window
        self._account = whose
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
            self._used = self._recorded(only_in_flight=last is not None)

    def _recorded(self, *, only_in_flight: bool) -> int:
        """What the record has of requests that were not over when the window began: all, or those under way then."""
        start = stamp(self._start)
        query = select(func.coalesce(func.sum(request.c.cost if self.window.money else request.c.units), 0)).where(
            self._charged,
            request.c.settled_at.is_(None) | (request.c.settled_at >= start),
            request.c.state != "released",
        )
        if only_in_flight:
            query = query.where(request.c.reserved_at < start)
        return int(self._connection.execute(query).scalar_one())

    def left(self, now: datetime) -> int:
        if (start := self.window.start(now)) > self._start:
            self._start = start
            self._used = self._recorded(only_in_flight=True)
        return max(0, self.window.limit - self._used)

    def used(self, now: datetime) -> int:
        """Of the window that holds now."""
        self.left(now)
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
        return [(self._account, self.window.name, stamp(self._start), self._used)]


class RollingUse:
    """Of a rolling window: the requests themselves are counted, from the ledger's record of them.

    The service counts a request from when it came, which nobody here knows: it was before its reply. So a request
    counts as long as it is in flight, and for the whole span after its reply.
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

    def left(self, now: datetime) -> int:
        while self._past and self._latest(now) - self._past[0][0] >= self._span:
            self._used -= self._past.popleft()[1]
        return max(0, self.window.limit - self._used)

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


def uses(windows: Sequence[Window], account: str, job_id: int, connection: Connection, now: datetime) -> list[Use]:
    """What the account has used of each of its windows, and the job of its own caps."""
    jobs = request.c.run_id.in_(select(run.c.id).where(run.c.job_id == job_id))
    found: list[Use] = []
    for window in windows:
        if window.rolling:
            found.append(RollingUse(window, account, connection, now))
        elif window.cap == "job's":
            found.append(CalendarUse(window, f"@job {job_id}", jobs, connection, now))
        else:
            found.append(CalendarUse(window, account, request.c.account == account, connection, now))
    return found


def left_of(use: Use, now: datetime) -> Left:
    """The same for people."""
    window = use.window
    left = use.left(now)
    resets_at = stamp(use.more_at(now)) if left < window.limit else ""
    return Left(window.name, window.words, window.limit, left, resets_at, window.money)
