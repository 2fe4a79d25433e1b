"""An account in a run: its windows, its place in the pace, what requests cost. Read from the ledger, counted along."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select

from yellowtor.allowance.pace import FOR_GOOD, Learned, Pace
from yellowtor.allowance.price import Budget, Price, price_on
from yellowtor.allowance.rate_limit_headers import StatedLimit
from yellowtor.allowance.retry import PATIENCE_S
from yellowtor.allowance.windows import Left, Span, Window
from yellowtor.answers.ledger_rows import Reserved, Spent
from yellowtor.ledger.accounts.window_use import PUT_USE, CalendarUse, left_of, uses
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import pace, request
from yellowtor.ledger.storage.store import Store

LONGEST_PAUSE_S = 86_400.0
UNLIMITED = 2**62  # of a month that is counted for its price only
PUT_PACE = """INSERT INTO pace (account, boot_id, arrival, learned, learned_at, shut_until) VALUES (?, ?, ?, ?, ?, ?)
    ON CONFLICT (account) DO UPDATE SET boot_id = excluded.boot_id, arrival = excluded.arrival,
    learned = excluded.learned, learned_at = excluded.learned_at, shut_until = excluded.shut_until"""


@dataclass(frozen=True, slots=True)
class AccountTerms:
    """A service, the way it is asked (its key), the account that is charged, what that allows and costs."""

    service: str
    asking: str
    account: str
    pace: Pace
    windows: Sequence[Window] = ()
    prices: Sequence[Price] = ()
    keep_days: int | None = None
    keep_nothing_days: int | None = None

    def counted(self) -> Sequence[Window]:
        """Its windows, and the month that its price goes by."""
        has_month = any(w.name == Span.MONTH for w in self.windows)
        return [*self.windows, *([Window(UNLIMITED, Span.MONTH)] if self.prices and not has_month else [])]


class Account:
    """As of a version of the database. budget is what the run may spend, whatever accounts it charges."""

    def __init__(self, terms: AccountTerms, job_id: int, store: Store, budget: Budget) -> None:
        now = store.clock.now()
        connection = store.connection
        self._terms = terms
        self._store = store
        self._clock = store.clock
        self._budget = budget
        self._uses = uses(terms.counted(), terms.account, job_id, connection, now)
        self._month = next((use for use in self._uses if use.window.name == Span.MONTH), None)
        self._shut_until = ""  # the service wants nobody to ask before (ISO 8601, UTC)
        self._arrival, self._learned = self._paced()
        self._next_id = (connection.execute(select(func.max(request.c.id))).scalar_one() or 0) + 1

    def lefts(self, now: datetime) -> list[Left]:
        """What each window still allows."""
        return [left_of(use, now) for use in self._uses if use.window.limit < UNLIMITED]

    def covers(self, questions: int, now: datetime, *, counts_each: bool) -> int:
        """How many of so many questions the windows and the run's budget allow in one request."""
        if self.shut_s(now) > PATIENCE_S:
            return 0
        room = min((use.left(now) for use in self._uses if not use.window.money), default=questions)
        units = min(room, questions if counts_each else 1)
        while units > 0 and not self._affords(self.cost(units, now), now):
            units -= 1
        return units if counts_each else questions * (units > 0)

    def _affords(self, cost: int, now: datetime) -> bool:
        """Whether the run's budget and every cap of money allow it."""
        return self._budget.covers(cost) and all(use.left(now) >= cost for use in self._uses if use.window.money)

    def month_used(self, now: datetime) -> int:
        """How many requests of the calendar month count for the price."""
        return self._month.used(now) if isinstance(self._month, CalendarUse) else 0

    def cost(self, units: int, now: datetime) -> int:
        """What so many more requests cost, in millionths."""
        price = price_on(self._terms.prices, now.date())
        if price is None or not isinstance(self._month, CalendarUse):
            return 0
        return price.cost(self._month.used(now), units)

    def grant(self, units: Sequence[int], now: datetime) -> list[Reserved]:
        """Reservations for the questions of one request, each with the units that it counts for."""
        total = sum(units)
        made = list[Reserved]()
        send_at = self.another(total)
        for unit in units:
            cost = self.cost(unit, now)
            self._budget.take(cost)
            made.append(Reserved(self._next_id, send_at, unit, cost))
            for use in self._uses:
                use.reserved(self._next_id, unit, cost)
            self._next_id += 1
        return made

    def another(self, units: int) -> float:
        """Another place in the pace, not before the account is open again."""
        now = self._clock.boot()
        send_at, self._arrival = self.pace(now).reserve(self._arrival, now, units)
        return max(send_at, now + self.shut_s(self._clock.now()))

    def shut_s(self, now: datetime) -> float:
        """Seconds until the service may be asked again, by what it said itself."""
        if not self._shut_until:
            return 0.0
        return max(0.0, (datetime.fromisoformat(self._shut_until) - now).total_seconds())

    def shut(self, until: datetime) -> None:
        """The service wants nobody to ask before; after a day it is asked again whether that still holds."""
        latest = self._clock.now() + timedelta(seconds=LONGEST_PAUSE_S)
        self._shut_until = max(self._shut_until, stamp(min(until, latest)))

    def pace(self, now: float) -> Pace:
        """The one that is kept: the described, or a lower one that was learned."""
        return self._learned.pace(self._terms.pace, now)

    def too_fast(self, tried: float) -> None:
        """The service said so, and not how fast we may be; so many a second left lately."""
        self._learned = self._learned.too_fast(self._terms.pace, tried, self._clock.boot())

    def heed(self, told: Sequence[StatedLimit], uncounted: int, now: datetime) -> dict[str, str]:
        """Go by what the service says where it allows less than is believed; what differs, in words."""
        differences = {}
        for one in told:
            if one.per_second is not None:
                self._learned = self._learned.told(self._terms.pace, one.per_second)
                if self._learned.at == FOR_GOOD:
                    said = f"{self._terms.pace.per_second:g}" if self._terms.pace.per_second else "any number of"
                    differences["pace"] = (
                        f"{self._terms.service} says {one.per_second:g} requests a second, its description {said}"
                    )
            for use in self._uses:
                window = use.window
                if one.left is None or not one.is_of(window, (use.more_at(now) - now).total_seconds()):
                    continue
                believed = use.left(now)
                left = max(0, one.left - window.leave - uncounted)
                if left < believed and isinstance(use, CalendarUse):
                    use.reserved(0, believed - left, 0)
                    if one.left + window.leave < believed:
                        differences[window.name] = (
                            f"{self._terms.service} says {one.left:,} are left of the {window.span}, "
                            f"the ledger {believed:,}: others use the key, or the description believes too much"
                        )
        return differences

    def why_not(self, now: datetime) -> Spent:
        """Which windows have nothing left, and when the last of them has more; or that the budget is spent."""
        if self.shut_s(now) > PATIENCE_S:
            return Spent(self._shut_until, f"{self._terms.service} has asked for a pause (Retry-After)")
        least = self.cost(1, now)
        empty = [use for use in self._uses if use.left(now) < (max(1, least) if use.window.money else 1)]
        if not empty:
            return Spent("", "the run has spent what it may")
        names = " and ".join(use.window.said for use in empty)
        are = "are" if len(empty) > 1 else "is"
        return Spent(stamp(max(use.more_at(now) for use in empty)), f"{names} {are} spent")

    def released(self, units: Mapping[int, int], cost: int) -> None:
        """These never left."""
        self._budget.take(-cost)
        for use in self._uses:
            use.released(units, cost)

    def closed(self, requests: Iterable[int], now: datetime) -> None:
        """To these there is a reply."""
        numbers = list(requests)
        for use in self._uses:
            use.closed(numbers, now)

    def put(self) -> None:
        """Keep what has changed."""
        self._store.run_many(PUT_USE, [row for use in self._uses for row in use.rows()])
        if self._terms.pace.per_second or self._learned.per_second or self._shut_until:
            learned = (self._learned.per_second, self._learned.at, self._shut_until)
            self._store.run(PUT_PACE, (self._terms.account, self._clock.boot_id(), self._arrival, *learned))

    def _paced(self) -> tuple[float, Learned]:
        """The account's theoretical arrival time, and the pace that was learned; another boot's clock says nothing."""
        query = select(pace.c.boot_id, pace.c.arrival, pace.c.learned, pace.c.learned_at, pace.c.shut_until)
        row = self._store.connection.execute(query.where(pace.c.account == self._terms.account)).first()
        self._shut_until = row[4] if row else ""
        if row is None or row[0] != self._clock.boot_id():
            return 0.0, Learned()
        at = row[3] if row[3] >= FOR_GOOD else min(row[3], self._clock.boot())  # a server's clock may be set back
        return row[1], Learned(row[2], at)
