"""Phase three: open the source again, write each answer by key, and write the marker files.

A record whose address has changed since the question stays unchanged and is counted. Only the columns that the job
names are written.
"""

from collections import deque
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType
from typing import Any

from yellowtor.answers.geography.cell_coordinates import Finding, read_coordinates
from yellowtor.answers.ledger_rows import Written
from yellowtor.answers.record_answers import UNKNOWN, Answer, Answers, PooledAnswers
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.table import (
    ALL_WRITTEN,
    ExpectsRecords,
    HasFormulas,
    InTransactions,
    NewCells,
    PageWritten,
    Repeated,
    Row,
    Table,
    WritesInOrder,
)
from yellowtor.run.jobs.answer_columns import Columns
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.marker_drawing import Drawing, OpenDrawing
from yellowtor.run.phases.marking import FOR_MARKERS
from yellowtor.run.phases.row_reader import RowReader, shown_key
from yellowtor.run.phases.write_result import Change, Changes, WriteResult, as_stored_by
from yellowtor.run.ports import JudgeBook, Watcher

NONE_RETURNED: Mapping[int, Mapping[str, str]] = MappingProxyType({})
SHOWN = 8  # cells that a remark names


class WriteBack:
    """Writes one job's answers. leave is what a cell that is not to be touched is given as.

    repair: coordinates whose meaning is certain are written as plain degrees.
    """

    def __init__(
        self, job: Job, table: Table, book: JudgeBook, watch: Watcher, leave: object, *, repair: bool = False
    ) -> None:
        self._job = job
        self._table = table
        self._book = book
        self._watch = watch
        self._leave = leave
        self._repair = repair
        self._reader = RowReader(job, table)
        self._columns = Columns(job, leave)
        self._coordinates = "latitude" in self._columns.names and not job.in_reverse
        self._position = 0
        self._unchanged = False  # in the scan's order; whether the source is as it was scanned
        self._in_order = False  # the rows are known to come in the scan's order, and their keys need not be read
        self._unsettled: deque[tuple[Sequence[Row], Answers]] = deque()  # pages, of a database
        self._left: set[int] = set()  # records whose coordinates stay: the table made them of the same before
        self._drawing = Drawing(None, (), ())
        self.result = WriteResult()

    @property
    def leave(self) -> object:
        return self._leave

    @property
    def columns(self) -> Sequence[str]:
        """The columns of the answers, in the order of expected()."""
        return list(self._job.write.columns.mapped().values())

    @property
    def address_columns(self) -> Collection[str]:
        return self._reader.composing.raw_columns()

    def keys(self, batch: Sequence[Row]) -> list[str]:
        return self._reader.keys(batch)

    def shown(self, key: str) -> str:
        return shown_key(key)

    def reader_of(self, table: Table) -> RowReader:
        return RowReader(self._job, table)

    def expected(self, batch: Sequence[Row]) -> tuple[list[Sequence[Any]], list[str]]:
        """What the ledger would write now for the next rows of the source, column by column.

        And the fingerprints of the addresses that were asked about; empty for a record that the ledger does not know.
        """
        keys = self.keys(batch)
        known = self._book.answers(keys, {"raw_hash"})
        return self._batch(batch)[0], [known.get(key, UNKNOWN).raw_hash for key in keys]

    def write(self, to: Path | None, markers: OpenDrawing, *, scanned: str, records: int) -> WriteResult:
        """Write the target and the marker files, each in one step.

        scanned is the source's fingerprint at the scan, records its number of records. If it still holds, the rows are
        those of the scan (as for a database always) and need not be compared.
        """
        if self._table.refresh():
            self._table.check_target(to)
            self._reader = RowReader(self._job, self._table)
        same = bool(scanned) and self._table.fingerprint() == scanned
        self._position = 0
        self._unchanged = same or isinstance(self._table, InTransactions)
        self._in_order = same and isinstance(self._table, WritesInOrder)
        if same and isinstance(self._table, ExpectsRecords):
            self._table.expect(records)
        columns = list(self._job.write.columns.mapped().values())
        with markers() as self._drawing:
            self._table.rewrite(to, columns, self._answering, self._kept)
        if isinstance(self._table, HasFormulas) and (left := self._table.left):
            more = f" and {len(left) - SHOWN:,} more" if len(left) > SHOWN else ""
            self._watch.remark(
                f"cells left as they are, for they hold what is not ours: {', '.join(left[:SHOWN])}{more}"
            )
        return self.result

    def _answering(self, batch: Sequence[Row]) -> list[Sequence[Any]]:
        cells, answers = self._batch(batch)
        if isinstance(self._table, InTransactions):
            self._unsettled.append((batch, answers))
        else:
            self._settle(batch, answers)
        return cells

    def _kept(self, page: PageWritten = ALL_WRITTEN) -> None:
        """Called after rows are written: all of them, or the oldest page without the unchanged rows."""
        if self._unsettled:
            batch, answers = self._unsettled.popleft()
            self.result.edited += len(page.left)
            self.result.changed += page.changed
            self.result.written -= len(page.left) + len(page.refused)
            self._refused(batch, page.refused)
            self._settle(batch, answers.without({*page.left, *page.refused}), page.returned)
        self._book.keep_written(in_place=self._job.held_is_target())

    def _refused(self, batch: Sequence[Row], refused: Mapping[int, str]) -> None:
        keys = self._reader.keys(batch) if refused else []
        for place, why in refused.items():
            self.result.refused += 1
            if self.result.refused <= SHOWN:
                self.result.first_refused.append((shown_key(keys[place]), why))

    def _settle(
        self, batch: Sequence[Row], answers: Answers, returned: Mapping[int, Mapping[str, str]] = NONE_RETURNED
    ) -> None:
        """Draw what was written, and have the ledger remember the coordinates that are new in the target."""
        if not self._drawing.is_empty:
            self._drawing.draw(batch, answers)
        if self._coordinates:
            self._note(batch, answers, returned)

    def changes(self, shown: int) -> Changes:
        """What write() would change now, in the order of the records; nothing is written.

        Of records that wait for an answer, nothing is said: the run would ask.
        """
        found = Changes()
        at = {name: i for i, name in enumerate(self._table.header)}
        columns = [(name, at.get(name)) for name in self._job.write.columns.mapped().values()]
        for batch in self._table.batches():
            keys = self._reader.keys(batch)
            (new, answers) = self._batch(batch)
            if self._coordinates and (as_stored := as_stored_by(self._table)):
                pairs = zip(new[0], new[1], strict=True)
                held = [as_stored(*pair) if isinstance(pair[0], float) else pair for pair in pairs]
                new = [*zip(*held, strict=True), *new[2:]]
            for key, row, answer, *cells in zip(keys, batch, answers, *new, strict=True):
                if answer.outcome is Outcome.WAITING:
                    continue
                changed = [
                    Change(shown_key(key), column, old, self._as_text(cell))
                    for (column, place), cell in zip(columns, cells, strict=True)
                    if cell is not self._leave
                    and not self.is_same(old := row[place] if place is not None else "", cell)
                ]
                found.records += bool(changed)
                found.cells += len(changed)
                found.first += changed[: shown - len(found.first)]
        return found

    def _as_text(self, cell: Any) -> str:
        text = "" if cell is None else str(cell)
        return text.replace(".", self._table.decimal) if isinstance(cell, float) else text

    def is_same(self, old: str, new: Any) -> bool:
        """Whether a cell of the table says what would be written."""
        if not isinstance(new, float):
            return old == (new or "")
        try:
            return float(old.replace(self._table.decimal, ".")) == new
        except ValueError:
            return False

    def _batch(self, batch: Sequence[Row]) -> tuple[list[Sequence[Any]], Answers]:
        """The new cells of each of the job's columns for this batch, and the answers that they were made from."""
        wanted = self._columns.wanted if self._drawing.is_empty else self._columns.wanted | FOR_MARKERS
        answers, edited = self._answers(batch, wanted)
        columns: list[Any] = list(
            self._columns.make_repeated(answers) if isinstance(answers, PooledAnswers) else self._columns.make(answers)
        )
        self.result.stale = self._columns.stale
        if self._coordinates and not self._job.write.table:
            columns[:2] = self._leave_or_repair(batch, columns[0], columns[1])
            columns[:2] = self._leave_as_sent(batch, answers, columns[0], columns[1])
        if edited:
            columns = [list(column) for column in columns]
        for at in edited:
            for column in columns:
                column[at] = self._leave
        self.result.edited += len(edited)
        self.result.written += len(batch) - len(edited)
        self._watch.advanced(len(batch))
        return list(columns), answers

    def _leave_or_repair(self, batch: Sequence[Row], lat: NewCells, lon: NewCells) -> tuple[NewCells, NewCells]:
        """Cells that would be emptied, or are left, hold something: leave what isn't ours, repair what is certain."""
        if not self._reader.has_coordinates(batch):
            return lat, lon
        places = self._places_of(lat, (None, self._leave))
        changed: dict[int, tuple[Any, Any]] = {}
        for at, held in zip(places, self._reader.held_in(batch, places), strict=True):
            if held.finding in {None, Finding.OUTSIDE}:
                continue
            changed[at] = (self._leave, self._leave)
            if self._repair and held.position:
                changed[at] = (held.position.lat, held.position.lon)
                self.result.repaired += 1
        return _with(changed, lat, lon)

    @staticmethod
    def _places_of(cells: NewCells, wanted: tuple[Any, ...]) -> list[int]:
        """The indexes of the cells that are one of these."""
        if isinstance(cells, Repeated):
            there = {n for n, cell in enumerate(cells.values) if cell in wanted}
            return [at for at, n in enumerate(cells.which) if n in there] if there else []
        return [at for at, cell in enumerate(cells) if cell in wanted]

    def _leave_as_sent(
        self, batch: Sequence[Row], answers: Answers, lat: NewCells, lon: NewCells
    ) -> tuple[NewCells, NewCells]:
        """Leave cells that contain the table's rounding of the same coordinates."""
        if not any(answers.column("sent")):
            return lat, lon
        places = [at for at, answer in enumerate(answers) if self._left_as_sent(answer)]
        before = answers.column("written")
        ids = answers.column("id")
        changed: dict[int, tuple[Any, Any]] = {}
        for at, held in zip(places, self._reader.held_in(batch, places), strict=True):
            if held.position and held.position.rounded() == before[at]:
                changed[at] = (self._leave, self._leave)
                self._left.add(ids[at])
        return _with(changed, lat, lon)

    def _answers(self, batch: Sequence[Row], wanted: frozenset[str]) -> tuple[Answers, Collection[int]]:
        """How each row's record stands, and the places of rows whose address is not the one that was asked about."""
        compared: set[str] = set() if self._in_order else {"key"} if self._unchanged else {"key", "raw_hash"}
        found = self._book.answers_in_order(self._position, len(batch), wanted | compared)
        self._position += len(batch)
        if self._in_order and len(found) == len(batch):
            return found, ()
        keys = self._reader.keys(batch)
        if list(found.column("key")) != keys:
            known = self._book.answers(keys, wanted | {"raw_hash"})
            found = Answers.of([known.get(key, UNKNOWN) for key in keys])
        elif self._unchanged:
            return found, ()
        asked = found.column("raw_hash")
        now = self._reader.raw_hashes(batch)
        edited = {at for at, (one, other) in enumerate(zip(asked, now, strict=True)) if one != other}
        return found.without(edited), edited

    def _note(self, batch: Sequence[Row], answers: Answers, returned: Mapping[int, Mapping[str, str]]) -> None:
        """Have the ledger remember the coordinates that are new in the target, as that gives them back."""
        here = self._job.held_is_target()
        as_stored = as_stored_by(self._table)
        if isinstance(answers, PooledAnswers) and not as_stored and not returned:
            ids, there = map(answers.column, ("id", "written"))
            found = zip(ids, there, self._columns.sent(answers), strict=True)
            self._book.note_written([Written(n, new) for n, was, new in found if new is not None and was != new])
            return
        was_held, before = map(answers.column, ("held", "written"))
        moved = here and any(held is not None for held in was_held)
        if not moved and not as_stored and not returned and list(before) == answers.points():
            return
        new = []
        for at, answer in enumerate(answers):
            lat = answer.lat
            lon = answer.lon
            if answer.outcome in self._columns.sure and lat is not None and lon is not None:
                back = returned.get(at)
                sent = Position(lat, lon).rounded()
                stored = Position(*as_stored(lat, lon)).rounded() if as_stored else sent
                position = self._given_back(back) or stored
                raw_hash = self._reader.raw_hash_with(batch[at], back) if back else None
                raw_hash = None if raw_hash == answer.raw_hash else raw_hash
                previous = sent if sent != position else None
                stale = position != answer.written or previous != answer.sent
                if answer.id in self._left and not raw_hash:
                    continue
                if stale or raw_hash or (here and answer.held is not None):
                    new.append(Written(answer.id, position, previous, raw_hash))
        self._book.note_written(new)

    def _given_back(self, texts: Mapping[str, str] | None) -> Position | None:
        """The position that a table returns for a row; None if it returns none."""
        columns = self._job.write.columns
        lat, lon = ((texts or {}).get(name or "", "") for name in (columns.latitude, columns.longitude))
        held = read_coordinates(lat, lon, self._table.decimal)
        return held.position.rounded() if held.position else None

    def _left_as_sent(self, answer: Answer) -> bool:
        """Whether the table got these coordinates before, and returned what it has now."""
        if answer.sent is None or answer.lat is None or answer.lon is None:
            return False
        return answer.held is None and answer.sent == Position(answer.lat, answer.lon).rounded()


def _with(changed: Mapping[int, tuple[Any, Any]], lat: NewCells, lon: NewCells) -> tuple[NewCells, NewCells]:
    """The cells of two columns, some of them changed."""
    if not changed:
        return lat, lon
    one, other = list(lat), list(lon)
    for at, (north, east) in changed.items():
        one[at], other[at] = north, east
    return one, other
