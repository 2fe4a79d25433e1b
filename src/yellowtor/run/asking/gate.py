"""The gate before a request is sent: not before its reserved instant, and never too many in a second.

The ledger spaces the reservations. The gate also keeps the distance if a request was late.
"""

import asyncio
import math
from collections import deque
from statistics import median_low

from yellowtor.allowance.pace import SLACK_S, Pace
from yellowtor.contracts.clock import Clock

LATELY = 20  # requests that tell how fast they leave
LATE_S = SLACK_S / 3  # the rest is for the way
HELD_UP_S = 0.05  # a way that takes so much longer than usual; beyond that, the service is thinking


class Gate:
    """One per run. `stopped` is set when no request may leave any more."""

    def __init__(self, pace: Pace, clock: Clock) -> None:
        self._clock = clock
        rate = pace.per_second
        most = math.ceil(rate) if rate else 0  # at most these in most / rate seconds (1 s for whole rates)
        self._sent: deque[float] = deque(maxlen=most + pace.burst - 1 if rate else 0)
        self._span = most / rate + LATE_S if rate else 0.0
        self._left: deque[float] = deque(maxlen=LATELY)
        self.left = 0  # requests that have left, as the service counts them
        self._took: deque[float] = deque([math.inf], maxlen=51)  # seconds from leaving to the reply, lately
        self._closed_until = 0.0
        self.stopped = asyncio.Event()

    def close_for(self, seconds: float) -> None:
        """Let nothing leave for so long: the service said that we are too fast."""
        self._closed_until = max(self._closed_until, self._clock.boot() + seconds)

    async def comes(self, instant: float) -> bool:
        """Wait for this instant; False when stopped before."""
        ahead = max(instant, self._closed_until) - self._clock.boot()
        return not self.stopped.is_set() and (ahead <= 0 or not await self.wait(ahead))

    async def passed(self, send_at: float, *, late_or_not: bool = True, units: int = 1) -> float | None:
        """Wait until the request may be sent; the instant, or 0 if it must not be sent.

        units is the number of requests that the service counts it as. None if it is so late that the next request,
        perhaps of another process, may follow too closely: it needs another place. With late_or_not it is sent anyway.
        """
        while not self.stopped.is_set():
            now = self._clock.boot()
            place = max(send_at, self._room_for(units))
            due = max(place, self._closed_until)
            if due <= now:
                if not late_or_not and self._sent.maxlen and now - place > LATE_S:
                    return None
                self._sent.extend([now] * units)
                self._left.extend([now] * units)
                self.left += units
                return now
            await self.wait(due - now)
        return 0.0

    def rate(self) -> float:
        """How many a second left lately."""
        took = self._clock.boot() - self._left[0] if self._left else 0.0
        return len(self._left) / took if took else 1.0

    def _room_for(self, units: int) -> float:
        """The instant from which this many more are allowed."""
        before = len(self._sent) + units - (self._sent.maxlen or math.inf)  # these must be 1 s old
        return self._sent[min(int(before), len(self._sent)) - 1] + self._span if before > 0 and self._sent else 0.0

    def heard(self, left_at: float) -> None:
        """The reply to what left then is here. If that took longer than usual, the request may have been held up.

        By the service's clock it came so much later, and the one that leaves a second after it too soon.
        """
        if not self._sent.maxlen:
            return
        took = self._clock.boot() - left_at
        late = took - median_low(self._took)
        self._took.append(took)
        if 0 < late <= HELD_UP_S and left_at in self._sent:
            self._sent[self._sent.index(left_at)] = left_at + late

    async def wait(self, seconds: float) -> bool:
        """Sleep, or until stopped; True when it is stopped."""
        try:
            async with asyncio.timeout(seconds):
                await self.stopped.wait()
        except TimeoutError:
            return False
        return True
