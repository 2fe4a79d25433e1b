"""Puts the real parts of the edge rooms into a run."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from yellowtor.answers.outcome import Outcome
from yellowtor.errors import BadJob
from yellowtor.ledger.book import open_book
from yellowtor.ledger.requests import AccountTerms, Again
from yellowtor.run.clock import SystemClock
from yellowtor.run.conduct import Parts
from yellowtor.run.job import Job, Records
from yellowtor.run.ports import Book, MarkerFile, Table
from yellowtor.services.description import Description
from yellowtor.services.http import HttpService
from yellowtor.services.variables import Variable, environment, find_values
from yellowtor.settings import read_settings
from yellowtor.tables.cells import LEAVE
from yellowtor.tables.delimited import DelimitedTable
from yellowtor.tables.dialect import Told

if TYPE_CHECKING:
    from yellowtor.tables.workbook import WorkbookTable

CLOCK = SystemClock()
WORKBOOKS = (".xlsx", ".xlsm", ".xls", ".xlsb", ".ods")
TEXT = (".csv", ".tsv", ".tab", ".txt")


def user_ledger() -> Path:
    """The ledger that all jobs of this user share."""
    return Path(platformdirs.user_data_dir("yellowtor", appauthor=False)) / "ledger.sqlite"


def load_service(path: Path, language: str = "") -> tuple[HttpService, Sequence[str]]:
    """The service of a description, its variables' values found; and remarks about them."""
    description = read_settings(path, Description, "service description")
    values = find_values(description.variables, environment(), path.absolute().parent)
    return HttpService(description, values, language), values.remarks


def preview_parts(path: Path) -> tuple[Job, Table, HttpService, Sequence[str]]:
    """What a look at a job's records needs: no ledger, and no key of the service."""
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    description = read_settings(folder / job.ask.service, Description, "service description")
    values = find_values(description.variables, environment(), folder / job.ask.service, unset_is_shown=True)
    table, _, _ = open_table(job, folder)
    return job, table, HttpService(description, values, job.ask.language), table.remarks


def terms(service: HttpService) -> AccountTerms:
    return AccountTerms(service.name, service.account, service.pace, service.day)


@contextmanager
def service_book(service: HttpService, path: Path, ledger: Path | None, again: Again) -> Iterator[Book]:
    """The ledger for requests that belong to no job."""
    with open_book(ledger or user_ledger(), path.absolute(), CLOCK, terms(service), again=again) as book:
        yield book


@contextmanager
def job_parts(path: Path, *, again_failed: bool, dry_run: bool = False) -> Iterator[tuple[Parts, Sequence[str]]]:
    """All that a run of this job needs, open; and remarks. Raises YellowtorError before anything is sent."""
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    service, remarks = load_service(folder / job.ask.service, job.ask.language)
    table, source, to = open_table(job, folder, whole=dry_run)
    under = [folder / layer for layer in job.markers.under]
    if job.markers.page:
        from yellowtor.markers.page import read_under

        for layer in under:
            read_under(layer)
    files = [folder / f for f in (job.markers.geojson, job.markers.page) if f]
    if source:
        files = [to or source, *files]
    if len({f.resolve() for f in [*files, source or folder]}) < len(files) + (to is not None or source is None):
        raise BadJob("two of the files that the job writes are one. Nothing was sent.")
    ledger = folder / job.ledger if job.ledger else user_ledger()
    again: Again = "failed" if again_failed else "nothing"
    with open_book(ledger, path.resolve(), CLOCK, terms(service), again=again) as book:
        markers = partial(_marker_files, job, folder, service.attribution, under)
        yield (
            Parts(job, table, service, book, CLOCK, markers, LEAVE, to, tuple(files), table.into),
            [*remarks, *table.remarks],
        )


def open_table(job: Job, folder: Path, *, whole: bool = False) -> tuple[Table, Path | None, Path | None]:
    """The job's table, its file if it is one, and the file that the answers go into if it is another."""
    if job.records.file is None:
        return _database_table(job, folder, whole=whole), None, None
    source = folder / job.records.file
    to = None if job.write.in_place else folder / (job.write.to or "")
    if to and to.resolve() == source.resolve():
        raise BadJob(f"write.to = {str(job.write.to)!r} is the source itself. Say in_place = true if that is meant.")
    backup = _dated(source) if job.write.in_place and job.write.backup else None
    table = file_table(source, job.records, backup, list(job.write.columns.mapped().values()))
    if job.records.only or job.records.first:
        from yellowtor.tables.chosen import ChosenTable

        return ChosenTable(table, job.records.only, job.records.first), source, to
    return table, source, to


def _dated(path: Path) -> Path:
    """A name beside path that is free, with today's date in it."""
    stem, *endings = path.name.split(".")
    now = CLOCK.now().astimezone()
    for stamp in (f"{now:%Y-%m-%d}", f"{now:%Y-%m-%dT%H%M%S}"):
        backup = path.with_name(".".join([stem, stamp, *endings]))
        if not backup.exists():
            break
    return backup


def file_table(
    path: Path, records: Records, backup: Path | None = None, answers: Sequence[str] = ()
) -> "DelimitedTable | WorkbookTable":
    """The table in this file, by its name's ending."""
    kind = path.with_suffix("").suffix.lower() if path.suffix.lower() == ".gz" else path.suffix.lower()
    if kind in TEXT:
        return DelimitedTable(path, Told(**dict(records.text)), backup)
    if kind in WORKBOOKS:
        from yellowtor.tables.workbook import WorkbookTable

        return WorkbookTable(path, records.sheet, backup, block=records.block, table=records.table, answers=answers)
    known = ", ".join([*WORKBOOKS, *TEXT])
    raise BadJob(f"records.file = {path.name!r}: a table is a file {known} (text also .gz). Nothing was sent.")


def database_password(variable: str | None, folder: Path) -> str | None:
    """The password of a database, from the environment or a `.env`."""
    if variable is None:
        return None
    wanted = {"password": Variable(environment=variable, default=None, secret=True)}
    return find_values(wanted, environment(), folder, "database").plain["password"]


def _database_table(job: Job, folder: Path, *, whole: bool) -> Table:
    from yellowtor.tables.database import DatabaseTable
    from yellowtor.tables.place import Named, Place

    records = job.records

    def named(name: str | None) -> Named | None:
        return Named.parse(name) if name else None

    place = Place(
        records.database or "", named(records.table), records.query, tuple(records.keys()), records.only,
        records.first, named(job.write.table), database_password(records.password_from, folder),
    )  # fmt: skip
    held = [records.latitude, records.longitude]
    needed = [*job.address.composing().raw_columns(), *filter(None, [records.name, *held])]
    return DatabaseTable(place, needed, job.write.columns.mapped(), folder, create=job.write.create, whole=whole)


@contextmanager
def _marker_files(job: Job, folder: Path, attribution: str, under: Sequence[Path]) -> Iterator[Sequence[MarkerFile]]:
    with ExitStack() as stack:
        made: list[MarkerFile] = []
        if job.markers.geojson:
            from yellowtor.markers.geojson import geojson_file

            made.append(stack.enter_context(geojson_file(folder / job.markers.geojson, attribution)))
        if job.markers.page:
            from yellowtor.markers.page import page_file

            meanings = {outcome.value: outcome.meaning for outcome in Outcome}
            page = page_file(folder / job.markers.page, job.markers.title, attribution, under, meanings)
            made.append(stack.enter_context(page))
        yield made
