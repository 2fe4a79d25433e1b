"""Pace: the generic cell rate algorithm, spaced so that no rolling second ever holds one too many.

ITU-T I.371 describes the algorithm. Its state is one number, the theoretical arrival time (tat).
"""

import math
from dataclasses import dataclass

AHEAD_S = 3_600.0
MOST_AHEAD = 200_000  # requests that may be reserved ahead of now
SLACK_S = 0.015  # a request may be this late on its way, and the next not, without breaking the pace


@dataclass(frozen=True, slots=True)
class Pace:
    """A limit of requests a second; None is no limit. Raises ValueError for a rate that is not above 0.

    After a pause, `burst` requests may be sent at once: any second may contain burst - 1 more.
    """

    per_second: float | None
    burst: int = 1

    def __post_init__(self) -> None:
        if self.per_second is not None and not self.per_second > 0:
            raise ValueError(f"per_second must be above 0 (got {self.per_second})")

    @property
    def interval_s(self) -> float:
        """Seconds between two requests: (1 s + 15 ms) / rate."""
        return (1 + SLACK_S) / self.per_second if self.per_second else 0.0

    def with_replies(self, reply_s: float | None, under_way: int) -> "Pace":
        """The lower of this pace and what replies of reply_s seconds (None: unknown), under_way in parallel, allow."""
        most = under_way * (1 + SLACK_S) / reply_s if reply_s else self.per_second
        return Pace(most, self.burst) if most and most < (self.per_second or math.inf) else self

    def reserve(self, tat: float, now: float, units: int = 1) -> tuple[float, float]:
        """When the next request may leave, and the new theoretical arrival time; seconds of one clock.

        units is how many requests the service counts for it.
        """
        tat = min(tat, now + max(AHEAD_S, MOST_AHEAD * self.interval_s))  # it is further only if a clock was set back
        send_at = max(tat - (self.burst - 1) * self.interval_s, now)
        return send_at, max(tat, now) + units * self.interval_s


GROW_S = 60.0  # seconds in which a halved pace doubles
DEAF_S = 2.0  # ignore 429s for 2 s: those requests were already in flight
FOR_GOOD = 1e18  # an instant that never comes
LEAST = 0.02  # requests a second: one in 50 s
MOST = 1e6  # a second: more than any service bears
MOST_DOUBLINGS = 40  # by then any pace is the described one again


@dataclass(frozen=True, slots=True)
class Learned:
    """The pace that a service was found to bear, in requests a second, at an instant; 0: nothing was found.

    It grows again until it is that of the description, or where that has none, 16 times what was found. What the
    service has stated itself (at FOR_GOOD) holds until it states something else.
    """

    per_second: float = 0.0
    at: float = 0.0

    def pace(self, described: Pace, now: float) -> Pace:
        """What is kept now: the described one where nothing lower was learned."""
        if not self.per_second:
            return described
        borne = self.per_second * 2 ** min(MOST_DOUBLINGS, max(0.0, now - self.at) / GROW_S)
        if not borne < (described.per_second or 16 * self.per_second):
            return described
        return Pace(min(MOST, max(LEAST, borne)))

    def stated(self, described: Pace, per_second: float) -> "Learned":
        """The service says how fast it may be asked: that is kept if it is slower than described, and no other is."""
        if described.per_second is None or per_second < described.per_second:
            return Learned(min(MOST, max(LEAST, per_second)), FOR_GOOD)
        return Learned() if self.at == FOR_GOOD else self

    def too_fast(self, described: Pace, tried: float, now: float) -> "Learned":
        """The service said that we are too fast, and not how fast we may be: half of what was kept.

        tried is how many a second left lately, where the description has no pace.
        """
        if self.per_second and 0 <= now - self.at < DEAF_S:
            return self
        kept = self.pace(described, now).per_second or tried
        return Learned(min(MOST, max(LEAST, kept / 2)), now)
