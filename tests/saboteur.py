"""Runs the built program and kills it, as kill -9 does, the n-th time that it reaches a certain point.

    python saboteur.py POINT N yellowtor-arguments…

The program itself knows nothing of this: its functions are wrapped from outside.
"""

import os
import signal
import sys
from pathlib import Path

from yellowtor.cli.main import main
from yellowtor.ledger.accounts.requests import SqlRequestBook
from yellowtor.ledger.jobs.scanning import SqlScanBook
from yellowtor.services.http import HttpService


def die():
    os.kill(os.getpid(), signal.SIGKILL)


def sabotage(owner, name, nth, *, before):
    original, count = getattr(owner, name), [0]

    def arrived():
        count[0] += 1
        if count[0] == nth:
            die()

    async def wrapped_async(self, *args):
        if before:
            arrived()
        result = await original(self, *args)
        if not before:
            arrived()
        return result

    def wrapped(self, *args):
        if before:
            arrived()
        result = original(self, *args)
        if not before:
            arrived()
        return result

    setattr(owner, name, wrapped_async if name == "send" else wrapped)


POINTS = {
    "in the scan": (SqlScanBook, "put_new", False),
    "reserved, not sent": (HttpService, "send", True),
    "replied, not committed": (HttpService, "send", False),
    "in the commit": (SqlRequestBook, "_close", False),
    "before the rename": (Path, "replace", True),
    "after the rename": (Path, "replace", False),
}

if __name__ == "__main__":
    point, nth, *arguments = sys.argv[1:]
    owner, name, before = POINTS[point]
    sabotage(owner, name, int(nth), before=before)
    sys.argv = ["yellowtor", *arguments]
    main()
