"""Everything that a run of a job needs, open."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Thread
from typing import TYPE_CHECKING, NamedTuple

from yellowtor.answers.ledger_rows import ALL_ADDRESSES, Addresses
from yellowtor.contracts.ambient import Ambient
from yellowtor.contracts.table import LEAVE, InPieces, InTransactions, Table
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.record_settings import STANDARD
from yellowtor.run.parts import Parts
from yellowtor.run.ports import Watcher
from yellowtor.settings import read_settings
from yellowtor.wiring.calibrations import calibrations_of
from yellowtor.wiring.ledgers import ledger_clock, ledger_of, terms, this_worker
from yellowtor.wiring.markers import check_markers, credit_of, marker_files
from yellowtor.wiring.outputs import check_outputs, source_file
from yellowtor.wiring.process import PROCESS
from yellowtor.wiring.services import AnyService, check_currency, check_extra, load_services
from yellowtor.wiring.tables import copy_table, free_name, open_table

if TYPE_CHECKING:
    from yellowtor.ledger.accounts.requests import Again


class Files(NamedTuple):
    """The job file, the file that gets the answers (None: the table itself), and the files that are written."""

    job: Path | None
    to: Path | None
    written: Sequence[Path]


def preview_parts(path: Path) -> tuple[Job, Table, Sequence[AnyService], Sequence[str]]:
    """What a look at a job's records needs: no ledger, and no key of the service."""
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, _ = load_services(job, folder, unset_is_shown=True)
    table, _, _ = open_table(job, folder)
    return job, table, services, table.remarks


@dataclass(frozen=True)
class JobLocation:
    """The folder that a job's paths start from, and the name that the ledger knows the job by."""

    folder: Path
    whose: str | Path


@dataclass(frozen=True)
class PartsOptions:
    """How a run uses its parts.

    again_failed: what failed is asked again. spend_at_most is what the run may cost, in millionths. along: it may share
    the job with another run. A run that sends nothing needs no keys. watch shows how a reference table is indexed.
    addresses are those to be asked and judged, if not all.
    """

    again_failed: bool = False
    spend_at_most: int | None = None
    along: bool = False
    sends: bool = True
    ambient: Ambient = PROCESS
    watch: Watcher | None = None
    addresses: Addresses | None = None


@contextmanager
def job_parts(path: Path, options: PartsOptions) -> Iterator[tuple[Parts, Sequence[str]]]:
    """Everything that a run of this job needs, open; and remarks. Raises YellowtorError before anything is sent."""
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, remarks = load_services(
        job, folder, unset_is_shown=not options.sends, ambient=options.ambient, watch=options.watch
    )
    Thread(target=import_module, args=["yellowtor.ledger.jobs.run_book"]).start()  # while the source is read
    table, source, to = open_table(job, folder, options.ambient)
    with ExitStack() as stack:
        one_file = job.write.to != STANDARD and not isinstance(table, InPieces)
        files = [f for f in (to or source,) if f and one_file]
        if job.write.to == STANDARD:
            to = Path(stack.enter_context(TemporaryDirectory(prefix="yellowtor-"))) / f"answers{_ending(source)}"
        named = Files(path, to, files)
        parts = open_parts(job, JobLocation(folder, job.name or path.resolve()), services, table, named, options)
        yield stack.enter_context(parts), [*remarks, *table.remarks]


def _ending(source: Path | None) -> str:
    if source is None or not source.suffix:
        return ".csv"
    return "".join(source.suffixes[-2:] if source.suffix == ".gz" else source.suffixes[-1:])


@contextmanager
def open_parts(
    job: Job,
    place: JobLocation,
    services: Sequence[AnyService],
    table: Table,
    files: Files,
    options: PartsOptions = PartsOptions(),
) -> Iterator[Parts]:
    """What a run needs beside its job, services and table."""
    from yellowtor.ledger.jobs.run_book import BookOptions, open_book

    check_extra(job, services)
    folder = place.folder
    if options.spend_at_most is not None:
        check_currency(services)
    calibrations = calibrations_of(job, folder)
    marker_parts = check_markers(job, folder)
    written = [*files.written, *(folder / output.path for output in job.markers.files())]
    ledger = ledger_of(job, folder, options.ambient)
    check_outputs(job, folder, files.job, ledger if isinstance(ledger, Path) else None)
    again: Again = "failed" if options.again_failed else "nothing"
    charged = [terms(service, job.ask.caps) for service in services]
    book_options = BookOptions(
        again, options.spend_at_most, this_worker(), options.along, options.addresses or ALL_ADDRESSES
    )
    with open_book(ledger, place.whose, ledger_clock(ledger), charged, book_options) as book:
        markers = marker_files(job.markers, folder, credit_of(services), source_file(job, folder))
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
            calibrations,
            marker_parts,
        )
