"""What a run would do: counts from the scan, and what asking the rest will take."""

from dataclasses import dataclass

from yellowtor.allowance.forecast import Forecast, forecast
from yellowtor.run.ports import Book, Service


@dataclass(frozen=True, slots=True)
class Plan:
    """Records by what will become of them; distinct questions; the forecast for those that are open."""

    pinned: int
    kept: int
    incomplete: int
    to_answer: int
    open_questions: int
    answered_by_ledger: int
    left_today: int | None
    forecast: Forecast


def make_plan(book: Book, service: Service, *, again_failed: bool, at_most: int | None) -> Plan:
    """The plan for the scan that has just been made. Collects the open questions in the ledger."""
    states = book.scanning.states()
    open_, answered = book.scanning.open_questions(again_failed=again_failed)
    left = book.requests.left_today()
    wanted = open_ if at_most is None else min(open_, at_most)
    return Plan(
        states.get("pinned", 0),
        states.get("kept", 0),
        states.get("incomplete", 0),
        states.get("ask", 0),
        open_,
        answered,
        left,
        forecast(wanted, service.pace, left, service.day.limit),
    )
