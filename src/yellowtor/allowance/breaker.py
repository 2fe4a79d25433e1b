"""When a service is left alone for the rest of a run: so many requests on end have brought no answer."""

from dataclasses import dataclass

from yellowtor.answers.kinds import Kind

LEAST = 20  # requests: a service may be restarted while it is asked
EACH = 3  # for each of the requests that are in flight at the same time


@dataclass
class Breaker:
    """Counts the requests to one service that failed since the last that did not; parallel are in flight at a time."""

    parallel: int
    failures: int = 0

    def keeps_failing(self, kind: Kind) -> bool:
        """Take the kind of a reply in; whether it is time to stop."""
        self.failures = self.failures + 1 if kind in {Kind.UNAVAILABLE, Kind.UNREADABLE} else 0
        return self.failures >= max(LEAST, EACH * self.parallel)
