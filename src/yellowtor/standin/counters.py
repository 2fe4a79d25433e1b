"""What the stand-in counts, by its own clock: the only figures that a law about requests is held against."""

import time
from collections import Counter, deque
from dataclasses import dataclass, field
from typing import Any


@dataclass
class Counters:
    """Every request that arrived: by kind of reply, by question, when it came; the most in a rolling second."""

    kinds: Counter[str] = field(default_factory=Counter)
    questions: Counter[str] = field(default_factory=Counter)
    served_today: int = 0
    most_in_a_second: int = 0
    arrivals: deque[float] = field(default_factory=lambda: deque(maxlen=100_000))
    _recent: deque[float] = field(default_factory=deque)

    def arrived(self) -> int:
        """Note an arrival; how many came within the last second, this one included."""
        now = time.monotonic()
        self._recent.append(now)
        self.arrivals.append(now)
        while self._recent[0] <= now - 1:
            self._recent.popleft()
        self.most_in_a_second = max(self.most_in_a_second, len(self._recent))
        return len(self._recent)

    def answered(self, kind: str, *questions: str) -> None:
        self.kinds[kind] += 1
        self.questions.update(questions)

    def as_dict(self) -> dict[str, Any]:
        return {
            "requests": sum(self.kinds.values()),
            "by_kind": dict(self.kinds),
            "by_question": dict(self.questions),
            "most_in_a_second": self.most_in_a_second,
        }
