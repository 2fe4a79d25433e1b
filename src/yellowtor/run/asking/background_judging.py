"""Judging while asking goes on, so that whoever watches sees how records end and little is left to do after.

It takes a fiftieth of the time at most: in a run without a pace, asking comes first.
"""

import asyncio
from collections.abc import Callable, Mapping

from yellowtor.contracts.clock import Clock
from yellowtor.contracts.outcome import Outcome
from yellowtor.run.ports import Watcher, Writer

EVERY_S = 2.0
SHARE = 50


async def judge_meanwhile(
    judge: Callable[[], Mapping[Outcome, int]], writer: Writer, clock: Clock, watch: Watcher
) -> None:
    """Call judge in the ledger's thread now and then, and tell its counts; until cancelled."""
    pause = EVERY_S
    while True:
        await asyncio.sleep(pause)
        started = clock.boot()
        watch.outcomes(await writer.call(judge))
        pause = max(EVERY_S, SHARE * (clock.boot() - started))
