"""When a service is left alone for the rest of a run: so many requests on end have brought no answer."""

from collections.abc import Sequence
from dataclasses import dataclass

from yellowtor.answers.kinds import Kind

LEAST = 20  # requests: a service may be restarted while it is asked
EACH = 3  # for each of the requests that are in flight at the same time


@dataclass
class Breaker:
    """Counts the requests to one service that failed since the last that did not; parallel are in flight at a time."""

    parallel: int
    failures: int = 0

    def keeps_failing(self, kinds: Sequence[Kind]) -> bool:
        """Take in what a reply said to each question of a request; whether it is time to stop."""
        failed = all(kind in {Kind.UNAVAILABLE, Kind.UNREADABLE} for kind in kinds)
        self.failures = self.failures + 1 if failed else 0
        return self.failures >= max(LEAST, EACH * self.parallel)
