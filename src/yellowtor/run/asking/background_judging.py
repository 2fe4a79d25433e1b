"""Judges in the background while asking, so that progress shows outcomes and little is left to do afterwards.

It takes at most a fiftieth of the time: asking comes first.
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
