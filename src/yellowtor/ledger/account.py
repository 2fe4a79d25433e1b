"""An account in a run: its windows, its place in the pace, what requests cost. Read from the ledger, counted along."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from sqlalchemy import Connection, bindparam, func, select
from sqlalchemy.dialects.sqlite import insert

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Budget, Price, price_on
from yellowtor.allowance.windows import Left, Span, Window
from yellowtor.answers.work import Reserved, Spent
from yellowtor.ledger.schema import pace, request
from yellowtor.ledger.windows import PUT_USE, CalendarUse, left_of, stamp, uses

UNLIMITED = 2**62  # of a month that is counted for its price only
_PUT = insert(pace).values(account=bindparam("account"), boot_id=bindparam("boot_id"), arrival=bindparam("arrival"))
PUT_PACE = _PUT.on_conflict_do_update(
    index_elements=["account"], set_={"boot_id": _PUT.excluded.boot_id, "arrival": _PUT.excluded.arrival}
)


class Clock(Protocol):
    def now(self) -> datetime: ...
    def boot(self) -> float: ...
    def boot_id(self) -> str: ...


@dataclass(frozen=True, slots=True)
class AccountTerms:
    """A service, the way it is asked (its key), the account that is charged, what that allows and costs."""

    service: str
    asking: str
    account: str
    pace: Pace
    windows: Sequence[Window] = ()
    prices: Sequence[Price] = ()

    def counted(self) -> Sequence[Window]:
        """Its windows, and the month that its price goes by."""
        has_month = any(w.span is Span.MONTH and not w.rolling for w in self.windows)
        return [*self.windows, *([Window(UNLIMITED, Span.MONTH)] if self.prices and not has_month else [])]


class Account:
    """As of a version of the database. budget is what the run may spend, whatever accounts it charges."""

    def __init__(self, terms: AccountTerms, clock: Clock, connection: Connection, budget: Budget) -> None:
        now = clock.now()
        self._terms, self._clock, self._budget = terms, clock, budget
        self._uses = uses(terms.counted(), terms.account, connection, now)
        self._month = next((use for use in self._uses if use.window.name == Span.MONTH), None)
        self._price = price_on(terms.prices, now.date())
        self._arrival = self._last_arrival(connection)
        self._next_id = (connection.execute(select(func.max(request.c.id))).scalar_one() or 0) + 1

    def lefts(self, now: datetime) -> list[Left]:
        """What each window still allows."""
        return [left_of(use, now) for use in self._uses if use.window.limit < UNLIMITED]

    def covers(self, questions: int, now: datetime, *, counts_each: bool) -> int:
        """How many of so many questions the windows and the run's budget allow in one request."""
        room = min((use.left(now) for use in self._uses), default=questions)
        units = min(room, questions if counts_each else 1)
        while units > 0 and not self._budget.covers(self.cost(units, now)):
            units -= 1
        return units if counts_each else questions * (units > 0)

    def cost(self, units: int, now: datetime) -> int:
        """What so many more requests cost, in millionths."""
        if self._price is None or not isinstance(self._month, CalendarUse):
            return 0
        return self._price.cost(self._month.used(now), units)

    def grant(self, units: Sequence[int], now: datetime) -> list[Reserved]:
        """Reservations for the questions of one request, each with the units that it counts for."""
        total, made = sum(units), list[Reserved]()
        send_at, self._arrival = self._terms.pace.reserve(self._arrival, self._clock.boot(), total)
        for unit in units:
            cost = self.cost(unit, now)
            self._budget.take(cost)
            made.append(Reserved(self._next_id, send_at, unit, cost))
            for use in self._uses:
                use.reserved({self._next_id: unit})
            self._next_id += 1
        return made

    def another(self, units: int) -> float:
        """Another place in the pace."""
        send_at, self._arrival = self._terms.pace.reserve(self._arrival, self._clock.boot(), units)
        return send_at

    def why_not(self, now: datetime) -> Spent:
        """Which windows have nothing left, and when the last of them has more; or that the budget is spent."""
        empty = [use for use in self._uses if not use.left(now)]
        if not empty:
            return Spent("", "the run has spent what it may")
        names = " and ".join(use.window.name for use in empty)
        return Spent(stamp(max(use.more_at(now) for use in empty)), f"the allowance of the {names} is spent")

    def released(self, units: Mapping[int, int], cost: int) -> None:
        """These never left."""
        self._budget.take(-cost)
        for use in self._uses:
            use.released(units)

    def closed(self, requests: Iterable[int], now: datetime) -> None:
        """To these there is a reply."""
        numbers = list(requests)
        for use in self._uses:
            use.closed(numbers, now)

    def put(self, connection: Connection) -> None:
        """Keep what has changed."""
        if rows := [row for use in self._uses for row in use.rows()]:
            connection.execute(PUT_USE, rows)
        if self._terms.pace.per_second:
            at = {"boot_id": self._clock.boot_id(), "arrival": self._arrival}
            connection.execute(PUT_PACE, {"account": self._terms.account, **at})

    def _last_arrival(self, connection: Connection) -> float:
        """The account's theoretical arrival time; another boot's clock says nothing."""
        query = select(pace.c.boot_id, pace.c.arrival).where(pace.c.account == self._terms.account)
        row = connection.execute(query).first()
        return row[1] if row and row[0] == self._clock.boot_id() else 0.0
