"""An account as one service uses it: the windows, caps, pace and price of its description, and the run's budget."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Budget, Price, price_on
from yellowtor.allowance.rate_limit_headers import StatedLimit
from yellowtor.allowance.retry import PATIENCE_S
from yellowtor.allowance.windows import Left, Span, Window
from yellowtor.answers.ledger_rows import Reserved, Spent
from yellowtor.ledger.accounts.account import Accounts, Counter
from yellowtor.ledger.accounts.window_use import CalendarUse, Limit, Use
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.store import Store

UNLIMITED = 2**62  # of a month that is counted for its price only


@dataclass(frozen=True, slots=True)
class AccountTerms:
    """A service, the key of its questions, the account that it charges, what that allows and costs.

    is_local: it is a table of this machine, without any limit.
    """

    service: str
    asking: str
    account: str
    pace: Pace
    windows: Sequence[Window] = ()
    prices: Sequence[Price] = ()
    keep_days: int | None = None
    keep_nothing_days: int | None = None
    is_local: bool = False

    def counted(self) -> Sequence[Window]:
        """Its windows, and the month that its price depends on."""
        has_month = any(w.name == Span.MONTH for w in self.windows)
        return [*self.windows, *([Window(UNLIMITED, Span.MONTH)] if self.prices and not has_month else [])]


class ServiceAccount:
    """What a service may still be asked. budget is what the whole run may spend."""

    def __init__(self, terms: AccountTerms, accounts: Accounts, store: Store, budget: Budget) -> None:
        self._terms = terms
        self._accounts = accounts
        self._account = accounts.account(terms.account)
        self._store = store
        self._budget = budget
        self._limits: list[Limit] = []
        self._month: Use | None = None

    @property
    def locks(self) -> Sequence[str]:
        """The names that a transaction must lock."""
        capped = any(window.cap == "job's" for window in self._terms.windows)
        names = [f"account {self._terms.account}", f"service {self._terms.service}"]
        return sorted([*names, *([f"job {self._accounts.job.name}"] if capped else [])])

    def renew(self, *, anew: bool = False) -> int:
        """Read what other connections have written; the version of the ledger. anew: read it in any case."""
        if anew:
            self._accounts.forget()
        version = self._accounts.renew()
        now = self._store.clock.now()
        self._account.renew()
        windows = self._terms.counted()
        self._account.prepare([window for window in windows if window.cap != "job's"], now)
        self._accounts.job.prepare([window for window in windows if window.cap == "job's"], now)
        self._limits = [Limit(window, self._counter(window).use_of(window, now)) for window in windows]
        self._month = next((limit.use for limit in self._limits if limit.window.name == Span.MONTH), None)
        return version

    def _counter(self, window: Window) -> Counter:
        return self._accounts.job if window.cap == "job's" else self._account

    def forget(self) -> None:
        self._accounts.forget()

    def lefts(self, now: datetime) -> list[Left]:
        """What each window still allows."""
        return [limit.shown(now) for limit in self._limits if limit.window.limit < UNLIMITED]

    def covers(self, questions: int, now: datetime, *, counts_each: bool) -> int:
        """How many of these questions the windows and the run's budget allow in one request."""
        if self.shut_s(now) > PATIENCE_S:
            return 0
        room = min((limit.left(now) for limit in self._limits if not limit.window.money), default=questions)
        units = min(room, questions if counts_each else 1)
        while units > 0 and not self._affords(self.cost(units, now), now):
            units -= 1
        return units if counts_each else questions * (units > 0)

    def _affords(self, cost: int, now: datetime) -> bool:
        """Whether the run's budget and every cap of money allow this cost."""
        return self._budget.covers(cost) and all(
            limit.left(now) >= cost for limit in self._limits if limit.window.money
        )

    def month_used(self, now: datetime) -> int:
        """How many requests of the calendar month count for the price."""
        return self._month.used(now) if self._month else 0

    def cost(self, units: int, now: datetime) -> int:
        """What this many more requests cost, in millionths."""
        price = price_on(self._terms.prices, now.date())
        return price.cost(self._month.used(now), units) if price and self._month else 0

    def grant(self, units: Sequence[int], now: datetime) -> list[Reserved]:
        """Reservations for the questions of one request, each with the units that it counts for."""
        made = list[Reserved]()
        send_at = self.another(sum(units))
        for number, unit in zip(self._store.request_numbers(len(units)), units, strict=True):
            cost = self.cost(unit, now)
            self._budget.take(cost)
            made.append(Reserved(number, send_at, unit, cost))
            self._account.reserved(number, unit, cost)
            self._accounts.job.reserved(number, unit, cost)
        return made

    def another(self, units: int) -> float:
        """Another place in the pace, in seconds of the boot clock."""
        return self._account.another(self._terms.pace, units)

    def shut_s(self, now: datetime) -> float:
        """Seconds until the service may be asked again, as it said itself."""
        return self._account.shut_s(now)

    def shut(self, until: datetime) -> None:
        """The service asked for a pause."""
        self._account.shut(until)

    def pace(self, now: float) -> Pace:
        """The pace to keep: the described, or a lower one that was learned."""
        return self._account.pace(self._terms.pace, now)

    def too_fast(self, tried: float) -> None:
        """The service refused a request as too fast, at `tried` requests a second."""
        self._account.too_fast(self._terms.pace, tried)

    def respect_limits(self, limits: Sequence[StatedLimit], uncounted: int, now: datetime) -> dict[str, str]:
        """Keep to the stated limits where they allow less than the ledger; what differs, in sentences.

        uncounted is the number of reserved requests that the service has not counted yet.
        """
        differences = {}
        for one in limits:
            if one.per_second is not None and self._account.stated(self._terms.pace, one.per_second):
                said = f"{self._terms.pace.per_second:g}" if self._terms.pace.per_second else "any number of"
                differences["pace"] = (
                    f"{self._terms.service} says {one.per_second:g} requests a second, its description {said}"
                )
            for limit in self._limits:
                window = limit.window
                if one.left is None or not one.is_of(window, (limit.more_at(now) - now).total_seconds()):
                    continue
                believed = limit.left(now)
                left = max(0, one.left - window.leave - uncounted)
                if left < believed and isinstance(limit.use, CalendarUse):
                    limit.use.reserved(0, believed - left, 0)
                    if one.left + window.leave < believed:
                        differences[window.name] = (
                            f"{self._terms.service} says {one.left:,} are left of the {window.span}, "
                            f"the ledger {believed:,}: others use the key, or the description states too much"
                        )
        return differences

    def why_not(self, now: datetime) -> Spent:
        """Which windows are spent, and when the last of them has more; or that the budget is spent."""
        if self.shut_s(now) > PATIENCE_S:
            return Spent(self._account.shut_until, f"{self._terms.service} asked for a pause (Retry-After)")
        least = self.cost(1, now)
        empty = [one for one in self._limits if one.left(now) < (max(1, least) if one.window.money else 1)]
        if not empty:
            return Spent("", "the run has spent its budget")
        names = " and ".join(limit.window.said for limit in empty)
        are = "are" if len(empty) > 1 else "is"
        return Spent(stamp(max(limit.more_at(now) for limit in empty)), f"{names} {are} used up")

    def released(self, units: Mapping[int, int], cost: int) -> None:
        """These requests never left."""
        self._budget.take(-cost)
        self._account.released(units, cost)
        self._accounts.job.released(units, cost)

    def closed(self, numbers: Iterable[int], now: datetime) -> None:
        """These requests have a reply."""
        numbers = list(numbers)
        self._account.closed(numbers, now)
        self._accounts.job.closed(numbers, now)

    def put(self) -> None:
        """Store what has changed."""
        self._account.put()
        self._accounts.job.put()
