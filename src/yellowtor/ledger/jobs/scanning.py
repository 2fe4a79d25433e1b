"""The questions that a scan asks of the ledger: what is new, what has changed, what is open.

Rows that did not change are settled by one join and never come out of the database.
"""

import json
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, and_, func, insert, or_, select, update
from sqlalchemy.exc import IntegrityError

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.ledger_rows import Known, MetRecords, NewRecords, Work, WorkState
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject
from yellowtor.ledger.jobs.corrections import corrections_of
from yellowtor.ledger.jobs.history import keep_past_addresses
from yellowtor.ledger.jobs.new_records import Forgotten, put_records, put_subjects, to_be_judged
from yellowtor.ledger.jobs.pins import take_up
from yellowtor.ledger.jobs.states import count_states
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import (
    PART,
    answer,
    job,
    last_scan,
    scanned,
    work,
)
from yellowtor.ledger.storage.store import ManyRows, Store, TextsOf
from yellowtor.ledger.storage.stored_text import (
    position_text,
    position_texts,
    read_position,
    reasons_text,
)

MANY = 5_000  # records that are worth to make an index afterwards
IS_ASKED = work.c.state == WorkState.ASK.value
# Of the records from a place on: their places; and of those that are asked about, whose address is as it was and whose
# foreign coordinates are gone, that they are.
GONE = f"""work.held IS NOT NULL AND work.state = '{WorkState.ASK.value}' AND work.raw_hash = s.raw_hash
    AND (s.held IS NULL OR s.held = work.written)"""
TAKE = f"""UPDATE work SET place = s.place,
    held = CASE WHEN {GONE} THEN NULL ELSE work.held END,
    held_hash = CASE WHEN {GONE} THEN s.raw_hash ELSE work.held_hash END
    FROM scanned s WHERE s.place >= ? AND work.job_id = ? AND work.key = {{first}}s.key
    AND (work.place IS DISTINCT FROM s.place OR ({GONE}))"""  # noqa: S608 - our own words; the records' index is used first
# The records of a job in these places of its last scan, as they were.
AS_THEY_WERE = """SELECT key, raw_hash, held, written FROM work
    WHERE job_id = ? AND place > ? AND place <= ? ORDER BY place"""
# Those up to a place are as they were, and need be in `scanned` only now.
CATCH_UP = """INSERT INTO scanned (place, key, raw_hash, held)
    SELECT place, key, raw_hash, held FROM work WHERE job_id = ? AND place > ? AND place <= ? ON CONFLICT DO NOTHING"""
NEW_SCANNED = ManyRows(scanned, ("place", "key", "raw_hash", "held"), again="")
PUT_WORK = """INSERT INTO work (job_id, place, key, raw_hash, held, held_hash, state, reasons, address_id)
    VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
    ON CONFLICT (job_id, key) DO UPDATE SET place = excluded.place, raw_hash = excluded.raw_hash,
    held = excluded.held, held_hash = excluded.held_hash, state = excluded.state, reasons = excluded.reasons,
    address_id = excluded.address_id, pin_id = NULL"""


class SqlScanBook:
    """The scan of a part of one job's records. askings are the ledger's numbers of how services are asked, by name.

    Of a source without parts, part 0 is all. Other processes may scan other parts at the same time.
    """

    def __init__(self, store: Store, job_id: int, askings: Mapping[str, int], part: int = 0) -> None:
        self._store = store
        self._job = job_id
        self._askings = askings
        self._part = part
        self._base = part * PART
        self._locks = [f"scan {job_id} {part}"] if part else []
        self._count = 0
        self._changes: int | None = None
        self._many = False
        self._in_order = True  # so far the keys are those of the last scan, in its order

    def composed_by(self) -> str:
        """The digest of the rules that composed this job's addresses last."""
        query = select(job.c.composed_by).where(job.c.id == self._job)
        return str(self._store.connection.execute(query).scalar_one())

    def put_composed_by(self, digest: str) -> None:
        with self._store.transaction() as connection:
            connection.execute(update(job).where(job.c.id == self._job).values(composed_by=digest))

    def recall(self, source: str) -> bool:
        """Use the last scan if the source is unchanged; else forget it."""
        mine = and_(last_scan.c.job_id == self._job, last_scan.c.part == self._part)
        self._count = 0
        self._in_order = True
        with self._store.transaction(self._locks) as connection:
            connection.execute(scanned.delete())  # of a scan that was begun and given up
            if connection.execute(select(last_scan.c.source).where(mine)).scalar() != source:
                connection.execute(last_scan.delete().where(mine))
                return False
            self._count = connection.execute(select(func.count()).where(self._mine())).scalar_one()
        return True

    def keep(self, source: str) -> None:
        """Store this scan for the next run over the same source."""
        with self._store.transaction(self._locks) as connection:
            connection.execute(insert(last_scan).values(job_id=self._job, part=self._part, source=source))

    def _mine(self) -> ColumnElement[bool]:
        """The records of this part, at the last scan."""
        places = (work.c.place > self._base, work.c.place < self._base + PART)
        return and_(work.c.job_id == self._job, *places)

    @property
    def _last(self) -> int:
        """The place of the last record that was noted."""
        return self._base + self._count

    def note(self, scanned: MetRecords, *, all_of_them: bool) -> tuple[list[Known], str | None]:
        """Note a batch of scanned records; return the new and changed ones, or all of them.

        The second value is a key that was in the source before, if there is one: then nothing is noted.
        """
        if not scanned.keys:
            return [], None
        batch = (scanned.keys, scanned.raw_hashes, position_texts(scanned.held))
        before = self._last
        differ: Sequence[int] | None = None if all_of_them or not self._in_order else self._differing(batch)
        if differ is None:
            differ = range(len(scanned.keys))
            self._fall_out_of_order()
        if not differ:
            self._count += len(scanned.keys)
            return [], None
        try:
            with self._store.transaction(self._locks):
                rows = [(before + at + 1, *(column[at] for column in batch)) for at in differ]
                NEW_SCANNED.insert_rows(self._store, rows)
                self._store.run(TAKE.format(first=self._store.index_first), (before + 1, self._job))
        except IntegrityError:
            return [], self._twice(scanned.keys)
        self._count += len(scanned.keys)
        return self._changed(before + 1, all_of_them=all_of_them), None

    def _differing(self, batch: tuple[Sequence[Any], Sequence[Any], Sequence[Any]]) -> Sequence[int] | None:
        """The indexes of changed records; None if these are not the next keys of the last scan."""
        keys, hashes, held = map(tuple, batch)
        places = (self._job, self._last, self._last + len(keys))
        known = self._store.run(AS_THEY_WERE, places).cursor.fetchall()
        if len(known) != len(keys):
            return None
        (before, asked, foreign, ours) = zip(*known, strict=True)
        if keys != before:
            return None
        if hashes == asked and (held == foreign or (held == ours and not any(foreign))):
            return ()
        together = zip(hashes, held, known, strict=True)
        return [
            at
            for at, (new, held, (_, old, foreign, ours)) in enumerate(together)
            if new != old or not (held == foreign or (foreign is None and held == ours))
        ]

    def _fall_out_of_order(self) -> None:
        """From here on each record is looked up by its key; `scanned` gets those that were in order up to here."""
        if self._in_order and self._count:
            with self._store.transaction(self._locks):
                self._store.run(CATCH_UP, (self._job, self._base, self._last))
        self._in_order = False

    def _twice(self, keys: Sequence[str]) -> str:
        seen: set[str] = set()
        for key in keys:
            query = select(scanned.c.key).where(scanned.c.key == key)
            if key in seen or self._store.connection.execute(query).first():
                return key
            seen.add(key)
        raise AssertionError("the key that occurs twice was not found")

    def _changed(self, first: int, *, all_of_them: bool) -> list[Known]:
        same = and_(work.c.job_id == self._job, work.c.key == scanned.c.key)
        judged = and_(answer.c.job_id == self._job, answer.c.address_id == work.c.address_id, IS_ASKED)
        foreign = func.nullif(scanned.c.held, work.c.written)
        query = (
            select(
                scanned.c.place,
                scanned.c.key,
                scanned.c.raw_hash,
                foreign,
                work.c.raw_hash,
                work.c.held,
                work.c.held_hash,
                work.c.written,
                answer.c.lat,
                answer.c.lon,
            )
            .select_from(scanned.outerjoin(work, same).outerjoin(answer, judged))
            .where(scanned.c.place >= first)
            .order_by(scanned.c.place)
        )
        if not all_of_them:
            query = query.where(
                or_(
                    work.c.raw_hash.is_(None),
                    work.c.raw_hash != scanned.c.raw_hash,
                    work.c.held.is_distinct_from(foreign),
                    work.c.state == WorkState.VANISHED.value,
                )
            )
        rows: Sequence[Any] = self._store.connection.execute(query).all()
        return [_known(row) for row in rows]

    def put_work(self, rows: Sequence[Work]) -> None:
        """Keep what new and changed records have become."""
        if not rows:
            return
        with self._store.transaction(self._locks) as connection:
            numbers = put_subjects(self._store, self._askings, [item.composed for item in rows])
            known = {item.key: item.composed.address_key for item in rows if item.was_known}
            keep_past_addresses(connection, self._job, known, stamp(self._store.clock.now()))
            work_rows = [(self._job, *_work_row(item), number) for item, number in zip(rows, numbers, strict=True)]
            self._store.run_many(PUT_WORK, work_rows)
            to_be_judged(connection, self._job)

    def expects_new(self) -> bool:
        """Whether the last scan has no record behind those of this one: what comes next is new, or occurs twice."""
        places = (work.c.place > self._last, work.c.place < self._base + PART)  # one lower bound: SQLite uses the first
        behind = select(work.c.id).where(work.c.job_id == self._job, *places).limit(1)
        return self._in_order and self._store.connection.execute(behind).first() is None

    def put_new(self, records: NewRecords) -> bool:
        """Note records and keep what they have become.

        False if a record or its address is not as the caller believes: then nothing is kept, and note() has to tell.
        """
        if not self._many and len(records.keys) >= MANY:
            self._many = True
            self._store.before_many_records()
        try:
            with self._store.transaction(self._locks):
                others_wrote = self._others_wrote()
                put_records(self._store, self._job, self._askings, self._last, records, others_wrote=others_wrote)
        except (IntegrityError, Forgotten):
            for cells in records.cells:
                cells.stored = None
            return False
        self._count += len(records.keys)
        return True

    def _others_wrote(self) -> bool:
        """Whether somebody else has written since this was called last; in a transaction."""
        before = self._changes
        self._changes = self._store.changes()
        return before != self._changes

    def close(self) -> int:
        """Mark the records that are no longer in the source; their number."""
        if self._many and not self._part:  # other parts may bring more
            self._store.after_many_records()
        here = and_(self._mine(), work.c.state != WorkState.VANISHED.value)
        with self._store.transaction(self._locks) as connection:
            if connection.execute(select(func.count()).select_from(work).where(here)).scalar_one() == self._count:
                return 0  # whatever was scanned is there, so nothing else is
            gone = (
                work.c.place > self._last
                if self._in_order
                else ~select(scanned.c.place).where(scanned.c.key == work.c.key).exists()
            )
            left = {"state": WorkState.VANISHED.value, "place": None, "pin_id": None}
            return connection.execute(update(work).where(here, gone).values(left)).rowcount

    def elsewhere(self, keys: Sequence[str]) -> set[str]:
        """Those of these keys that another part has."""
        among = and_(work.c.job_id == self._job, work.c.key.op("IN")(TextsOf(json.dumps(keys))))
        query = select(work.c.key).where(among, or_(work.c.place <= self._base, work.c.place >= self._base + PART))
        return set(self._store.connection.execute(query).scalars())

    def analyze(self) -> None:
        """Called after many records were put, into all parts."""
        self._store.after_many_records()
        self._store.analyze()

    def take_up_pins(self) -> None:
        """Have records know the pins that hold for them."""
        take_up(self._store, self._job)

    def corrections(self) -> Mapping[str, Subject]:
        """The corrected addresses by the keys of the ones in their place."""
        return {subject_key(one.asked): one.corrected for one in corrections_of(self._store.connection)}

    def count(self) -> int:
        return self._count

    def states(self) -> Mapping[WorkState, int]:
        """The number of scanned records in each state."""
        return count_states(self._store, self._job)


def _known(row: Sequence[Any]) -> Known:
    place, key, raw_hash, held, known_hash, known_held, held_hash, written, lat, lon = row
    answered = Position(lat, lon) if lat is not None and lon is not None else None
    positions = map(read_position, (held, known_held, written))
    held, known_held, written = positions
    return Known(place, key, raw_hash, held, known_hash, known_held, held_hash, written, answered)


def _work_row(item: Work) -> tuple[Any, ...]:
    held = position_text(item.held)
    reasons = reasons_text(item.reasons)
    return (item.place, item.key, item.raw_hash, held, item.held_hash, item.state.value, reasons)
