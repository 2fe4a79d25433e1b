"""Which table a job's records are in, by its ending or its URL; and where the answers go."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.contracts.table import Table
from yellowtor.errors import BadJob, BadSource
from yellowtor.files import dated, real_path
from yellowtor.run.clock import SystemClock
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.record_settings import STANDARD, Records
from yellowtor.services.variables import Variable, environment, find_values
from yellowtor.tables.file_table import FileTable
from yellowtor.tables.text.delimited import DelimitedTable
from yellowtor.tables.text.dialect import StatedDialect
from yellowtor.tables.workbook.read_ahead import WORKBOOKS

if TYPE_CHECKING:
    import pandas as pd

    from yellowtor.tables.data_frame import FrameTable

CLOCK = SystemClock()
TEXT = (".csv", ".tsv", ".tab", ".txt")
LINES = (".jsonl", ".ndjson")
OTHERS = (".parquet", ".pq", ".geojson", ".json")


def open_table(job: Job, folder: Path) -> tuple[Table, Path | None, Path | None]:
    """The job's table, its file if it is one, and the file that the answers go into if it is another."""
    if job.records.file is None:
        return _database_table(job, folder), None, None
    source = folder / job.records.file
    to = None if job.write.in_place or job.write.to is None else folder / job.write.to
    if to and real_path(to) == real_path(source) and job.records.file != STANDARD:
        raise BadJob(f"write.to = {str(job.write.to)!r} is the source itself. Say in_place = true if that is meant.")
    backup = free_name(source) if job.write.in_place and job.write.backup else None
    answers = {column: part for part, column in job.write.columns.mapped().items()}
    return chosen(file_table(source, job.records, backup, answers), job.records), source, to


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
    path: Path, records: Records, backup: Path | None = None, answers: dict[str, str] | None = None
) -> FileTable:
    """The table in this file, by its name's ending. answers are the columns that get them, each with its part."""
    told = StatedDialect(**dict(records.text))
    if records.file == STANDARD:
        return _standard_input(told)
    packed = path.suffix.lower() == ".gz"
    kind = path.with_suffix("").suffix.lower() if packed else path.suffix.lower()
    if kind in TEXT:
        return DelimitedTable(path, told, backup)
    if kind in LINES:
        from yellowtor.tables.json_files.json_records import JsonLinesTable

        return JsonLinesTable(path, backup)
    if kind in WORKBOOKS and not packed:
        from yellowtor.tables.workbook.workbook import WorkbookTable

        return WorkbookTable(
            path, records.sheet, backup, block=records.block, table=records.table, answers=answers or {}
        )
    if kind in {".parquet", ".pq"} and not packed:
        from yellowtor.tables.parquet import ParquetTable

        return ParquetTable(path, backup, answers or {})
    if kind in {".geojson", ".json"} and not packed:
        from yellowtor.tables.json_files.json_records import GeoJsonTable, json_table

        return json_table(path, backup) if kind == ".json" else GeoJsonTable(path, backup)
    known = ", ".join([*WORKBOOKS, *OTHERS, *TEXT, *LINES])
    raise BadJob(
        f"records.file = {path.name!r}: a table is a file {known} (text and JSON lines also .gz). Nothing was sent."
    )


def _standard_input(told: StatedDialect) -> FileTable:
    from yellowtor.tables.text.standard_input import StandardInput

    if sys.stdin.isatty():
        raise BadSource(
            'records.file = "-" is standard input, and it is a terminal: pipe records in. Nothing was sent.'
        )
    return StandardInput(sys.stdin.buffer, told)


def database_password(variable: str | None, folder: Path, what: str = "database") -> str | None:
    """The password of a database, from the environment or a `.env`."""
    if variable is None:
        return None
    wanted = {"password": Variable(environment=variable, default=None, secret=True)}
    return find_values(wanted, environment(), folder, what).plain["password"]


def _database_table(job: Job, folder: Path) -> Table:
    from yellowtor.tables.database.database import DatabaseTable
    from yellowtor.tables.database.database_source import Named, Place

    records = job.records

    def named(name: str | None) -> Named | None:
        return Named.parse(name) if name else None

    place = Place(
        records.database or "",
        named(records.table),
        records.query,
        tuple(records.keys()),
        records.only,
        records.first,
        named(job.write.table),
        database_password(records.password_from, folder),
    )
    held = [records.latitude, records.longitude]
    needed = [*job.composing().raw_columns(), *filter(None, [records.name, *held])]
    return DatabaseTable(place, needed, job.write.columns.mapped(), folder, create=job.write.create)
