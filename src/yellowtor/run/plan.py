"""The verb `plan`: what a run would do. Counts from the scan, and what asking the rest will take, cost, and when."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from yellowtor.allowance.forecast import Forecast, forecast
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import price_on
from yellowtor.allowance.windows import Left, Span, Window
from yellowtor.answers.work import Turn
from yellowtor.errors import BadJob
from yellowtor.run.ports import Book, Service


@dataclass(frozen=True, slots=True)
class Later:
    """A service that is asked about what those before it did not answer well enough.

    Questions that it will be asked in any case, those to be expected by what was answered so far, and those that it
    may be asked at most; the forecast and the cost (millionths) are of the most.
    """

    service: str
    least: int
    expected: int
    most: int
    cost: int
    expected_cost: int
    currency: str
    forecast: Forecast


@dataclass(frozen=True, slots=True)
class Plan:
    """Records by what will become of them; distinct questions to the first service; the forecast for the open ones.

    The forecast is of requests as the allowance counts them; requests are those that would be sent before
    a window makes the run wait. left is what each window of the first service allows. cost is that of all of the
    forecast's requests, in millionths of currency, by the tiers of the months that they fall in.
    """

    service: str
    pinned: int
    kept: int
    incomplete: int
    to_answer: int
    open_questions: int
    answered_by_ledger: int
    left: tuple[Left, ...]
    requests: int
    forecast: Forecast
    cost: int
    currency: str
    later: tuple[Later, ...] = ()

    @property
    def ends_at(self) -> str:
        """When all is done at the latest, if nothing fails (ISO 8601, UTC; empty: never, by these limits)."""
        ends = [self.forecast.ends_at, *(later.forecast.ends_at for later in self.later if later.most)]
        return max(ends) if all(ends) else ""


@dataclass(frozen=True)
class Otherwise:
    """What asking the first service would take with other limits."""

    what: str
    forecast: Forecast
    cost: int


def make_plan(
    book: Book, services: Sequence[Service], judged_by: str, now: datetime, *, again_failed: bool, at_most: int | None
) -> Plan:
    """The plan for the scan that has just been made. Leaves the first service's open questions collected."""
    scanning, (first, *others) = book.scanning, services
    states = scanning.states()
    known = judged_by if others else ""
    enough, judged = book.judging.enough(judged_by) if others else (0, 0)
    needs_more = (judged - enough + 1) / (judged + 2)  # Laplace's rule: of nothing known, a half
    later = []
    for at, service in enumerate(others, 1):
        before = tuple(earlier.name for earlier in services[:at])
        least, _ = scanning.open_questions(Turn(service.name, before, known), again_failed=again_failed)
        most, _ = scanning.open_questions(Turn(service.name, (), known), again_failed=again_failed)
        least, most = _limited(least, at_most), _limited(most, at_most)
        expected = least + round((most - least) * needs_more**at)
        cost = book.requests[service.name].cost(units_of(service, expected))
        made, most_cost = foretold(book, service, most, now)
        later.append(Later(service.name, least, expected, most, most_cost, cost, currency_of(service, now), made))
    open_, answered = scanning.open_questions(Turn(first.name, (), known), again_failed=again_failed)
    made, cost = foretold(book, first, _limited(open_, at_most), now)
    later = [replace(one, forecast=_after(book, services[at], one, made, now)) for at, one in enumerate(later, 1)]
    return Plan(
        first.name,
        states.get("pinned", 0),
        states.get("kept", 0),
        states.get("incomplete", 0),
        states.get("ask", 0),
        open_,
        answered,
        tuple(book.requests[first.name].left()),
        math.ceil(made.at_once / first.most) if first.counts_each else made.at_once,
        made,
        cost,
        currency_of(first, now),
        tuple(later),
    )


def foretold(
    book: Book, service: Service, questions: int, now: datetime,
    pace: Pace | None = None, windows: Mapping[str, Window | None] | None = None,
) -> tuple[Forecast, int]:  # fmt: skip
    """What asking a service so many questions takes, and costs in millionths; with other limits, by window's name."""
    mine, units = book.requests[service.name], units_of(service, questions)
    counted, lefts = list(mine.windows), list(mine.left())
    for name, other in (windows or {}).items():
        at = next((at for at, window in enumerate(counted) if window.name == name), None)
        used = lefts[at].limit - lefts[at].left if at is not None else 0
        if at is not None:
            del counted[at], lefts[at]
        if other is not None:
            counted.append(other)
            lefts.append(Left(name, other.words, other.limit, max(0, other.limit - used), ""))
    made = forecast(units, pace or mine.pace(), counted, lefts, now, service.prices, mine.month_used())
    return made, made.cost


def what_if(book: Book, service: Service, questions: int, now: datetime, wish: str, zone: ZoneInfo) -> Otherwise:
    """The forecast with other limits: `day=8000`, `month=none`, `pace=20`, several with commas. Raises BadJob."""
    pace, windows, spans = None, dict[str, Window | None](), {str(span): span for span in Span}
    for item in wish.split(","):
        name, _, number = item.strip().partition("=")
        if not number:
            raise _not_understood(wish)
        if name == "pace":
            pace = Pace(None if number == "none" else _positive(number, wish))
            continue
        if name.removeprefix("rolling ") not in spans:
            raise _not_understood(wish)
        span, rolling = spans[name.removeprefix("rolling ")], name.startswith("rolling ")
        known = next((window for window in book.requests[service.name].windows if window.name == name), None)
        limit = None if number == "none" else int(_positive(number, wish))
        windows[name] = (
            None if limit is None else replace(known, limit=limit) if known else Window(limit, span, zone, rolling)
        )
    made, cost = foretold(book, service, questions, now, pace, windows)
    return Otherwise(wish, made, cost)


def _positive(text: str, wish: str) -> float:
    try:
        number = float(text.replace("_", ""))
    except ValueError:
        number = 0.0
    if not 0 < number < 1e12:
        raise _not_understood(wish)
    return number


def _not_understood(wish: str) -> BadJob:
    names = ", ".join(f"{span}=N" for span in Span)
    return BadJob(
        f"--what-if {wish!r}: say pace=N, {names}, `rolling day=N`, with none for no limit. Nothing was sent."
    )


def _after(book: Book, service: Service, later: Later, first: Forecast, now: datetime) -> Forecast:
    """The forecast of a service that may have to wait for the last answer of the one before it."""
    begins = datetime.fromisoformat(first.ends_at) if first.ends_at else now
    return foretold(book, service, later.most, max(now, begins).astimezone(UTC))[0]


def costs(plan: Plan) -> dict[str, int]:
    """What a run costs at most, in millionths, by currency."""
    told: dict[str, int] = {}
    for cost, currency in [(plan.cost, plan.currency), *((later.cost, later.currency) for later in plan.later)]:
        if currency:
            told[currency] = told.get(currency, 0) + cost
    return told


def currency_of(service: Service, now: datetime) -> str:
    """What the service charges in; empty where it costs nothing."""
    price = price_on(service.prices, now.date())
    return price.currency if price else ""


def units_of(service: Service, questions: int) -> int:
    """Questions as the allowance counts them."""
    return questions if service.counts_each else math.ceil(questions / service.most)


def _limited(questions: int, at_most: int | None) -> int:
    return questions if at_most is None else min(questions, at_most)
