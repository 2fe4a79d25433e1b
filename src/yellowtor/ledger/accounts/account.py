"""The one authority for what may still be charged: an object for each account, and for each job with caps.

All services and jobs that use one connection to the ledger share these objects. An object is read again whenever
another connection has written; until then it counts along.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, select

from yellowtor.allowance.pace import FOR_GOOD, Learned, Pace
from yellowtor.allowance.windows import Window
from yellowtor.ledger.accounts.window_use import PUT_USE, CalendarUse, RollingUse, Use
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import pace, request, run, window_use
from yellowtor.ledger.storage.store import Store

LONGEST_PAUSE_S = 86_400.0
PUT_PACE = """INSERT INTO pace (account, boot_id, arrival, learned, learned_at, shut_until) VALUES (?, ?, ?, ?, ?, ?)
    ON CONFLICT (account) DO UPDATE SET boot_id = excluded.boot_id, arrival = excluded.arrival,
    learned = excluded.learned, learned_at = excluded.learned_at, shut_until = excluded.shut_until"""
ADD_USE = """UPDATE window_use SET used = used + ? WHERE account = ? AND "window" = ? AND start =
    (SELECT max(w.start) FROM window_use w WHERE w.account = window_use.account AND w."window" = window_use."window")"""


class Counter:
    """What the ledger counts under one name: the windows of an account, or the caps of a job."""

    def __init__(self, name: str, charged: ColumnElement[bool], store: Store) -> None:
        self.name = name
        self._charged = charged
        self._store = store
        self._uses: dict[Window, Use] = {}
        self._others: Sequence[str] = ()  # windows that only other descriptions know
        self._added = [0, 0]  # units and cost that the counters do not have yet

    def forget(self) -> None:
        """Read everything again when it is needed next."""
        self._uses.clear()
        self._added = [0, 0]

    def prepare(self, windows: Sequence[Window], now: datetime) -> None:
        """Count these windows too."""
        if all(_without_limit(window) in self._uses for window in windows):
            return
        for window in windows:
            self.use_of(window, now)
        known = select(window_use.c.window).distinct().where(window_use.c.account == self.name)
        mine = {window.name for window in self._uses}
        self._others = [name for name in self._store.connection.execute(known).scalars() if name not in mine]

    def use_of(self, window: Window, now: datetime) -> Use:
        """What is used of a window, independent of its limit."""
        window = _without_limit(window)
        if window not in self._uses:
            connection = self._store.connection
            self._uses[window] = (
                RollingUse(window, self.name, connection, now)
                if window.rolling
                else CalendarUse(window, self.name, self._charged, connection, now)
            )
        return self._uses[window]

    def reserved(self, number: int, units: int, cost: int) -> None:
        for use in self._uses.values():
            use.reserved(number, units, cost)
        self._added = [self._added[0] + units, self._added[1] + cost]

    def released(self, units: Mapping[int, int], cost: int) -> None:
        for use in self._uses.values():
            use.released(units, cost)
        self._added = [self._added[0] - sum(units.values()), self._added[1] - cost]

    def closed(self, numbers: Iterable[int], now: datetime) -> None:
        numbers = list(numbers)
        for use in self._uses.values():
            use.closed(numbers, now)

    def put(self) -> None:
        """Store what has changed."""
        self._store.run_many(PUT_USE, sorted(set(self._rows())))
        units, cost = self._added
        self._added = [0, 0]
        for name in self._others:
            if amount := cost if " of money" in name else units:
                self._store.run(ADD_USE, (amount, self.name, name))

    def _rows(self) -> Iterator[tuple[Any, ...]]:
        for use in self._uses.values():
            yield from use.rows()


def _without_limit(window: Window) -> Window:
    return replace(window, limit=0, leave=0)


class Account(Counter):
    """An account: its windows, its place in the pace, and the pause that a service asked for."""

    def __init__(self, name: str, store: Store) -> None:
        super().__init__(name, request.c.account == name, store)
        self._clock = store.clock
        self._arrival = 0.0
        self._learned = Learned()
        self._shut_until = ""  # ISO 8601, UTC
        self._is_paced = False
        self._read = False

    def forget(self) -> None:
        super().forget()
        self._read = False

    def renew(self) -> None:
        """Read the pace, unless it is known."""
        if self._read:
            return
        self._read = True
        query = select(pace.c.boot_id, pace.c.arrival, pace.c.learned, pace.c.learned_at, pace.c.shut_until)
        row = self._store.connection.execute(query.where(pace.c.account == self.name)).first()
        self._shut_until = row[4] if row else ""
        if row is None or row[0] != self._clock.boot_id():  # the clock of another boot says nothing
            self._arrival = 0.0
            self._learned = Learned()
            return
        at = row[3] if row[3] >= FOR_GOOD else min(row[3], self._clock.boot())  # a server's clock may be set back
        self._arrival = row[1]
        self._learned = Learned(row[2], at)

    def another(self, described: Pace, units: int) -> float:
        """The next free place in the pace, in seconds of the boot clock; not before the pause is over."""
        now = self._clock.boot()
        self._is_paced = self._is_paced or bool(described.per_second)
        send_at, self._arrival = self.pace(described, now).reserve(self._arrival, now, units)
        return max(send_at, now + self.shut_s(self._clock.now()))

    def shut_s(self, now: datetime) -> float:
        """Seconds until the service may be asked again, as it said itself."""
        if not self._shut_until:
            return 0.0
        return max(0.0, (datetime.fromisoformat(self._shut_until) - now).total_seconds())

    @property
    def shut_until(self) -> str:
        return self._shut_until

    def shut(self, until: datetime) -> None:
        """Pause; after a day the service is asked whether the pause still holds."""
        latest = self._clock.now() + timedelta(seconds=LONGEST_PAUSE_S)
        self._shut_until = max(self._shut_until, stamp(min(until, latest)))

    def pace(self, described: Pace, now: float) -> Pace:
        """The described pace, or a lower one that was learned."""
        return self._learned.pace(described, now)

    def too_fast(self, described: Pace, tried: float) -> None:
        """The service refused a request as too fast, at `tried` requests a second, and did not say what it allows."""
        self._learned = self._learned.too_fast(described, tried, self._clock.boot())

    def stated(self, described: Pace, per_second: float) -> bool:
        """The service stated this pace; whether it is below the described one."""
        self._learned = self._learned.stated(described, per_second)
        return self._learned.at == FOR_GOOD

    def put(self) -> None:
        super().put()
        if self._is_paced or self._learned.per_second or self._shut_until:
            learned = (self._learned.per_second, self._learned.at, self._shut_until)
            self._store.run(PUT_PACE, (self.name, self._clock.boot_id(), self._arrival, *learned))


class Accounts:
    """The accounts of one connection, and the caps of its job."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store = store
        self._known: dict[str, Account] = {}
        self._as_of = -1
        runs = select(run.c.id).where(run.c.job_id == job_id)
        self.job = Counter(f"@job {job_id}", request.c.run_id.in_(runs), store)

    def account(self, name: str) -> Account:
        """The account of this name; always the same object."""
        if name not in self._known:
            self._known[name] = Account(name, self._store)
        return self._known[name]

    def renew(self) -> int:
        """Read again what another connection may have changed; the version of the ledger."""
        version = self._store.changes()
        if version != self._as_of:
            self.forget()
            self._as_of = version
        return version

    def forget(self) -> None:
        """Nothing is known any more: a transaction failed, or others may have written."""
        self._as_of = -1
        self.job.forget()
        for account in self._known.values():
            account.forget()
