"""The tasks of a run on a cluster: a worker opens the job as any run does, does its share, and closes it again.

Nothing secret is in a task: the worker finds the keys and passwords of the job in its own environment.
"""

import gc
import os
import signal
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yellowtor.allowance.forecast import Forecast
from yellowtor.allowance.windows import Left
from yellowtor.answers.ledger_rows import Addresses
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob, YellowtorError
from yellowtor.files import fingerprint
from yellowtor.helper_processes import CORES
from yellowtor.ledger.storage.store import LedgerGone
from yellowtor.run.ask_services import ask_one
from yellowtor.run.asking.ask_result import AskResult
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.crew import AskOrder, PieceOrder
from yellowtor.run.parts import Parts
from yellowtor.run.pieces import scan_piece, write_piece
from yellowtor.run.ports import Watcher
from yellowtor.run.run_job import judging_of
from yellowtor.version import __version__
from yellowtor.wiring.run_parts import PartsOptions, job_parts

SELDOM = 100_000  # new objects between two looks for circles
EVERY_S = 0.5  # between two reports of progress
WAITS_S = (1, 5, 20)  # before a task whose ledger was gone is tried again
STOPS: dict[str, Cancellation] = {}  # of the runs that have tasks in this process, by their names


@dataclass(frozen=True)
class JobCopy:
    """The job of a run: its file, which every worker finds at this path, and the file's digest.

    run is a name for the run, stage for its tasks of one kind; version is the client's; failed questions may be asked
    again.
    """

    path: Path
    digest: str
    run: str
    again_failed: bool = False
    stage: str = ""
    version: str = __version__


@dataclass
class Done:
    """The result of a task, what it remarked, and the subjects of requests that dead workers had left in flight.

    error is what ended it, if it is one that we explain: it is raised again in the client.
    """

    result: Any = None
    remarks: list[str] = field(default_factory=list)
    abandoned: tuple[str, ...] = ()
    error: YellowtorError | None = None


def scan_task(job: JobCopy, name: str, number: int, writes: bool) -> Done:
    """Scan one file of the source."""
    options = PartsOptions(along=True, sends=False)
    return _done(job, options, lambda parts, watch: scan_piece(parts, name, number, watch, writes=writes))


def ask_task(job: JobCopy, order: AskOrder, addresses: Addresses | None) -> Done:
    """Ask about some addresses, or about all."""

    def ask(parts: Parts, watch: Watcher) -> AskResult:
        service = next(one for one in parts.services if one.name == order.turn.service)
        questions, _ = parts.book.questions.collect(order.turn, failed_before=order.failed_before)
        if not questions:
            return AskResult(service.name)
        stop = STOPS.setdefault(job.run, Cancellation())
        result = ask_one(parts, service, questions, judging_of(parts, watch), watch, stop, order)
        result.differences = tuple(parts.book.requests[service.name].differences)
        return result

    return _done(job, PartsOptions(job.again_failed, along=True, addresses=addresses), ask)


def judge_task(job: JobCopy, addresses: Addresses) -> Done:
    """Judge what is known about some addresses."""
    options = PartsOptions(along=True, sends=False, addresses=addresses)
    return _done(job, options, lambda parts, watch: judging_of(parts, watch).judge_share(parts.book.judging))


def write_task(job: JobCopy, order: PieceOrder) -> Done:
    """Write one file of the answers."""
    return _done(job, PartsOptions(along=True, sends=False), lambda parts, watch: write_piece(parts, order, watch))


def dask_setup(worker: object) -> None:
    """Called when a process of `local:N` starts. A terminal sends Ctrl-C to all of them: it is for the client."""
    del worker
    for name in ("SIGINT", "SIGHUP"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)


def stop_run(name: str) -> None:
    """Stop the run: wait for replies to requests already sent. A second call ends it at once."""
    STOPS.setdefault(name, Cancellation()).ask()


def forget_run(name: str) -> None:
    """The run is over."""
    STOPS.pop(name, None)


def _done(job: JobCopy, options: PartsOptions, work: Callable[[Parts, Watcher], Any]) -> Done:
    """Open the job in this worker, and work."""
    os.environ.setdefault(CORES, "1")  # the other cores have workers of their own
    watch = _Reporter(job)
    often = gc.get_threshold()
    if not gc.get_freeze_count():
        gc.freeze()  # as a run of the command does: what is loaded by now stays, and rows hold no circles
    gc.set_threshold(SELDOM)
    try:
        if job.version != __version__:
            raise BadJob(f"A worker has Yellowtor {__version__}, the client {job.version}: install the same on all.")
        if fingerprint(job.path) != job.digest:
            raise BadJob(f"{job.path} is another file on a worker. Put the job's folder where all of them see it.")
        result, abandoned = _worked(job, options, work, watch)
    except YellowtorError as error:
        return Done(remarks=watch.remarks, error=error)
    finally:
        gc.set_threshold(*often)
        watch.report()
    return Done(result, watch.remarks, abandoned)


def _worked(
    job: JobCopy, options: PartsOptions, work: Callable[[Parts, Watcher], Any], watch: "_Reporter"
) -> tuple[Any, tuple[str, ...]]:
    """The result of the work, and the subjects of abandoned requests.

    A ledger that is gone may come back: the work is done again then. Work that sends requests is not: it waits by
    itself, and their number would be lost.
    """
    waits = iter(WAITS_S)
    was_open = False
    while True:
        try:
            with job_parts(job.path, options) as (parts, _):
                was_open = True
                return work(parts, watch), tuple(subject.line() for subject in parts.book.abandoned)
        except LedgerGone:
            wait = next(waits, None)
            if options.sends or not was_open or wait is None:
                raise
            watch.begin_again()
            time.sleep(wait)


class _Reporter:
    """Watches a task, and reports its progress to the client every half second."""

    keeps_log = False

    def __init__(self, job: JobCopy) -> None:
        self._job = job
        self._counts = [0, 0, 0]  # done; requests sent, and as the quota counts them
        self._done = 0  # since the task began
        self._reported = time.monotonic()
        self.remarks: list[str] = []

    def report(self) -> None:
        """Report what was done since the last time."""
        from distributed import get_worker

        if any(self._counts):
            get_worker().log_event(self._job.run, (self._job.stage, *self._counts))
        self._counts = [0, 0, 0]
        self._reported = time.monotonic()

    def advanced(self, count: int) -> None:
        self._counts[0] += count
        self._done += count
        if time.monotonic() - self._reported > EVERY_S:
            self.report()

    def begin_again(self) -> None:
        """The task is done once more from its beginning."""
        self._counts[0] -= self._done
        self._done = 0

    def remark(self, text: str) -> None:
        self.remarks.append(text)

    def fault(self, error: Exception) -> None:
        self.remarks.append(f"an unexpected fault ({type(error).__name__}) met one question, which has failed")

    def phase(self, name: str, total: int | None = None) -> None: ...

    def asks(self, service: str, total: int, left: Left | None, forecast: Forecast) -> None: ...

    def file_done(self, name: str, done: int, total: int) -> None: ...

    def outcomes(self, counts: Mapping[Outcome, int]) -> None: ...

    def sent(self, requests: int, counted: int) -> None:
        self._counts[1] += requests
        self._counts[2] += counted

    def event(self, name: str, facts: Mapping[str, object]) -> None: ...
