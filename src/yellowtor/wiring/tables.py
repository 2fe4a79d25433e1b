"""The table of a job's records, chosen by its file ending or URL; and where the answers go."""

from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.contracts.ambient import Ambient
from yellowtor.contracts.secret import Secret
from yellowtor.contracts.table import Table
from yellowtor.database_url import DatabaseUrl
from yellowtor.errors import BadJob, BadSource
from yellowtor.files import dated, real_path
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.record_settings import STANDARD, Records
from yellowtor.services.variables import Variable, find_values
from yellowtor.tables.file_table import FileOptions, FileTable
from yellowtor.tables.folder import ALL, Folder, FolderTable, LocalFolder, is_folder, parted
from yellowtor.tables.registry import ENDINGS, open_file
from yellowtor.tables.remote_folder import RemoteFolder, url_of
from yellowtor.tables.stated_dialect import StatedDialect
from yellowtor.wiring.process import CLOCK, PROCESS

if TYPE_CHECKING:
    import pandas as pd

    from yellowtor.tables.data_frame import FrameTable


def open_table(job: Job, folder: Path, ambient: Ambient = PROCESS) -> tuple[Table, Path | None, Path | None]:
    """The job's table, its file if it is one, and the file that the answers go into if it is another."""
    if job.records.file is None:
        return _database_table(job, folder, ambient), None, None
    source = folder / job.records.file
    if url_of(job.records.file) or is_folder(source):
        return _folder_table(job, folder), source, None
    to = None if job.write.in_place or job.write.to is None else folder / job.write.to
    if to and real_path(to) == real_path(source) and job.records.file != STANDARD:
        raise BadJob(f"write.to = {str(job.write.to)!r} is the source itself. Set in_place = true to change it.")
    backup = free_name(source) if job.write.in_place and job.write.backup else None
    answers = {column: part for part, column in job.write.columns.mapped().items()}
    return chosen(file_table(source, job.records, backup, answers, ambient), job.records), source, to


def _folder_table(job: Job, folder: Path) -> FolderTable:
    """The files of a folder, or of a pattern. Raises BadJob."""
    assert job.records.file is not None, "it is a folder"
    if job.write.to is None or job.write.to == STANDARD:
        raise BadJob(
            f"records.file = {job.records.file.name!r} is a folder or a pattern: write.to names the folder for the "
            "answers. Nothing was sent."
        )
    if job.records.only or job.records.first or job.write.corrections:
        raise BadJob(
            "records.only, records.first and write.corrections are for a single file, and records.file is a folder. "
            "Nothing was sent."
        )
    answers = {column: part for part, column in job.write.columns.mapped().items()}
    source, pattern = folder_of(job.records.file, folder, searched=True)
    to, _ = folder_of(job.write.to, folder, searched=False)
    return FolderTable(source, pattern, to, answers)


def folder_of(path: Path, folder: Path, *, searched: bool) -> tuple[Folder, str]:
    """A folder that a job names, and the pattern of its files if it is searched."""
    url = url_of(path)
    if url is None:
        where, pattern = parted(folder / path) if searched else (str(folder / path), ALL)
        return LocalFolder(Path(where)), pattern
    where, pattern = parted(path) if searched else (str(path), ALL)
    if (there := url_of(Path(where))) is None:
        raise BadJob(f"{url}: the name of a store or a host can't be a pattern. Nothing was sent.")
    return RemoteFolder(there), pattern


def chosen(table: "FileTable | FrameTable", records: Records) -> Table:
    """The table, or those of its records that the job chooses."""
    if records.only or records.first:
        from yellowtor.tables.sql_selection import ChosenTable

        return ChosenTable(table, records.only, records.first)
    return table


def framed(frame: "pd.DataFrame", records: Records) -> "tuple[Table, FrameTable]":
    """The table of a frame, as the job chooses its records; and the one that will have the answers."""
    from yellowtor.tables.data_frame import FrameTable

    table = FrameTable(frame)
    return chosen(table, records), table


def free_name(path: Path) -> Path:
    """A name beside path that is free, with today's date in it."""
    return dated(path, CLOCK.now().astimezone())


def copy_table(path: Path, job: Job) -> Table:
    """The copy with the answers that a run has written, as a table like its source."""
    records = job.records.model_copy(update={"file": path})
    return chosen(file_table(path, records), records)


def file_table(
    path: Path,
    records: Records,
    backup: Path | None = None,
    answers: dict[str, str] | None = None,
    ambient: Ambient = PROCESS,
) -> FileTable:
    """The table in this file, chosen by its ending. answers are the columns that get the parts of an answer."""
    stated = StatedDialect(**dict(records.text))
    if records.file == STANDARD:
        return _standard_input(stated, ambient)
    options = FileOptions(backup, answers or {}, stated, records.sheet, records.block, records.table)
    if table := open_file(path, options):
        return table
    if not path.exists():
        raise BadSource(f"There is no file or folder {path}. Nothing was sent.")
    raise BadJob(
        f"records.file = {path.name!r}: a table is a file {', '.join(ENDINGS)} (text and JSON lines also .gz). "
        "Nothing was sent."
    )


def _standard_input(stated: StatedDialect, ambient: Ambient) -> FileTable:
    from yellowtor.tables.text.standard_input import StandardInput

    if ambient.input is None:
        raise BadSource(
            'records.file = "-" is standard input, and it is a terminal: pipe records in. Nothing was sent.'
        )
    return StandardInput(ambient.input, stated)


def database_password(
    variable: str | None, folder: Path, what: str = "database", ambient: Ambient = PROCESS
) -> Secret | None:
    """The password of a database, from the environment or a `.env`."""
    if variable is None:
        return None
    wanted = {"password": Variable(environment=variable, default=None, secret=True)}
    return Secret(find_values(wanted, ambient, folder, what).plain["password"])


def _database_table(job: Job, folder: Path, ambient: Ambient) -> Table:
    from yellowtor.tables.database.database import DatabaseTable
    from yellowtor.tables.database.database_source import DatabaseLocation, Named

    records = job.records

    def named(name: str | None) -> Named | None:
        return Named.parse(name) if name else None

    place = DatabaseLocation(
        DatabaseUrl(records.database or "", database_password(records.password_from, folder, ambient=ambient)),
        named(records.table),
        records.query,
        tuple(records.keys()),
        records.only,
        records.first,
        named(job.write.table),
    )
    held = [records.latitude, records.longitude]
    needed = [*job.composing().raw_columns(), *filter(None, [records.name, *held])]
    return DatabaseTable(place, needed, job.write.columns.mapped(), folder, create=job.write.create)
