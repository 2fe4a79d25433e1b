"""Every file that a job names, and what for. A file that it reads is never one that it writes."""

from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from yellowtor.database_url import read_url
from yellowtor.errors import BadJob
from yellowtor.files import check_regular, real_path
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.record_settings import STANDARD
from yellowtor.services.reference_settings import ReferenceDescription
from yellowtor.wiring.services import read_description

BESIDE_LEDGER = ("-wal", "-shm", "-journal")  # what SQLite keeps beside a database


class JobFile(NamedTuple):
    """A file, and what the job names it for."""

    what: str
    path: Path


def check_outputs(job: Job, folder: Path, job_file: Path | None, ledger: Path | None) -> None:
    """Raise BadJob if an output is also read or named twice; BadSource if it is not a regular file."""
    written = list(_written(job, folder))
    for at, output in enumerate(written):
        if output.path.suffix:  # a name without one is an error of its own
            check_regular(output.path)
        for other in [*_read(job, folder, job_file, ledger), *written[:at]]:
            if _is_same(output.path, other.path):
                raise BadJob(
                    f"{output.what} and {other.what} are the same file, {other.path}: it would be overwritten. Name "
                    "another one. Nothing was sent, nothing written."
                )


def check_output(path: Path, job: Job, job_file: Path, ledger: Path | None) -> None:
    """Raise BadJob if a file of the command line is one that the job reads or writes; BadSource if no regular file."""
    folder = job_file.absolute().parent
    check_regular(path)
    for other in [*_read(job, folder, job_file, ledger), *_written(job, folder)]:
        if _is_same(path, other.path):
            raise BadJob(f"{path} is {other.what} of the job: it would be overwritten. Nothing was written.")


def _written(job: Job, folder: Path) -> Iterator[JobFile]:
    if job.write.to is not None and job.write.to != STANDARD:
        yield JobFile("write.to", folder / job.write.to)
    for output in job.markers.files():
        yield JobFile(output.setting, folder / output.path)


def _read(job: Job, folder: Path, job_file: Path | None, ledger: Path | None) -> Iterator[JobFile]:
    if job.records.file is not None and job.records.file != STANDARD:
        yield JobFile("records.file", folder / job.records.file)
    if database := _sqlite_file(job.records.database):
        for ending in ("", *BESIDE_LEDGER):
            yield JobFile("records.database", Path(f"{folder / database}{ending}"))
    if job_file is not None:
        yield JobFile("the job file", job_file)
    if ledger is not None:
        for ending in ("", *BESIDE_LEDGER):
            yield JobFile("the ledger", Path(f"{ledger}{ending}"))
    for what, path in _under_markers(job):
        yield JobFile(what, folder / path)
    for environment in dict.fromkeys((Path.cwd(), folder)):
        yield JobFile("the file with variables", environment / ".env")
    for service in job.ask.all():
        yield from _of_service(folder / service)


def _under_markers(job: Job) -> Iterator[tuple[str, Path]]:
    """What marker files are made from."""
    for layer in job.markers.under:
        yield "a layer of markers.under", layer
    for rule in job.markers.looks:
        if rule.icon is not None:
            yield "a picture of markers.looks", rule.icon
    if job.markers.map.texts:
        yield "the texts of markers.map", job.markers.map.texts


def _of_service(path: Path) -> Iterator[JobFile]:
    yield JobFile("a service description", path)
    yield JobFile("the file with variables", path.absolute().parent / ".env")
    description = read_description(path)
    if isinstance(description, ReferenceDescription):
        if description.reference.file is not None:
            yield JobFile("the reference table", path.absolute().parent / description.reference.file)
        return
    for name, variable in description.variables.items():
        if variable.file is not None:
            yield JobFile(f"the file of the variable {name}", path.absolute().parent / variable.file)


def source_file(job: Job, folder: Path) -> Path | None:
    """The file with the records, also that of a database; None if there is none."""
    name = job.records.file or _sqlite_file(job.records.database)
    return folder / name if name and name != STANDARD else None


def _sqlite_file(url: str | None) -> str | None:
    """The file of an SQLite database; None where the records are elsewhere."""
    if url is None or not url.startswith("sqlite"):
        return None
    read = read_url(url)
    return read.database if read else None


def _is_same(one: Path, other: Path) -> bool:
    """Whether two paths lead to one file: through links, other spellings, or another of its names."""
    try:
        return one.samefile(other)
    except OSError:
        return real_path(one) == real_path(other)
