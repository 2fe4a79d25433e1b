"""A run on a Dask cluster: its crew gives tasks to the workers, one for each file or share of the addresses."""

import logging
import math
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path
from queue import Empty, SimpleQueue
from secrets import token_hex
from typing import TYPE_CHECKING, Any

from yellowtor.answers.ledger_rows import Addresses
from yellowtor.contracts.table import InPieces
from yellowtor.errors import BadJob, YellowtorError
from yellowtor.files import fingerprint
from yellowtor.run.asking.ask_result import AskResult
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.crew import AskOrder, PieceOrder, PieceWritten
from yellowtor.run.parts import Parts
from yellowtor.run.phases.scan import PartScan
from yellowtor.run.ports import Service, Watcher
from yellowtor.wiring.cluster_tasks import (
    Done,
    JobCopy,
    ask_task,
    forget_run,
    judge_task,
    scan_task,
    stop_run,
    write_task,
)

if TYPE_CHECKING:
    from distributed import Client, Future

FED = 200  # requests a second that one process sends
SHARES = 4  # of the addresses, for each worker: who is done early takes another
LEAST = 5_000  # addresses that are worth a share of their own
LOOK_S = 0.1
OF_FILES = ("scan", "write")  # tasks that are about a file each
DEATHS = 10  # of workers that one task may meet before the run is given up
NEEDS = "--on needs Dask: pip install 'yellowtor[cluster]'. Nothing was sent."


class ClusterCrew:
    """The workers of a cluster, for one run."""

    def __init__(self, client: "Client", parts: Parts, job: JobCopy) -> None:
        self._client = client
        self._parts = parts
        self._job = job
        self._workers = max(1, sum(client.nthreads().values()))
        self._progress: SimpleQueue[tuple[str, int, int, int]] = SimpleQueue()
        client.subscribe_topic(job.run, lambda event: self._progress.put(event[1]))
        self.abandoned: Sequence[str] = ()

    def scan(self, pieces: Mapping[str, int], watch: Watcher, *, writes: bool) -> Sequence[PartScan]:
        """Scan the files of the source, each by a task."""
        return self._all(watch, "scan", scan_task, {name: (name, number, writes) for name, number in pieces.items()})

    def ask(self, service: Service, order: AskOrder, watch: Watcher, stop: Cancellation) -> AskResult:
        """Ask by as many workers as the service's quota feeds; a reference table by all of them."""
        most = self._workers
        if not service.is_local:
            rate = service.pace.per_second
            most = min(most, math.ceil(rate / FED)) if rate else 1
        shares: Sequence[Addresses | None] = [None]
        if order.at_most is None and most > 1:
            shares = self._shares(most * (SHARES if service.is_local else 1)) or [None]
        order = replace(order, judges=not service.is_local)
        tasks = {str(number): (order, share) for number, share in enumerate(shares)}
        started = time.monotonic()
        results = self._all(watch, "ask", ask_task, tasks, stop)
        return _joined(service.name, results, time.monotonic() - started)

    def judge(self, watch: Watcher) -> None:
        """Judge all addresses, each by one worker."""
        shares = self._shares(self._workers * SHARES)
        self._all(watch, "judge", judge_task, {str(number): (share,) for number, share in enumerate(shares)})

    def write(self, orders: Sequence[PieceOrder], watch: Watcher) -> Sequence[PieceWritten]:
        """Write the files of the answers, each by a task."""
        return self._all(watch, "write", write_task, {order.name: (order,) for order in orders})

    def _shares(self, most: int) -> Sequence[Addresses]:
        return self._parts.book.shares(most, LEAST)

    def _all(
        self,
        watch: Watcher,
        what: str,
        task: Callable[..., Done],
        each: Mapping[str, tuple[Any, ...]],
        stop: Cancellation | None = None,
    ) -> list[Any]:
        """The results of a task for each of these arguments. The first error ends the others; stop is passed on."""
        from distributed.scheduler import KilledWorker

        name = f"yellowtor-{what}-{token_hex(4)}"
        job = replace(self._job, stage=name)
        futures = [
            self._client.submit(task, job, *arguments, key=(name, which), pure=False)
            for which, arguments in each.items()
        ]
        try:
            done = self._done(futures, list(each) if what in OF_FILES else [], watch, stop)
        except KilledWorker as error:
            raise YellowtorError(
                f"The workers of the task {error.task!r} ended too often: is their memory too small? What was answered "
                "before is kept. Run the job again."
            ) from error
        except Exception as error:
            if self._client.status == "running":
                raise
            raise YellowtorError(
                "The scheduler of the cluster does not answer any more. What was answered before is kept. Run the job "
                "again."
            ) from error
        finally:
            with suppress(Exception):  # the scheduler may be gone
                self._client.cancel(futures, force=True)
        for remark in dict.fromkeys(remark for one in done for remark in one.remarks):
            watch.remark(remark)
        self.abandoned = [*self.abandoned, *(line for one in done for line in one.abandoned)]
        return [one.result for one in done]

    def _done(
        self, futures: "Sequence[Future[Any]]", files: Sequence[str], watch: Watcher, stop: Cancellation | None
    ) -> Sequence[Done]:
        """What all tasks are done with; each is fetched when it is finished. Raises what a task explains.

        files are the names of the files that the tasks are about, if they are.
        """
        key: Any = futures[0].key if futures else ("",)
        stage = str(key[0])
        found: dict[int, Done] = {}
        told = 0
        while len(found) < len(futures):
            time.sleep(LOOK_S)
            self._show(stage, watch)
            if stop and stop.times > told:
                told += 1
                self._client.run(stop_run, self._job.run)
            waiting = [(at, future) for at, future in enumerate(futures) if at not in found]
            for at, future in waiting:
                if future.status != "pending":
                    found[at] = done = future.result()  # raises if it has failed
                    if done.error:
                        raise done.error
                    if files:
                        watch.file_done(files[at], len(found), len(files))
        self._show(stage, watch)
        return [found[at] for at in range(len(futures))]

    def _show(self, stage: str, watch: Watcher) -> None:
        """Pass on the progress of this stage; that of an earlier one may arrive late."""
        with suppress(Empty):
            while True:
                of, done, sent, counted = self._progress.get_nowait()
                if of == stage:
                    watch.sent(sent, counted)
                    watch.advanced(done)

    def close(self) -> None:
        """The run is over."""
        with suppress(Exception):  # the cluster may be gone
            self._client.unsubscribe_topic(self._job.run)
            self._client.run(forget_run, self._job.run)


@contextmanager
def cluster_crew(on: str, path: Path, parts: Parts, *, again_failed: bool, watch: Watcher) -> Iterator[Parts]:
    """The parts of a run with a crew: of the cluster at an address, or of `local:N` new processes.

    Raises BadJob if the job can't be shared.
    """
    if not isinstance(parts.table, InPieces) or "://" not in (parts.job.ledger or ""):
        raise BadJob(
            f"{path}: --on shares the work by files: records.file is a folder or a pattern, and the ledger is a "
            "PostgreSQL. Nothing was sent."
        )
    with _client(on, watch) as client:
        copy = JobCopy(path.absolute(), fingerprint(path), f"yellowtor-{token_hex(8)}", again_failed)
        crew = ClusterCrew(client, parts, copy)
        try:
            yield replace(parts, crew=crew)
        finally:
            crew.close()


@contextmanager
def _client(on: str, watch: Watcher) -> Iterator["Client"]:
    """A client of the cluster. Raises BadJob if there is none."""
    try:
        import dask
        from distributed import Client, LocalCluster
    except ModuleNotFoundError as error:
        raise BadJob(NEEDS) from error
    for logger in ("distributed", *(f"distributed.{part}" for part in ("client", "nanny", "worker", "scheduler"))):
        logging.getLogger(logger).setLevel(logging.CRITICAL)
    name, _, count = on.partition(":")
    if name != "local":
        try:
            with Client(on, timeout="10s") as client:
                if not client.nthreads():
                    watch.remark(f"{on} has no worker yet: the run waits for one")
                    client.wait_for_workers(1)
                yield client
        except (OSError, ValueError) as error:
            raise BadJob(f"--on {on}: no scheduler answers there ({error}). Nothing was sent.") from error
        return
    if not count.isdigit() or not int(count):
        raise BadJob(f"--on {on!r}: say local:N for N processes, or tcp://host:port. Nothing was sent.")
    with (
        dask.config.set({"distributed.scheduler.allowed-failures": DEATHS}),
        LocalCluster(
            int(count),
            threads_per_worker=1,
            dashboard_address="127.0.0.1:0",
            preload=[ask_task.__module__],
            silence_logs=logging.CRITICAL,
        ) as cluster,
        Client(cluster) as client,
    ):
        if find_spec("bokeh"):  # what draws the dashboard
            watch.remark(f"the dashboard of the processes: {client.dashboard_link}")
        yield client


def _joined(service: str, results: Sequence[AskResult], seconds: float) -> AskResult:
    """The results of several workers, as one."""
    whole = AskResult(service, seconds=seconds)
    for one in results:
        for name in ("sent", "searched", "counted", "cost", "settled", "retried"):
            setattr(whole, name, getattr(whole, name) + getattr(one, name))
        for kind, count in one.kinds.items():
            whole.kinds[kind] = whole.kinds.get(kind, 0) + count
        whole.left_open += one.left_open
        whole.interrupted |= one.interrupted
        whole.differences = tuple(dict.fromkeys((*whole.differences, *one.differences)))
        if one.stopped_by and not whole.stopped_by:
            whole.stopped_by, whole.message = one.stopped_by, one.message
            whole.resets_at, whole.for_good = one.resets_at, one.for_good
    return whole
