"""Decisions in a table with the records' keys: other coordinates become pins, other addresses corrections.

The same table twice changes nothing. A row that can't be understood is named, and the others are taken.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple, TypeVar

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.decisions import Pin
from yellowtor.answers.record_answers import Answer
from yellowtor.contracts.address import PARTS, Address
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.review_file import NEW
from yellowtor.contracts.subject import Composer, Subject
from yellowtor.contracts.table import Table
from yellowtor.errors import BadSource
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.decision_rows import What, coordinates_in, read_decision
from yellowtor.run.phases.row_reader import PARTED, identities, shown_key
from yellowtor.run.ports import DecisionBook, Watcher

T = TypeVar("T")
PAGE = 1_000
DASHES = frozenset("-–—")
SAME = "the new address is the same question as the old one"
PLACE_CELLS = ("coordinates", "latitude", "longitude", "why")


class RowFault(NamedTuple):
    """A row that could not be taken: its number in the table (from 1, below the header), its key, and why."""

    row: int
    key: str
    why: str


@dataclass
class Applied:
    """Counts of the decisions in a table: by what they are, and those that were known already; the faults.

    keys are the records whose rows had a decision.
    """

    counts: dict[What, int] = field(default_factory=dict)
    known: int = 0
    rows: int = 0
    faults: list[RowFault] = field(default_factory=list)
    keys: set[str] = field(default_factory=set)

    def add(self, what: What, *, is_new: bool) -> None:
        if is_new:
            self.counts[what] = self.counts.get(what, 0) + 1
        else:
            self.known += 1

    @property
    def new(self) -> int:
        return sum(self.counts.values())


class RecordDecisions:
    """Takes what a person has written about single records of a job. why is the reason of rows without one."""

    def __init__(self, job: Job, book: DecisionBook, who: str, why: str) -> None:
        self._job = job
        self._book = book
        self._who = who
        self._why = why

    def take(self, table: Table, applied: Applied, watch: Watcher) -> None:
        """Take every row of a table. Raises BadSource if it has no keys, or nothing beside them."""
        keys, own, composing = self._columns(table)
        for page in batched(rows_of(table), PAGE):
            watch.advanced(len(page))
            rows = [(number, _key(cells, keys), cells) for number, cells in page if any(cells.values())]
            applied.rows += len(rows)
            known = self._book.answers([key for _, key, _ in rows])
            with self._book.together():
                for number, key, cells in rows:
                    held = {part: cells[column] for part, column in own.items() if column in cells}
                    try:
                        self._record(key, {**cells, **held}, known.get(key), composing, applied)
                    except ValueError as error:
                        applied.faults.append(RowFault(number, shown_key(key), str(error)))

    def _columns(self, table: Table) -> tuple[list[str], dict[str, str], Composer | None]:
        """The columns of the key, those of the coordinates, and how an address is composed, if at all."""
        job = self._job
        keys = job.records.keys()
        if not keys or any(key not in table.header for key in keys):
            raise BadSource(
                f"{table.name} has no decisions: neither the columns 'id' and 'decision' of `yellowtor review`, nor "
                f"the job's key ({', '.join(keys) or 'which the job must name'}). Nothing was changed."
            )
        columns = job.write.columns
        own = {"latitude": columns.latitude or "latitude", "longitude": columns.longitude or "longitude"}
        composing = job.composing(table.decimal)
        composes = all(name in table.header for name in composing.raw_columns())
        names = {name.strip().casefold() for name in table.header}
        others = {"coordinates", "latitude", *(f"{NEW}{part}" for part in PARTS)}
        if not composes and not names & others and own["latitude"] not in table.header:
            raise BadSource(
                f"{table.name} has no decisions beside its keys: no column `coordinates`, {own['latitude']!r}, "
                "`new street` or another part, and not the columns of the address. Nothing was changed."
            )
        return keys, own, composing if composes else None

    def _record(
        self, key: str, cells: Mapping[str, str], stands: Answer | None, composing: Composer | None, applied: Applied
    ) -> None:
        """Take what a row says of the record with this key: other coordinates, another address, or both."""
        if stands is None:
            raise ValueError("the ledger knows no record with this key: run the job first")
        corrected = self._corrected(cells, stands.address, composing)
        if corrected is not None:
            if stands.outcome is Outcome.INCOMPLETE:
                raise ValueError("it is incomplete: complete its address in the source")
            why = " ".join(cells.get("why", "").split()) or self._why
            is_new = correct(self._book, subject_key(stands.address), stands.address, corrected, self._who, why)
            applied.add(What.ADDRESS, is_new=is_new)
            applied.keys.add(key)
        if coordinates_in(cells):
            place = read_decision({name: cells.get(name, "") for name in PLACE_CELLS} | {"decision": What.PLACE})
            assert place is not None, "it has coordinates"
            assert place.position is not None, "they were read"
            if not _is_ours(place.position, stands):
                made = Pin(*place.position, self._who, place.why or self._why, self._book.now)
                applied.add(What.PLACE, is_new=self._book.put_on_record(key, made))
                applied.keys.add(key)

    def _corrected(self, cells: Mapping[str, str], asked: Subject, composing: Composer | None) -> Subject | None:
        """The new address of a row; None if it has none."""
        parts = {part: text for part in PARTS if (text := " ".join(cells.get(f"{NEW}{part}", "").split()))}
        if parts:
            return with_parts(asked, parts)
        if composing is None:
            return None
        composed = composing.compose(cells)
        key = subject_key(composed)
        if key == subject_key(asked) or composing.why_not(cells, composed):
            return None
        before = self._book.corrections([key])
        return None if before and subject_key(before[0].corrected) == subject_key(asked) else composed


def correct(book: DecisionBook, address_key: str, asked: Subject, corrected: Subject, who: str, why: str) -> bool:
    """Have an address asked as another one; whether that is news. Raises ValueError if it is the same question."""
    if subject_key(corrected) == subject_key(asked):
        raise ValueError(SAME)
    return book.correct(address_key, corrected, who, why)


def with_parts(asked: Subject, parts: Mapping[str, str]) -> Address:
    """The address with these parts in place of its own; a dash removes one."""
    new = {part: "" if text in DASHES else text for part, text in parts.items()}
    return Address(**{**asked.as_dict(), **new})


def _is_ours(position: Position, stands: Answer) -> bool:
    """Whether a record has this position already: written, answered, or its own."""
    answered = None if stands.lat is None or stands.lon is None else Position(stands.lat, stands.lon).rounded()
    return position in {stands.written, stands.held, stands.sent, answered}


def _key(cells: Mapping[str, str], columns: Sequence[str]) -> str:
    return PARTED.join(identities([cells[name] for name in columns]))


def batched(rows: Iterable[T], size: int) -> Iterator[list[T]]:
    """The rows in lists of this length; the last one may be shorter."""
    source = iter(rows)
    while page := list(islice(source, size)):
        yield page


def rows_of(table: Table) -> Iterator[tuple[int, dict[str, str]]]:
    """Each row by its number, its cells by the names of columns, in small letters too."""
    number = 0
    for batch in table.batches():
        for row in batch:
            number += 1
            cells = dict(zip(table.header, row, strict=True))
            yield number, {name.strip().casefold(): cell for name, cell in cells.items()} | cells
