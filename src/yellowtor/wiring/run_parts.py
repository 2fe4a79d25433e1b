"""Everything that a run of a job needs, open."""

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from functools import partial
from importlib import import_module
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Thread
from typing import TYPE_CHECKING, NamedTuple

from yellowtor.contracts.ambient import Ambient
from yellowtor.contracts.table import LEAVE, InTransactions, Table
from yellowtor.errors import BadSource
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.record_settings import STANDARD
from yellowtor.run.ports import MarkerFile
from yellowtor.run.run_job import Parts
from yellowtor.services.http import HttpService
from yellowtor.settings import read_settings
from yellowtor.wiring.ledgers import ledger_clock, ledger_of, terms, this_worker
from yellowtor.wiring.outputs import check_outputs, source_file
from yellowtor.wiring.process import PROCESS
from yellowtor.wiring.services import check_currency, check_extra, load_services
from yellowtor.wiring.tables import copy_table, free_name, open_table

if TYPE_CHECKING:
    from yellowtor.ledger.accounts.requests import Again


class Files(NamedTuple):
    """The job file, the file that gets the answers (None: the table itself), and the files that are written."""

    job: Path | None
    to: Path | None
    written: Sequence[Path]


def preview_parts(path: Path) -> tuple[Job, Table, Sequence[HttpService], Sequence[str]]:
    """What a look at a job's records needs: no ledger, and no key of the service."""
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, _ = load_services(job, folder, unset_is_shown=True)
    table, _, _ = open_table(job, folder)
    return job, table, services, table.remarks


def check_markers(job: Job, folder: Path) -> list[Path]:
    """The layers under the markers. Raises BadSource where one can't be read."""
    under = [folder / layer for layer in job.markers.under]
    if any(known.draws_layers for known, _ in job.markers.files()):
        from yellowtor.markers.page import read_under

        for layer in under:
            read_under(layer)
    return under


@contextmanager
def job_parts(
    path: Path,
    *,
    again_failed: bool,
    spend_at_most: int | None = None,
    along: bool = False,
    sends: bool = True,
    ambient: Ambient = PROCESS,
) -> Iterator[tuple[Parts, Sequence[str]]]:
    """All that a run of this job needs, open; and remarks. Raises YellowtorError before anything is sent.

    What sends nothing needs no keys.
    """
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, remarks = load_services(job, folder, unset_is_shown=not sends, ambient=ambient)
    Thread(target=import_module, args=["yellowtor.ledger.jobs.run_book"]).start()  # while the source is read
    table, source, to = open_table(job, folder, ambient)
    with ExitStack() as stack:
        files = [f for f in (to or source,) if f and job.write.to != STANDARD]
        if job.write.to == STANDARD:
            to = Path(stack.enter_context(TemporaryDirectory(prefix="yellowtor-"))) / f"answers{_ending(source)}"
        named = Files(path, to, files)
        parts = open_parts(
            job,
            folder,
            job.name or path.resolve(),
            services,
            table,
            named,
            again_failed=again_failed,
            spend_at_most=spend_at_most,
            along=along,
            ambient=ambient,
        )
        yield stack.enter_context(parts), [*remarks, *table.remarks]


def _ending(source: Path | None) -> str:
    if source is None or not source.suffix:
        return ".csv"
    return "".join(source.suffixes[-2:] if source.suffix == ".gz" else source.suffixes[-1:])


@contextmanager
def open_parts(
    job: Job,
    folder: Path,
    whose: str | Path,
    services: Sequence[HttpService],
    table: Table,
    files: Files,
    *,
    again_failed: bool,
    spend_at_most: int | None = None,
    along: bool = False,
    ambient: Ambient = PROCESS,
) -> Iterator[Parts]:
    """What a run needs beside its job, services and table. whose is what the ledger knows the job by."""
    from yellowtor.ledger.jobs.run_book import open_book

    check_extra(job, services)
    if spend_at_most is not None:
        check_currency(services)
    under = check_markers(job, folder)
    written = [*files.written, *(folder / path for _, path in job.markers.files())]
    ledger = ledger_of(job, folder, ambient)
    check_outputs(job, folder, files.job, ledger if isinstance(ledger, Path) else None)
    again: Again = "failed" if again_failed else "nothing"
    credit = "; ".join(dict.fromkeys(service.attribution for service in services if service.attribution))
    charged = [terms(service, job.ask.caps) for service in services]
    with open_book(
        ledger,
        whose,
        ledger_clock(ledger),
        charged,
        again,
        spend_at_most,
        worker=this_worker(),
        along=along,
    ) as book:
        markers = partial(_marker_files, job, folder, credit, under)
        yield Parts(
            job,
            table,
            services,
            book,
            book.clock,
            markers,
            LEAVE,
            files.to,
            tuple(written),
            table.destination if isinstance(table, InTransactions) else "",
            lambda copy: copy_table(copy, job),
            free_name,
        )


@contextmanager
def _marker_files(job: Job, folder: Path, attribution: str, under: Sequence[Path]) -> Iterator[Sequence[MarkerFile]]:
    source = source_file(job, folder)
    with ExitStack() as stack:
        made = list[MarkerFile]()
        failed = list[BadSource]()
        for begin in _marker_writers(job, folder, attribution, under, source):
            try:
                made.append(stack.enter_context(begin))
            except BadSource as error:  # the table is written all the same
                failed.append(error)
        yield made
    if failed:
        raise failed[0]


def _marker_writers(
    job: Job, folder: Path, attribution: str, under: Sequence[Path], source: Path | None
) -> Iterator[AbstractContextManager[MarkerFile]]:
    from yellowtor.markers.target import MarkerTarget

    for known, path in job.markers.files():
        target = MarkerTarget(folder / path, job.markers.title, attribution, under, source)
        yield import_module(known.module).open_file(target)
