"""Stops asking a service for the rest of a run, after a number of requests in a row without an answer."""

from collections.abc import Sequence
from dataclasses import dataclass

from yellowtor.answers.replies.reply_kind import Kind

LEAST = 20  # requests: a service may be restarted while it is asked
EACH = 3  # for each of the requests that are in flight at the same time
HANDFUL = 5  # replies in a row that can't be read, before the first that can: the description is wrong


@dataclass
class Breaker:
    """Counts the requests to one service that failed since the last that did not; parallel are in flight at a time."""

    parallel: int
    failures: int = 0
    unreadable: int = 0
    answered: bool = False

    def keeps_failing(self, kinds: Sequence[Kind], *, unreadable: bool) -> bool:
        """Count the replies to the questions of a request; whether to stop.

        unreadable: the reply can't be read, and is not asked for again.
        """
        failed = all(kind in {Kind.UNAVAILABLE, Kind.UNREADABLE} for kind in kinds)
        self.answered = self.answered or Kind.ANSWERED in kinds
        self.failures = self.failures + 1 if failed else 0
        if unreadable:
            self.unreadable += 1
        elif any(kind.is_answer for kind in kinds):
            self.unreadable = 0
        return self.failures >= max(LEAST, EACH * self.parallel) or self.reads_nothing

    @property
    def reads_nothing(self) -> bool:
        """Whether a handful of replies in a row can't be read, and no candidate was read so far."""
        return not self.answered and self.unreadable >= HANDFUL
