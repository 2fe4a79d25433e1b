"""The addresses of jobs for `pairs`: each distinct one once, with the keys of its records."""

from dataclasses import dataclass, field
from pathlib import Path

from yellowtor.addresses.keys import subject_key
from yellowtor.contracts.address import Address
from yellowtor.errors import BadJob
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.row_reader import RowReader, shown_key
from yellowtor.run.ports import Watcher
from yellowtor.settings import read_settings
from yellowtor.wiring.tables import open_table


@dataclass
class JobAddresses:
    """Distinct addresses of a job, and the keys of the records that have each."""

    addresses: list[Address] = field(default_factory=list)
    keys: list[list[str]] = field(default_factory=list)


def addresses_of(path: Path, watch: Watcher) -> JobAddresses:
    """The addresses of a job's records that are not incomplete. Raises BadJob, BadSource."""
    job = read_settings(path, Job, "job")
    if job.in_reverse:
        raise BadJob(f'{path} says direction = "reverse": its records have positions, and pairs compares addresses.')
    table, _, _ = open_table(job, path.absolute().parent)
    reader = RowReader(job, table)
    found = JobAddresses()
    places: dict[str, int] = {}
    watch.phase(f"Reading {path.name}")
    for batch in table.batches():
        for row, key in zip(batch, reader.keys(batch), strict=True):
            cells = reader.cells(row)
            address = reader.composing.compose(cells)
            if not isinstance(address, Address) or reader.composing.why_not(cells, address):
                continue
            place = places.setdefault(subject_key(address), len(found.addresses))
            if place == len(found.addresses):
                found.addresses.append(address)
                found.keys.append([])
            found.keys[place].append(shown_key(key))
        watch.advanced(len(batch))
    return found
