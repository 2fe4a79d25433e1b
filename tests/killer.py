"""Runs the built program again and again and kills it, as kill -9 does, each time at another seeded moment.

    python killer.py SEED TIMES LEDGER yellowtor-arguments…

Everything is loaded once; each run is a fork. A third dies at a certain point of the code, a third after a random time,
and a third is frozen after one: copies of its ledger and write-ahead log take the place of the ledger before it is
killed. Prints how each ended, as JSON; the last run is left in peace.
"""

import json
import os
import random
import shutil
import signal
import sys
import time
from pathlib import Path

import aiohttp  # noqa: F401
from saboteur import POINTS, sabotage

import yellowtor.cli.commands
import yellowtor.ledger.accounts.group_commit
import yellowtor.ledger.jobs.run_book
import yellowtor.run.asking.background_judging
import yellowtor.tables.text.delimited  # noqa: F401

seed, times, ledger, *arguments = sys.argv[1:]
chance = random.Random(int(seed))
FEW = ("--at-most", "14")  # so that there is something to ask to the end
LATEST = {"in the scan": 1, "in the commit": 6, "before the rename": 3, "after the rename": 3}


def run(*limits, point=None, nth=0):
    """Begin a run in a process of its own."""
    child = os.fork()
    if child:
        return child
    code = 1
    try:
        os.dup2(os.open("log.txt", os.O_WRONLY | os.O_CREAT | os.O_APPEND), 2)
        if point:
            owner, name, before = POINTS[point]
            sabotage(owner, name, nth, before=before)
        sys.argv = ["yellowtor", *arguments, *limits]
        from yellowtor.cli.main import main

        main()
        code = 0
    except SystemExit as end:
        code = int(end.code or 0)
    finally:
        os._exit(code)


def copied(place):
    """The database and its log as they are at this moment, put in their place: what a machine that stops leaves."""
    for ending in ("", "-wal"):
        if Path(place + ending).exists():
            shutil.copyfile(place + ending, place + ending + ".copy")
    Path(place + "-shm").unlink(missing_ok=True)


def swapped(place):
    for ending in ("", "-wal"):
        copy = Path(place + ending + ".copy")
        if copy.exists():
            copy.replace(place + ending)
        else:
            Path(place + ending).unlink(missing_ok=True)


ends = []
for _ in range(int(times)):
    how = chance.choice(["point", "time", "copy"])
    if how == "point":
        point = chance.choice(list(POINTS))
        child = run(*FEW, point=point, nth=chance.randint(1, LATEST.get(point, 12)))
    else:
        child = run(*FEW)
        time.sleep(chance.uniform(0, 0.5))
        if how == "copy":
            os.kill(child, signal.SIGSTOP)
            copied(ledger)
        os.kill(child, signal.SIGKILL)
    _, status = os.waitpid(child, 0)
    if how == "copy":
        swapped(ledger)
    ends.append((how, os.waitstatus_to_exitcode(status)))
_, status = os.waitpid(run(), 0)
print(json.dumps({"ends": ends, "last": os.waitstatus_to_exitcode(status)}))
