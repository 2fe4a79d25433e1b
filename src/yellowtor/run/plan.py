"""What a run would do: counts from the scan, and what asking the rest will take."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from yellowtor.allowance.forecast import Forecast, forecast
from yellowtor.allowance.price import price_on
from yellowtor.allowance.windows import Left
from yellowtor.answers.work import Turn
from yellowtor.run.ports import Book, Service


@dataclass(frozen=True, slots=True)
class Later:
    """A service that is asked about what those before it did not answer well enough.

    Questions that it will be asked in any case, and those that it may be.
    """

    service: str
    least: int
    most: int
    cost: int  # of the most, in millionths
    currency: str


@dataclass(frozen=True, slots=True)
class Plan:
    """Records by what will become of them; distinct questions to the first service; the forecast for the open ones.

    The forecast is of requests as the allowance counts them; requests are those that would be sent before
    a window makes the run wait. left is what each window of the first service allows. cost is that of all of the
    forecast's requests, in millionths of currency, by the tiers of this month.
    """

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


def make_plan(
    book: Book, services: Sequence[Service], judged_by: str, now: datetime, *, again_failed: bool, at_most: int | None
) -> Plan:
    """The plan for the scan that has just been made. Leaves the first service's open questions collected."""
    scanning, (first, *others) = book.scanning, services
    states = scanning.states()
    known = judged_by if others else ""
    later = []
    for at, service in enumerate(others, 1):
        before = tuple(earlier.name for earlier in services[:at])
        least, _ = scanning.open_questions(Turn(service.name, before, known), again_failed=again_failed)
        most, _ = scanning.open_questions(Turn(service.name, (), known), again_failed=again_failed)
        most = _limited(most, at_most)
        cost = book.requests[service.name].cost(_units(service, most))
        later.append(Later(service.name, _limited(least, at_most), most, cost, currency_of(service, now)))
    open_, answered = scanning.open_questions(Turn(first.name, (), known), again_failed=again_failed)
    left = book.requests[first.name].left()
    wanted = _limited(open_, at_most)
    units = _units(first, wanted)
    made = forecast(units, first.pace, first.windows, left, now)
    return Plan(
        states.get("pinned", 0),
        states.get("kept", 0),
        states.get("incomplete", 0),
        states.get("ask", 0),
        open_,
        answered,
        tuple(left),
        math.ceil(made.at_once / first.most) if first.counts_each else made.at_once,
        made,
        book.requests[first.name].cost(units),
        currency_of(first, now),
        tuple(later),
    )


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


def _units(service: Service, questions: int) -> int:
    """As the allowance counts them."""
    return questions if service.counts_each else math.ceil(questions / service.most)


def _limited(questions: int, at_most: int | None) -> int:
    return questions if at_most is None else min(questions, at_most)
