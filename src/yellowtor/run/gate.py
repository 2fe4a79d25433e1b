"""The last door before a request leaves: not before its reserved instant, and never too many in a second.

The ledger spaces the reservations; this door also holds when the process was late for one and would
send the next on its heels.
"""

import asyncio
import math
from collections import deque

from yellowtor.allowance.pace import SLACK_S, Pace
from yellowtor.run.ports import Clock


class Gate:
    """One per run. `stopped` is set when no request may leave any more."""

    def __init__(self, pace: Pace, clock: Clock) -> None:
        self._clock = clock
        rate = pace.per_second
        most = math.ceil(rate) if rate else 0  # so many in most / rate seconds: a second where the rate is whole
        self._sent: deque[float] = deque(maxlen=most)
        self._span = most / rate + SLACK_S / 2 if rate else 0.0
        self._closed_until = 0.0
        self.stopped = asyncio.Event()

    def close_for(self, seconds: float) -> None:
        """Let nothing leave for so long: the service said that we are too fast."""
        self._closed_until = max(self._closed_until, self._clock.boot() + seconds)

    async def comes(self, instant: float) -> bool:
        """Wait for this instant; False when stopped before."""
        ahead = max(instant, self._closed_until) - self._clock.boot()
        return not self.stopped.is_set() and (ahead <= 0 or not await self.wait(ahead))

    async def passed(self, send_at: float, *, late_or_not: bool = True) -> bool | None:
        """Wait until the request may leave; False when it must not leave at all.

        None when it comes so late for its place that the next, which may be another process's, could be on
        its heels: it has to take another place. With late_or_not it leaves all the same.
        """
        while not self.stopped.is_set():
            now = self._clock.boot()
            full = len(self._sent) == self._sent.maxlen and self._sent
            due = max(send_at, self._closed_until, self._sent[0] + self._span if full else 0.0)
            if due <= now:
                if not late_or_not and self._sent.maxlen and now - send_at > SLACK_S:
                    return None
                self._sent.append(now)
                return True
            await self.wait(due - now)
        return False

    async def wait(self, seconds: float) -> bool:
        """Sleep, or until stopped; True when it is stopped."""
        try:
            async with asyncio.timeout(seconds):
                await self.stopped.wait()
        except TimeoutError:
            return False
        return True
