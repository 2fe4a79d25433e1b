"""The verb `plan`: what a run would do. Counts from the scan, and what asking the rest will take, cost, and when."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from yellowtor.allowance.forecast import Charges, Forecast, forecast
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import price_on
from yellowtor.allowance.retry import PATIENCE_S
from yellowtor.allowance.windows import Left, Span, Window
from yellowtor.answers.ledger_rows import Turn, WorkState
from yellowtor.errors import BadJob
from yellowtor.run.ports import Book, RequestBook, Service

Limits = list[tuple[Window, Left]]


@dataclass(frozen=True, slots=True)
class LaterService:
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
    later: tuple[LaterService, ...] = ()

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


def make_plan(
    book: Book,
    services: Sequence[Service],
    judged_by: str,
    now: datetime,
    *,
    failed_before: str,
    at_most: int | None,
    spent_passes_on: bool = False,
) -> Plan:
    """The plan for the scan that has just been made. Leaves the first service's open questions collected.

    spent_passes_on: what a service's allowance does not cover now goes to the next service, and does not wait.
    """
    (first, *others) = services
    states = book.scanning.states()
    known = judged_by if others else ""
    enough, judged = book.judging.enough(judged_by) if others else (0, 0)
    needs_more = (judged - enough + 1) / (judged + 2)  # Laplace's rule: of nothing known, a half

    def open_to(service: Service, after: Sequence[Service] = ()) -> int:
        turn = Turn(service.name, service.reading_key, tuple(earlier.name for earlier in after), known)
        return _limited(book.questions.collect(turn, failed_before=failed_before)[0], at_most)

    spans = [(open_to(service, services[:at]), open_to(service)) for at, service in enumerate(others, 1)]
    turn = Turn(first.name, first.reading_key, (), known)
    open_, answered = book.questions.collect(turn, failed_before=failed_before)
    passes_on = spent_passes_on and bool(others)
    made, over = _forecast_now(book, first, _limited(open_, at_most), now, passes_on=passes_on)
    later = list[LaterService]()
    before = made
    for at, (service, (sure, most)) in enumerate(zip(others, spans, strict=True), 1):
        least = min(most, sure + over)
        expected = least + round((most - least) * needs_more**at)
        passes_on = spent_passes_on and at < len(others)
        before, over = _forecast_now(book, service, most, now, after=before, passes_on=passes_on)
        cost = book.requests[service.name].cost(units_of(service, expected))
        later.append(
            LaterService(service.name, least, expected, most, before.cost, cost, currency_of(service, now), before)
        )
    return Plan(
        first.name,
        states.get(WorkState.PINNED, 0) + states.get(WorkState.DISMISSED, 0),
        states.get(WorkState.KEPT, 0),
        states.get(WorkState.INCOMPLETE, 0),
        states.get(WorkState.ASK, 0),
        open_,
        answered,
        tuple(book.requests[first.name].left()),
        math.ceil(made.at_once / first.most) if first.counts_each else made.at_once,
        made,
        made.cost,
        currency_of(first, now),
        tuple(later),
    )


def _forecast_now(
    book: Book, service: Service, questions: int, now: datetime, *, passes_on: bool, after: Forecast | None = None
) -> tuple[Forecast, int]:
    """The forecast for a service, and the number of questions that go to the next because its quota is spent."""
    made = forecast_run(book, service, questions, now, after=after)
    if not passes_on or made.requests <= made.at_once:
        return made, 0
    asked = made.at_once * (1 if service.counts_each else service.most)
    return forecast_run(book, service, asked, now, after=after), max(0, questions - asked)


def forecast_run(
    book: Book,
    service: Service,
    questions: int,
    now: datetime,
    *,
    after: Forecast | None = None,
    pace: Pace | None = None,
    limits: Limits | None = None,
) -> Forecast:
    """The forecast of asking a service this many questions; after another service, or with other limits."""
    mine = book.requests[service.name]
    both = _limits(mine) if limits is None else limits
    begins = datetime.fromisoformat(after.ends_at) if after and after.ends_at else None
    if pause_s := mine.pause_s():  # the service has asked for it
        begins = max(begins or now, now + timedelta(seconds=pause_s))
    windows = [window for window, _ in both]
    lefts = [left for _, left in both]
    units = units_of(service, questions)
    kept = pace or mine.pace()
    reply_s = mine.reply_s()
    borne = kept.with_replies(reply_s, service.parallel * (service.most if service.counts_each else 1))
    made = forecast(units, borne, windows, lefts, now, Charges(service.prices, mine.month_used()), begins)
    if pause_s > PATIENCE_S and made.requests:
        made = replace(made, at_once=0, goes_on_at=begins)
    return made if borne == kept else replace(made, reply_s=reply_s)


def _limits(book: RequestBook) -> Limits:
    """What is counted of a service, and what is left of it."""
    return list(zip(book.windows, book.left(), strict=True))


def what_if(book: Book, service: Service, questions: int, now: datetime, wish: str) -> Otherwise:
    """The forecast with other limits: `day=8000`, `cap day=none`, `pace=20`, several with commas. Raises BadJob."""
    pace = None
    limits = _limits(book.requests[service.name])
    for item in wish.split(","):
        name, _, text = (part.strip() for part in item.partition("="))
        limit = None if text == "none" else _positive(text, wish)
        if name == "pace":
            pace = Pace(limit)
        else:
            limits = _with(limits, _window(name, service.zone, wish), None if limit is None else int(limit))
    return Otherwise(wish, forecast_run(book, service, questions, now, pace=pace, limits=limits))


def _window(name: str, zone: ZoneInfo, wish: str) -> Window:
    """A window by the name that people give it: day, rolling hour, cap month."""
    *kind, span = name.split(" ")
    known = next((one for one in Span if one == span), None)
    if known is None or kind not in ([], ["rolling"], ["cap"]):
        raise _not_understood(wish)
    return Window(0, known, zone, rolling=kind == ["rolling"], cap="job's" if kind == ["cap"] else "")


def _with(limits: Limits, other: Window, limit: int | None) -> Limits:
    """The limits with those of this kind at another figure (None: without them), or with one more; of requests."""

    def same(window: Window) -> bool:
        mine = (window.span, window.rolling, bool(window.cap), window.money)
        return mine == (other.span, other.rolling, bool(other.cap), False)

    rest = [one for one in limits if not same(one[0])]
    if limit is None:
        return rest
    those = [one for one in limits if same(one[0])] or [(other, Left("", "", 0, 0, ""))]
    changed = [(replace(window, limit=limit), left) for window, left in those]
    return rest + [(w, replace(left, left=max(0, limit - (left.limit - left.left)))) for w, left in changed]


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
        f"--what-if {wish!r}: say pace=N, {names}, `rolling day=N`, `cap day=N`, with none for no limit. "
        "Nothing was sent."
    )


def costs(plan: Plan) -> dict[str, int]:
    """What a run costs at most, in millionths, by currency."""
    totals: dict[str, int] = {}
    for cost, currency in [(plan.cost, plan.currency), *((later.cost, later.currency) for later in plan.later)]:
        if currency:
            totals[currency] = totals.get(currency, 0) + cost
    return totals


def currency_of(service: Service, now: datetime) -> str:
    """What the service charges in; empty where it costs nothing."""
    price = price_on(service.prices, now.date())
    return price.currency if price else ""


def units_of(service: Service, questions: int) -> int:
    """Questions as the allowance counts them."""
    return questions if service.counts_each else math.ceil(questions / service.most)


def _limited(questions: int, at_most: int | None) -> int:
    return questions if at_most is None else min(questions, at_most)
