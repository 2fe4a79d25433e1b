"""The parts of a run that is shared among the workers of a cluster."""

import time
from collections.abc import Sequence
from contextlib import AbstractContextManager, ExitStack
from pathlib import Path

from yellowtor.cli.console import Progress
from yellowtor.errors import Busy
from yellowtor.run.parts import Options, Parts
from yellowtor.wiring.process import CLOCK
from yellowtor.wiring.run_parts import PartsOptions, job_parts

LINGER_S = 120.0  # so long a task of a run may go on whose client has died


def entered(
    stack: ExitStack, path: Path, made: PartsOptions, options: Options, watch: Progress
) -> tuple[Parts, Sequence[str]]:
    """The parts of a run, open. On a cluster, tasks of a run whose client has died are waited for."""
    until = CLOCK.boot() + (LINGER_S if options.on else 0)
    said = False
    while True:
        try:
            return stack.enter_context(job_parts(path, made))
        except Busy as error:
            if CLOCK.boot() > until:
                raise
            if not said:
                watch.remark(f"waiting for the tasks of an earlier run: {str(error).partition('. ')[0]}")
            said = True
            time.sleep(1)


def shared(path: Path, parts: Parts, options: Options, watch: Progress) -> AbstractContextManager[Parts]:
    """The parts of a run on a cluster."""
    from yellowtor.wiring.cluster import cluster_crew

    return cluster_crew(options.on, path, parts, again_failed=options.again_failed, watch=watch)
