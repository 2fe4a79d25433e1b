"""Opens the ledger of a job for each purpose. The ledger is imported when it is used, to start quickly."""

import getpass
import os
import platform
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from yellowtor.allowance.windows import Window
from yellowtor.caps import CapRule
from yellowtor.contracts.ambient import Ambient
from yellowtor.contracts.position import Area
from yellowtor.errors import BadJob
from yellowtor.run.jobs.job import Job
from yellowtor.run.ports import Book
from yellowtor.settings import read_settings
from yellowtor.wiring.process import CLOCK, PROCESS
from yellowtor.wiring.services import AnyService, load_services
from yellowtor.wiring.tables import database_password

if TYPE_CHECKING:
    from yellowtor.contracts.clock import Clock
    from yellowtor.ledger.accounts.account_usage import SqlUsageBook
    from yellowtor.ledger.accounts.requests import Again
    from yellowtor.ledger.accounts.service_account import AccountTerms
    from yellowtor.ledger.jobs.history import SqlHistoryBook
    from yellowtor.ledger.jobs.judging import SqlJudgeBook
    from yellowtor.ledger.jobs.pins import PinBook
    from yellowtor.ledger.jobs.record_book import SqlRecordBook
    from yellowtor.ledger.jobs.reviewing import SqlReviewBook
    from yellowtor.ledger.maintenance.cache_book import SqlCacheBook
    from yellowtor.ledger.storage.server import Server
    from yellowtor.ledger.storage.store import Store, Worker

_LIKE_URL = re.compile(r"postgres\w*:|[^/\\]+:[^/\\]*@")  # a mistyped one, which is not a file and may hold a password


def user_ledger() -> Path:
    """The ledger that all jobs of this user share."""
    return Path(platformdirs.user_data_dir("yellowtor", appauthor=False)) / "ledger.sqlite"


def ledger_of(job: Job, folder: Path, ambient: Ambient = PROCESS) -> "Path | Server":
    """Where the job's ledger is. Raises BadJob where the password of a shared one can't be found."""
    if job.ledger is None:
        return user_ledger()
    if "://" not in job.ledger and not _LIKE_URL.match(job.ledger):
        return folder / job.ledger
    from yellowtor.ledger.storage.server import Server

    return Server(job.ledger, database_password(job.ledger_password_from, folder, "ledger", ambient))


def check_ledger(job: Job, folder: Path) -> str:
    """How the job's ledger is, in words; it is not touched. Raises LedgerTrouble."""
    where = ledger_of(job, folder)
    if isinstance(where, Path):
        from yellowtor.ledger.storage.sqlite import look_at

        return look_at(where)
    from yellowtor.ledger.storage.postgres import look_at_server

    return look_at_server(where)


def ledger_clock(where: "Path | Server") -> "Clock":
    """The clock of a ledger: this machine's, or the server's."""
    if isinstance(where, Path):
        return CLOCK
    from yellowtor.ledger.storage.server_clock import ServerClock

    return ServerClock(CLOCK)


def this_worker() -> "Worker":
    from yellowtor.ledger.storage.machine import this_machine
    from yellowtor.ledger.storage.store import Worker

    try:
        who = getpass.getuser()
    except (OSError, KeyError):  # a user that the system does not know
        who = "somebody"
    return Worker(who, platform.node(), os.getpid(), this_machine())


def terms(service: AnyService, caps: Sequence[CapRule] = ()) -> "AccountTerms":
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
        service.is_local,
    )


@contextmanager
def service_book(service: AnyService, path: Path, ledger: "Path | Server | None", again: "Again") -> Iterator[Book]:
    """The ledger for requests that belong to no job."""
    from yellowtor.ledger.jobs.run_book import BookOptions, open_book

    where = ledger or user_ledger()
    options = BookOptions(again, worker=this_worker())
    with open_book(where, path.absolute(), ledger_clock(where), [terms(service)], options) as book:
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


@contextmanager
def job_records(job: Job, path: Path) -> Iterator["SqlRecordBook"]:
    """What the ledger of a job knows of single records, to look at. Raises BadJob, LedgerTrouble."""
    from yellowtor.ledger.jobs.record_book import SqlRecordBook

    with _to_read(job, path) as ledger:
        yield SqlRecordBook(*ledger)


@contextmanager
def job_review(job: Job, path: Path) -> Iterator["SqlReviewBook"]:
    """What is to be reviewed of a job, to look at. Raises BadJob, LedgerTrouble."""
    from yellowtor.ledger.jobs.reviewing import SqlReviewBook

    with _to_read(job, path) as ledger:
        yield SqlReviewBook(*ledger)


@contextmanager
def job_history(job: Job, path: Path) -> Iterator["SqlHistoryBook"]:
    """How the records of a job stood, to look at. Raises BadJob, LedgerTrouble."""
    from yellowtor.ledger.jobs.history import SqlHistoryBook

    with _to_read(job, path) as ledger:
        yield SqlHistoryBook(*ledger)


@contextmanager
def job_answers(job: Job, path: Path) -> Iterator["SqlJudgeBook"]:
    """The answers that the ledger of a job has, to look at. Raises BadJob, LedgerTrouble."""
    from yellowtor.ledger.jobs.judging import SqlJudgeBook

    with _to_read(job, path) as ledger:
        yield SqlJudgeBook(*ledger, {})


@contextmanager
def _to_read(job: Job, path: Path) -> "Iterator[tuple[Store, int]]":
    """The ledger of a job and its number there, while runs may use it. Raises BadJob if no run has made it yet."""
    from yellowtor.ledger.storage.open_store import open_to_read

    where = ledger_of(job, path.absolute().parent)
    if isinstance(where, Path) and not where.exists():
        raise BadJob(f"There is no ledger {where} yet. The first run creates it.")
    with open_to_read(where, job.name or path.resolve(), ledger_clock(where)) as opened:
        yield opened


def area_of_job(path: Path) -> Area | None:
    """Where a job says that its records lie."""
    return read_settings(path, Job, "job").judge.thresholds().area


@contextmanager
def cache_book(job: Path | None, ledger: Path | None, *, make: bool = False) -> Iterator[tuple["SqlCacheBook", str]]:
    """The ledger of a job, of a file, or of the user, for maintenance; and its location. Raises BadJob."""
    from yellowtor.ledger.maintenance.cache_book import open_cache

    if job is not None and ledger is not None:
        raise BadJob("--job and --ledger both name the ledger: use one of them.")
    where: Path | Server = ledger or user_ledger()
    if job is not None:
        where = ledger_of(read_settings(job, Job, "job"), job.absolute().parent)
    if isinstance(where, Path) and not where.exists() and not make:
        raise BadJob(f"There is no ledger {where} yet. The first run creates it.")
    with open_cache(where, ledger_clock(where)) as book:
        yield book, str(where)


def fixed_parts(job: Path | None) -> dict[str, str]:
    """The parts of an address that a job fixes for all its records."""
    address = None if job is None else read_settings(job, Job, "job").address
    return {} if address is None else {part: text for part, text in address.fixed if text}


@contextmanager
def job_usage(path: Path) -> Iterator[tuple[Sequence[tuple[AnyService, Sequence[Window]]], "SqlUsageBook"]]:
    """A job's services (no key is needed) with what is counted of them, and the ledger to look at.

    Raises BadJob, LedgerTrouble.
    """
    from yellowtor.ledger.accounts.account_usage import open_usage

    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    services, _ = load_services(job, folder, unset_is_shown=True)
    ledger = ledger_of(job, folder)
    if isinstance(ledger, Path) and not ledger.exists():
        raise BadJob(f"The ledger {ledger} does not exist yet. The first run creates it, and nothing is used yet.")
    with open_usage(ledger, job.name or path.resolve(), ledger_clock(ledger)) as book:
        yield [(service, terms(service, job.ask.caps).windows) for service in services], book
