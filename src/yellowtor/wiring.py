"""Puts the real parts of the edge rooms into a run.

The ledger is imported where it is needed: what never opens one starts a third sooner.
"""

import getpass
import os
import platform
import re
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from functools import partial
from importlib import import_module
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Thread
from typing import TYPE_CHECKING, NamedTuple

import platformdirs

from yellowtor.allowance.windows import Window
from yellowtor.caps import CapRule
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Area
from yellowtor.contracts.table import LEAVE, InTransactions, Table
from yellowtor.errors import BadJob, BadSource
from yellowtor.jobfiles import check_outputs, source_file
from yellowtor.opening import CLOCK, copy_table, database_password, free_name, open_table
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.record_settings import STANDARD
from yellowtor.run.plan import currency_of
from yellowtor.run.ports import Book, MarkerFile
from yellowtor.run.run_job import Parts
from yellowtor.services.description import Description
from yellowtor.services.http import NONE, HttpService
from yellowtor.services.making import Wishes
from yellowtor.services.variables import environment, find_values
from yellowtor.settings import read_settings

if TYPE_CHECKING:
    from yellowtor.contracts.clock import Clock
    from yellowtor.ledger.accounts.account_usage import UsageBook
    from yellowtor.ledger.accounts.requests import Again
    from yellowtor.ledger.accounts.service_account import AccountTerms
    from yellowtor.ledger.jobs.pins import PinBook
    from yellowtor.ledger.maintenance.cache_book import CacheBook
    from yellowtor.ledger.storage.postgres import Server
    from yellowtor.ledger.storage.store import Worker


class Files(NamedTuple):
    """The job file, the file that gets the answers (None: the table itself), and the files that are written."""

    job: Path | None
    to: Path | None
    written: Sequence[Path]


_LIKE_URL = re.compile(r"postgres\w*:|[^/\\]+:[^/\\]*@")  # a mistyped one, which is no file and may hold a password


def user_ledger() -> Path:
    """The ledger that all jobs of this user share."""
    return Path(platformdirs.user_data_dir("yellowtor", appauthor=False)) / "ledger.sqlite"


def load_service(
    path: Path, wishes: Wishes = NONE, *, unset_is_shown: bool = False
) -> tuple[HttpService, Sequence[str]]:
    """The service of a description, its variables' values found; and remarks about them.

    unset_is_shown: nothing will be sent, so that a variable without a value may stand for itself.
    """
    description = read_settings(path, Description, "service description")
    folder = path.absolute().parent
    find = partial(find_values, description.variables, environment(), folder, unset_is_shown=unset_is_shown)
    values = find()
    return HttpService(description, values, wishes, folder, find), values.remarks


def wishes_of(job: Job) -> Wishes:
    """What a job wants of all its questions."""
    return Wishes(job.direction, job.ask.language, tuple(job.ask.countries), job.judge.thresholds().area)


def load_services(
    job: Job, folder: Path, *, unset_is_shown: bool = False
) -> tuple[Sequence[HttpService], Sequence[str]]:
    """The services of a job, in the order in which they are asked; and remarks about their variables."""
    loaded = [load_service(folder / path, wishes_of(job), unset_is_shown=unset_is_shown) for path in job.ask.all()]
    services = [service for service, _ in loaded]
    check_names([service.name for service in services])
    return services, list(dict.fromkeys(remark for _, remarks in loaded for remark in remarks))


def check_names(names: Sequence[str]) -> None:
    """Raise BadJob where two services have one name: nobody could tell whose an answer is."""
    if twice := [name for at, name in enumerate(names) if name in names[:at]]:
        raise BadJob(f"Two of the job's services have the name {twice[0]!r} (service.name). Nothing was sent.")


def preview_parts(path: Path) -> tuple[Job, Table, Sequence[HttpService], Sequence[str]]:
    """What a look at a job's records needs: no ledger, and no key of the service."""
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, _ = load_services(job, folder, unset_is_shown=True)
    table, _, _ = open_table(job, folder)
    return job, table, services, table.remarks


def check_extra(job: Job, services: Sequence[HttpService]) -> None:
    """Raise BadJob where the job wants a field that no description adds."""
    added = list(dict.fromkeys(name for service in services for name in service.extra))
    if stray := [name for name in job.write.columns.extra if name not in added]:
        files = ", ".join(map(str, job.ask.all()))
        raise BadJob(
            f"write.columns.extra names {stray[0]!r}, and {files} adds no such field under [reply.extra] "
            f"(it has: {', '.join(added) or 'none'}). Nothing was sent."
        )


def check_currency(services: Sequence[HttpService]) -> None:
    """Raise BadJob where a limit of money would mean nothing, or two things."""
    currencies = {currency for service in services if (currency := currency_of(service, CLOCK.now()))}
    if len(currencies) != 1:
        told = " and ".join(sorted(currencies)) or "none that has a price ([[allowance.prices]])"
        raise BadJob(f"--spend-at-most is of one currency, and the job's services charge in {told}. Nothing was sent.")


def check_markers(job: Job, folder: Path) -> list[Path]:
    """The layers under the markers. Raises BadSource where one can't be read."""
    under = [folder / layer for layer in job.markers.under]
    if job.markers.page:
        from yellowtor.markers.page import read_under

        for layer in under:
            read_under(layer)
    return under


def check_ledger(job: Job, folder: Path) -> str:
    """How the job's ledger is, in words; it is not touched. Raises LedgerTrouble."""
    where = ledger_of(job, folder)
    if isinstance(where, Path):
        from yellowtor.ledger.storage.sqlite import look_at

        return look_at(where)
    from yellowtor.ledger.storage.postgres import look_at_server

    return look_at_server(where)


def ledger_of(job: Job, folder: Path) -> "Path | Server":
    """Where the job's ledger is. Raises BadJob where the password of a shared one can't be found."""
    if job.ledger is None:
        return user_ledger()
    if "://" not in job.ledger and not _LIKE_URL.match(job.ledger):
        return folder / job.ledger
    from yellowtor.ledger.storage.postgres import Server

    return Server(job.ledger, database_password(job.ledger_password_from, folder, "ledger"))


def ledger_clock(where: "Path | Server") -> "Clock":
    """What a ledger goes by: this machine's clocks, or the server's."""
    if isinstance(where, Path):
        return CLOCK
    from yellowtor.ledger.storage.postgres import ServerClock

    return ServerClock(CLOCK)


def this_worker() -> "Worker":
    from yellowtor.ledger.storage.machine import this_machine
    from yellowtor.ledger.storage.store import Worker

    try:
        who = getpass.getuser()
    except (OSError, KeyError):  # nobody that the system knows
        who = "somebody"
    return Worker(who, platform.node(), os.getpid(), this_machine())


def terms(service: HttpService, caps: Sequence[CapRule] = ()) -> "AccountTerms":
    """What the ledger keeps of a service; with the job's own caps, in the service's time zone."""
    from yellowtor.ledger.accounts.service_account import AccountTerms

    if any(cap.money for cap in caps) and not service.prices:
        raise BadJob(
            f"ask.caps has one of money, and {service.name} has no price ([[allowance.prices]]). Nothing was sent."
        )
    windows = [*service.windows, *(cap.window("job's", service.zone) for cap in caps)]
    return AccountTerms(
        service.name,
        service.asking.key,
        service.account,
        service.pace,
        windows,
        service.prices,
        service.keep_days,
        service.keep_nothing_days,
    )


@contextmanager
def service_book(service: HttpService, path: Path, ledger: "Path | Server | None", again: "Again") -> Iterator[Book]:
    """The ledger for requests that belong to no job."""
    from yellowtor.ledger.jobs.run_book import open_book

    where = ledger or user_ledger()
    with open_book(
        where, path.absolute(), ledger_clock(where), [terms(service)], again=again, worker=this_worker()
    ) as book:
        yield book


@contextmanager
def job_pins(path: Path) -> Iterator["PinBook"]:
    """The pins of a job, to be changed. Raises BadJob for a job in reverse, whose records have their positions."""
    from yellowtor.ledger.jobs.run_book import open_pins

    job = read_settings(path, Job, "job")
    if job.in_reverse:
        raise BadJob(f'{path} says direction = "reverse": a pin is a position, and its records have theirs.')
    where = ledger_of(job, path.absolute().parent)
    with open_pins(where, job.name or path.resolve(), ledger_clock(where)) as book:
        yield book


def area_of_job(path: Path) -> Area | None:
    """Where a job says that its records lie."""
    return read_settings(path, Job, "job").judge.thresholds().area


@contextmanager
def cache_book(job: Path | None, ledger: Path | None, *, make: bool = False) -> Iterator[tuple["CacheBook", str]]:
    """The ledger of a job, of a file, or of the user, to look at and to correct; and where it is. Raises BadJob."""
    from yellowtor.ledger.maintenance.cache_book import open_cache

    if job is not None and ledger is not None:
        raise BadJob("--job and --ledger are two ways to say the same: keep one.")
    where: Path | Server = ledger or user_ledger()
    if job is not None:
        where = ledger_of(read_settings(job, Job, "job"), job.absolute().parent)
    if isinstance(where, Path) and not where.exists() and not make:
        raise BadJob(f"There is no ledger {where}: the first run makes it.")
    with open_cache(where, ledger_clock(where)) as book:
        yield book, str(where)


def fixed_parts(job: Path | None) -> dict[str, str]:
    """The parts of an address that a job fixes for all its records."""
    address = None if job is None else read_settings(job, Job, "job").address
    return {} if address is None else {part: text for part, text in address.fixed if text}


@contextmanager
def job_usage(path: Path) -> Iterator[tuple[Sequence[tuple[HttpService, Sequence[Window]]], "UsageBook"]]:
    """A job's services (no key is needed) with what is counted of them, and the ledger to look at.

    Raises BadJob, LedgerTrouble.
    """
    from yellowtor.ledger.accounts.account_usage import open_usage

    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, _ = load_services(job, folder, unset_is_shown=True)
    ledger = ledger_of(job, folder)
    if isinstance(ledger, Path) and not ledger.exists():
        raise BadJob(f"The ledger {ledger} is made by the first run: nothing is used yet.")
    with open_usage(ledger, job.name or path.resolve(), ledger_clock(ledger)) as book:
        yield [(service, terms(service, job.ask.caps).windows) for service in services], book


@contextmanager
def job_parts(
    path: Path,
    *,
    again_failed: bool,
    spend_at_most: int | None = None,
    along: bool = False,
    sends: bool = True,
) -> Iterator[tuple[Parts, Sequence[str]]]:
    """All that a run of this job needs, open; and remarks. Raises YellowtorError before anything is sent.

    What sends nothing needs no keys.
    """
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, remarks = load_services(job, folder, unset_is_shown=not sends)
    Thread(target=import_module, args=["yellowtor.ledger.jobs.run_book"]).start()  # while the source is read
    table, source, to = open_table(job, folder)
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
) -> Iterator[Parts]:
    """What a run needs beside its job, services and table. whose is what the ledger knows the job by."""
    from yellowtor.ledger.jobs.run_book import open_book

    check_extra(job, services)
    if spend_at_most is not None:
        check_currency(services)
    under = check_markers(job, folder)
    written = [*files.written, *(folder / f for f in (job.markers.geojson, job.markers.page) if f)]
    ledger = ledger_of(job, folder)
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
    if job.markers.geojson:
        from yellowtor.markers.geojson import geojson_file

        yield geojson_file(folder / job.markers.geojson, attribution, source)
    if job.markers.page:
        from yellowtor.markers.page import page_file

        meanings = {outcome.value: outcome.meaning for outcome in Outcome}
        yield page_file(folder / job.markers.page, job.markers.title, attribution, under, meanings, source)
