"""What asking so many questions will take."""

import math
from dataclasses import dataclass

from yellowtor.allowance.pace import Pace


@dataclass(frozen=True, slots=True)
class Forecast:
    """Requests to be sent, how many of them today, seconds at the pace, days of the allowance."""

    requests: int
    today: int
    seconds: float | None
    days: int


def forecast(requests: int, pace: Pace, left_today: int | None, per_day: int | None) -> Forecast:
    """The figures for a run that meets no fault. seconds is None without a pace."""
    today = requests if left_today is None else min(requests, left_today)
    rest = requests - today
    days = (1 if today else 0) + (math.ceil(rest / per_day) if per_day and rest else 0)
    return Forecast(requests, today, today * pace.interval_s if pace.per_second else None, days)
