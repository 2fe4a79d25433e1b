"""The sides of a comparison, open: jobs, jobs as they stood before, tables of known positions."""

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.answers.geography.cell_coordinates import read_place
from yellowtor.answers.history import NOWHERE, PastPosition, RecordStanding
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.table import Table
from yellowtor.errors import BadJob, BadSource
from yellowtor.run.compare import Side
from yellowtor.run.jobs.job import Job
from yellowtor.run.parts import stamp_of
from yellowtor.run.phases.decision_rows import coordinates_in
from yellowtor.run.phases.record_decisions import rows_of
from yellowtor.run.phases.row_reader import PARTED, identities
from yellowtor.run.ports import JudgeBook
from yellowtor.settings import read_settings
from yellowtor.wiring.ledgers import job_answers, job_history
from yellowtor.wiring.reviewing import decision_table

if TYPE_CHECKING:
    from yellowtor.ledger.jobs.history import SqlHistoryBook

PAGE = 1_000
ANSWERED = frozenset({"key", "address", "level", "matched", "service"})


@dataclass(frozen=True)
class SideName:
    """What the command line says of a side: a job or a table, and when (empty: now)."""

    path: Path
    when: str = ""

    @classmethod
    def parse(cls, text: str) -> "SideName":
        """JOB.toml, JOB.toml@2026-11-27, JOB.toml@-1, or a table."""
        before, mark, when = text.rpartition("@")
        if mark and before.lower().endswith(".toml"):
            return cls(Path(before), when.strip())
        return cls(Path(text))

    @property
    def is_job(self) -> bool:
        return self.path.suffix.lower() == ".toml"

    def __str__(self) -> str:
        return f"{self.path}@{self.when}" if self.when else str(self.path)


class LedgerSide(ABC):
    """A job in its ledger."""

    is_truth = False

    def __init__(self, name: str, history: "SqlHistoryBook") -> None:
        self.name = name
        self._history = history

    def pages(self) -> Iterator[Sequence[tuple[str, RecordStanding]]]:
        """Every record that is in the source, with its key, in pages."""
        for keys in self._history.all_keys():
            yield list(self.standing(keys).items())

    @abstractmethod
    def standing(self, keys: Sequence[str]) -> Mapping[str, RecordStanding]:
        """The records with these keys that it has."""


class JobSide(LedgerSide):
    """A job as it stands."""

    def __init__(self, name: str, history: "SqlHistoryBook", answers: JudgeBook) -> None:
        super().__init__(name, history)
        self._answers = answers

    def standing(self, keys: Sequence[str]) -> Mapping[str, RecordStanding]:
        return standings(self._answers, keys)


def standings(book: JudgeBook, keys: Sequence[str]) -> dict[str, RecordStanding]:
    """How these records stand now."""
    found = book.answers(keys, ANSWERED)
    return {
        key: RecordStanding(
            one.outcome,
            None if one.lat is None or one.lon is None else Position(one.lat, one.lon),
            one.confidence,
            one.level or "",
            one.address.line(),
            one.matched or "",
            one.service or "",
        )
        for key in keys
        if (one := found.get(key))
    }


class PastSide(LedgerSide):
    """A job as it stood at an instant."""

    def __init__(self, name: str, history: "SqlHistoryBook", instant: str) -> None:
        super().__init__(name, history)
        self._instant = instant
        self._decided = history.run_until(instant)

    def standing(self, keys: Sequence[str]) -> Mapping[str, RecordStanding]:
        past = self._history.past(keys)
        return {key: self._at(past[key]) for key in keys if key in past}

    def _at(self, positions: Sequence[PastPosition]) -> RecordStanding:
        """The one that held at the instant; a person's word before a service's."""
        there = [one for one in positions if _held_at(one, self._decided if one.said else self._instant)]
        if not there:
            return NOWHERE
        one = max(there, key=lambda past: (bool(past.said), past.since))
        return RecordStanding(
            one.outcome, one.position, one.confidence, one.level, one.address, one.matched, one.service
        )


def _held_at(one: PastPosition, instant: str) -> bool:
    return one.since <= instant and (not one.until or one.until > instant)


class TableSide:
    """A table of known positions by key."""

    is_truth = True

    def __init__(self, name: str, positions: Mapping[str, RecordStanding]) -> None:
        self.name = name
        self._positions = positions

    def pages(self) -> Iterator[Sequence[tuple[str, RecordStanding]]]:
        rows = list(self._positions.items())
        for at in range(0, len(rows), PAGE):
            yield rows[at : at + PAGE]

    def standing(self, keys: Sequence[str]) -> Mapping[str, RecordStanding]:
        return {key: self._positions[key] for key in keys if key in self._positions}


def known_positions(table: Table, job: Job) -> tuple[dict[str, RecordStanding], int]:
    """The positions of a table by the key of a job, and how many rows have none that can be read. Raises BadSource."""
    keys = job.records.keys()
    if missing := [key for key in keys if key not in table.header]:
        raise BadSource(f"{table.name} has no column {missing[0]!r}, the key of the job. Nothing was compared.")
    if not keys:
        raise BadSource("A table is compared by the job's key: say records.key. Nothing was compared.")
    columns = job.write.columns
    own = {"latitude": columns.latitude or "latitude", "longitude": columns.longitude or "longitude"}
    found = {}
    unread = 0
    for _, cells in rows_of(table):
        held = {part: cells[column] for part, column in own.items() if column in cells}
        text = coordinates_in({**cells, **held})
        position = read_place(text).position if text else None
        unread += position is None
        if position is not None:
            key = PARTED.join(identities([cells[name] for name in keys]))
            found[key] = RecordStanding(Outcome.PLACED, position, None, "", text)
    if not found:
        raise BadSource(
            f"{table.name} has no positions: no column `coordinates`, and not {own['latitude']!r} with "
            f"{own['longitude']!r}. Nothing was compared."
        )
    return found, unread


@contextmanager
def open_sides(one: SideName, other: SideName) -> Iterator[tuple[Side, Side, Job, list[str]]]:
    """Both sides, the first job of them, and remarks. Raises BadJob if none is a job."""
    first = next((side for side in (one, other) if side.is_job), None)
    if first is None:
        raise BadJob("One of the two must be a job: a table alone says nothing of a service. Nothing was compared.")
    job = read_settings(first.path, Job, "job")
    remarks: list[str] = []
    with ExitStack() as stack:
        sides = [stack.enter_context(_side(name, job, remarks)) for name in (one, other)]
        yield sides[0], sides[1], job, remarks


@contextmanager
def _side(name: SideName, first: Job, remarks: list[str]) -> Iterator[Side]:
    if not name.is_job:
        positions, unread = known_positions(decision_table(name.path), first)
        if unread:
            remarks.append(f"{name.path}: {unread:,} rows have no position that can be read, and are left out")
        yield TableSide(str(name), positions)
        return
    job = read_settings(name.path, Job, "job")
    if job.in_reverse:
        raise BadJob(f'{name.path} says direction = "reverse": its records have their positions. Nothing was compared.')
    with job_history(job, name.path) as history:
        if name.when:
            yield PastSide(str(name), history, instant_of(name, history))
            return
        with job_answers(job, name.path) as answers:
            yield JobSide(str(name), history, answers)


def instant_of(name: SideName, history: "SqlHistoryBook") -> str:
    """The instant that a side stands for (ISO 8601, UTC). A day stands for its end. Raises BadJob."""
    when = name.when
    if when.startswith("-") and when[1:].isascii() and when[1:].isdecimal() and 0 < int(when[1:]) < 1_000_000:
        found = history.before_run(int(when[1:]))
        if found is None:
            raise BadJob(f"{name}: the job had fewer runs. Nothing was compared.")
        return found
    try:
        read = datetime.fromisoformat(when)
    except ValueError as error:
        raise BadJob(
            f"{name}: say when as a day (2026-11-27), an instant (2026-11-27T14:00), or -1 for before the last run. "
            "Nothing was compared."
        ) from error
    if len(when) <= len("2026-11-27"):
        read += timedelta(days=1)
    return stamp_of(read.astimezone(UTC) if read.tzinfo else read.astimezone())
