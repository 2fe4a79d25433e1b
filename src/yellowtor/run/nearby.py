"""The verb `nearby`: which records are near a place, from what the ledger knows. Nothing is sent, nothing written."""

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.geography.nearest import NearestPoints
from yellowtor.answers.record_answers import UNKNOWN
from yellowtor.contracts.position import Position, distance_m
from yellowtor.contracts.subject import AskedPosition
from yellowtor.contracts.table import Table
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.row_reader import RowReader, shown_key
from yellowtor.run.ports import JudgeBook, Watcher

WANTED = frozenset({"key", "raw_hash", "address", "level", "outcome", "confidence"})
APART_M = 1.0  # positions that are nearer are one
LIKE_A_HOUSE = re.compile(r"\d")


@dataclass(frozen=True, slots=True)
class PlacedRecord:
    """A record with a position: its key, name, address in one line, outcome."""

    key: str
    name: str
    address: str
    outcome: str
    position: Position
    question: str  # equal for equal addresses


@dataclass(frozen=True, slots=True)
class Neighbour:
    """A record and its distance in metres."""

    record: PlacedRecord
    metres: float


@dataclass(frozen=True, slots=True)
class Suspicion:
    """Records that do not fit together, and why. The distance between the farthest of them in metres."""

    why: str
    records: Sequence[PlacedRecord]
    metres: float


ONE_POSITION = "different addresses at one position"
ONE_ADDRESS = "one address at several positions"


def placed_records(job: Job, table: Table, book: JudgeBook, watch: Watcher) -> list[PlacedRecord]:
    """The records of a job that have a position, in the table's order; those edited since the last run have none."""
    reader = RowReader(job, table)
    found = []
    watch.phase("Reading")
    for batch in table.batches():
        keys = reader.keys(batch)
        known = book.answers(keys, WANTED)
        for row, key, raw_hash in zip(batch, keys, reader.raw_hashes(batch), strict=True):
            answer = known.get(key, UNKNOWN)
            if not answer.id or answer.raw_hash != raw_hash:
                continue
            asked = answer.address
            if isinstance(asked, AskedPosition):
                position = asked.position if asked.lat else None
            else:
                position = None if answer.lat is None or answer.lon is None else Position(answer.lat, answer.lon)
            if position is not None:
                said = PlacedRecord(
                    shown_key(key), reader.name(row), asked.line(), str(answer.outcome), position, subject_key(asked)
                )
                found.append(said)
        watch.advanced(len(batch))
    return found


def neighbours(
    records: Sequence[PlacedRecord], here: Position, count: int, within_m: float | None, *, but: str | None = None
) -> list[Neighbour]:
    """The records nearest to a position; but is the key of the record that is there itself."""
    index = NearestPoints([record.position for record in records])
    own = next((n for n, record in enumerate(records) if record.key == but), None)
    return [Neighbour(records[one.at], one.metres) for one in index.near(here, count, within_m, but=own)]


def neighbour_of_each(
    records: Sequence[PlacedRecord], sites: Sequence[PlacedRecord] | None
) -> Iterator[tuple[PlacedRecord, Neighbour | None]]:
    """Each record with the nearest other one; or with the nearest of sites, the records of another job."""
    among = records if sites is None else sites
    index = NearestPoints([record.position for record in among])
    for n, record in enumerate(records):
        found = index.near(record.position, 1, but=n if sites is None else None)
        yield record, Neighbour(among[found[0].at], found[0].metres) if found else None


def suspicions(records: Sequence[PlacedRecord]) -> list[Suspicion]:
    """Different addresses at one position, and one address at several; the largest groups first.

    An address without a house number says nothing: many of a street have the street's point.
    """
    at: dict[tuple[float, float], dict[str, PlacedRecord]] = defaultdict(dict)
    of: dict[str, list[PlacedRecord]] = defaultdict(list)
    for record in records:
        if LIKE_A_HOUSE.search(record.address):
            at[record.position.rounded()].setdefault(record.question, record)
        of[record.question].append(record)
    found = [Suspicion(ONE_POSITION, list(group.values()), 0.0) for group in at.values() if len(group) > 1]
    for group in of.values():
        apart = max((distance_m(group[0].position, other.position) for other in group[1:]), default=0.0)
        if apart >= APART_M and group[0].question.strip("\x1f"):
            found.append(Suspicion(ONE_ADDRESS, group, apart))
    return sorted(found, key=lambda one: (one.why, -len(one.records), -one.metres, one.records[0].key))
