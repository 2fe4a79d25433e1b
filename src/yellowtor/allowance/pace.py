"""Pace: the generic cell rate algorithm, spaced so that no rolling second ever holds one too many.

ITU-T I.371 describes the algorithm. Its state is one number, the theoretical arrival time (tat).
"""

from dataclasses import dataclass

SLACK_S = 0.010  # a request may be this late on its way, and the next not, without breaking the pace


@dataclass(frozen=True, slots=True)
class Pace:
    """So many requests a second; None is no limit. Raises ValueError for a rate that is not above 0."""

    per_second: float | None

    def __post_init__(self) -> None:
        if self.per_second is not None and not self.per_second > 0:
            raise ValueError(f"per_second must be above 0 (got {self.per_second})")

    @property
    def interval_s(self) -> float:
        """Seconds between two requests: (1 s + 10 ms) / rate."""
        return (1 + SLACK_S) / self.per_second if self.per_second else 0.0

    def reserve(self, tat: float, now: float, units: int = 1) -> tuple[float, float]:
        """When the next request may leave, and the new theoretical arrival time; seconds of one clock.

        units is how many requests the service takes it for.
        """
        send_at = max(tat, now)
        return send_at, send_at + units * self.interval_s
