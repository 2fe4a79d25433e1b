"""The questions that a scan asks of the ledger: what is new, what has changed, what is open.

Rows that did not change are settled by one join and never come out of the database.
"""

from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from typing import Any

from sqlalchemy import ColumnElement, Select, Subquery, and_, func, insert, or_, select, update
from sqlalchemy.exc import IntegrityError

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.ledger_rows import Known, Question, Turn, Work, WorkState
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject
from yellowtor.ledger.jobs.corrections import corrections_of
from yellowtor.ledger.jobs.history import keep_past_addresses
from yellowtor.ledger.jobs.pins import take_up
from yellowtor.ledger.jobs.states import count_states
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import (
    address,
    answer,
    candidates,
    job,
    last_scan,
    open_question,
    question,
    reply,
    scanned,
    work,
)
from yellowtor.ledger.storage.store import Store
from yellowtor.ledger.storage.stored_text import (
    position_text,
    read_position,
    read_subject,
    reasons_text,
    subject_text,
)

PAGE = 1_000
IS_ASKED = work.c.state == WorkState.ASK.value
FINAL = [kind.value for kind in Kind if kind.is_answer]
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
    SELECT place, key, raw_hash, held FROM work WHERE job_id = ? AND place <= ? ON CONFLICT DO NOTHING"""
PUT_SCANNED = "INSERT INTO scanned (place, key, raw_hash, held) VALUES (?, ?, ?, ?)"
PUT_QUESTION = """INSERT INTO question (key, asking_id, address_id)
    VALUES (?, ?, (SELECT id FROM address WHERE key = ?))
    ON CONFLICT (key) DO UPDATE SET asking_id = excluded.asking_id WHERE question.asking_id IS NULL"""
PUT_ADDRESS = "INSERT INTO address (key, parts) VALUES (?, ?) ON CONFLICT DO NOTHING"
PUT_WORK = """INSERT INTO work (job_id, place, key, raw_hash, held, held_hash, state, reasons, address_id)
    VALUES (?, ?, ?, ?, ?, ?, ?, ?, (SELECT id FROM address WHERE key = ?))
    ON CONFLICT (job_id, key) DO UPDATE SET place = excluded.place, raw_hash = excluded.raw_hash,
    held = excluded.held, held_hash = excluded.held_hash, state = excluded.state, reasons = excluded.reasons,
    address_id = excluded.address_id, pin_id = NULL"""


class SqlScanBook:
    """The scan of one job in one run. askings are the ledger's numbers of how services are asked, by their names."""

    def __init__(self, store: Store, job_id: int, run_id: int, askings: Mapping[str, int]) -> None:
        self._store = store
        self._job = job_id
        self._run = run_id
        self._askings = askings
        self._count = 0
        self._collected: tuple[int, Turn, str] | None = None  # in which session the open questions were, and for whom
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
        mine = last_scan.c.job_id == self._job
        self._count = 0
        self._in_order = True
        with self._store.transaction() as connection:
            connection.execute(scanned.delete())  # of a scan that was begun and given up
            if connection.execute(select(last_scan.c.source).where(mine)).scalar() != source:
                connection.execute(last_scan.delete().where(mine))
                return False
            here = select(func.count()).where(work.c.job_id == self._job, work.c.place.is_not(None))
            self._count = connection.execute(here).scalar_one()
        return True

    def keep(self, source: str) -> None:
        """Store this scan for the next run over the same source."""
        with self._store.transaction() as connection:
            connection.execute(insert(last_scan).values(job_id=self._job, source=source))

    def note(
        self, scanned: Sequence[tuple[str, str, Position | None]], *, all_of_them: bool
    ) -> tuple[list[Known], str | None]:
        """Note a batch of scanned records (key, raw hash, held); return the new and changed ones, or all of them.

        The second value is a key that was in the source before, if there is one: then nothing is noted.
        """
        if not scanned:
            return [], None
        batch = [(key, raw_hash, position_text(held)) for key, raw_hash, held in scanned]
        before = self._count
        differ: Sequence[int] | None = None if all_of_them or not self._in_order else self._differing(batch)
        if differ is None:
            differ = range(len(batch))
            self._fall_out_of_order()
        if not differ:
            self._count += len(batch)
            return [], None
        try:
            with self._store.transaction():
                self._store.run_many(PUT_SCANNED, [(before + at + 1, *batch[at]) for at in differ])
                self._store.run(TAKE.format(first=self._store.index_first), (before + 1, self._job))
        except IntegrityError:
            return [], self._twice(batch)
        self._count += len(batch)
        return self._changed(before + 1, all_of_them=all_of_them), None

    def _differing(self, batch: Sequence[tuple[str, str, str | None]]) -> Sequence[int] | None:
        """The indexes of changed records; None if these are not the next keys of the last scan."""
        places = (self._job, self._count, self._count + len(batch))
        known = self._store.run(AS_THEY_WERE, places).cursor.fetchall()
        if len(known) != len(batch):
            return None
        (keys, hashes, held) = zip(*batch, strict=True)
        (before, asked, foreign, ours) = zip(*known, strict=True)
        if keys != before:
            return None
        if hashes == asked and (held == foreign or (held == ours and not any(foreign))):
            return ()
        return [
            at
            for at, ((_, new, held), (_, old, foreign, ours)) in enumerate(zip(batch, known, strict=True))
            if new != old or not (held == foreign or (foreign is None and held == ours))
        ]

    def _fall_out_of_order(self) -> None:
        """From here on each record is looked up by its key; `scanned` gets those that were in order up to here."""
        if self._in_order and self._count:
            with self._store.transaction():
                self._store.run(CATCH_UP, (self._job, self._count))
        self._in_order = False

    def _twice(self, batch: Sequence[tuple[str, str, str | None]]) -> str:
        seen: set[str] = set()
        for key, *_ in batch:
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
        addresses = [(item.address_key, subject_text(item.subject)) for item in rows]
        questions = [
            (key, self._askings[service], item.address_key) for item in rows for service, key in item.questions.items()
        ]
        with self._store.transaction() as connection:
            self._store.run_many(PUT_ADDRESS, addresses)
            self._store.run_many(PUT_QUESTION, questions)
            known = {item.key: item.address_key for item in rows if item.was_known}
            keep_past_addresses(connection, self._job, known, stamp(self._store.clock.now()))
            self._store.run_many(PUT_WORK, [(self._job, *_work_row(item)) for item in rows])
            connection.execute(update(job).where(job.c.id == self._job).values(judged_by=""))

    def close(self) -> int:
        """Mark the records that are no longer in the source; their number."""
        here = and_(work.c.job_id == self._job, work.c.state != WorkState.VANISHED.value)
        with self._store.transaction() as connection:
            if connection.execute(select(func.count()).select_from(work).where(here)).scalar_one() == self._count:
                return 0  # whatever was scanned is there, so nothing else is
            gone = (
                or_(work.c.place.is_(None), work.c.place > self._count)
                if self._in_order
                else ~select(scanned.c.place).where(scanned.c.key == work.c.key).exists()
            )
            left = {"state": WorkState.VANISHED.value, "place": None, "pin_id": None}
            return connection.execute(update(work).where(here, gone).values(left)).rowcount

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

    def open_questions(self, turn: Turn, *, failed_before: str = "") -> tuple[int, int]:
        """Collect the questions that are open to a service, in the job's order; how many are, and how many are not.

        Those are, too, to which a reply came before an instant (ISO 8601, UTC) that is none by today's reading rules.

        First which are open, from indexes alone; then, for those only, who asks and in which order.
        """
        asks = and_(work.c.job_id == self._job, IS_ASKED, work.c.pin_id.is_(None))
        mine = select(work.c.address_id).distinct().where(asks).subquery()
        opened = self._opened(mine, turn, failed_before=failed_before)
        who = (
            select(func.min(work.c.place), question.c.key, address.c.parts, func.count())
            .select_from(
                question.join(work, work.c.address_id == question.c.address_id).join(
                    address, address.c.id == question.c.address_id
                )
            )
            .where(asks, question.c.id.in_(opened))
            .group_by(question.c.id, address.c.id)
        )
        self._collected = (self._store.session, turn, failed_before)
        with self._store.transaction() as connection:
            connection.execute(open_question.delete())
            connection.execute(insert(open_question).from_select(["n", "question_key", "address", "records"], who))
            count = connection.execute(select(func.count()).select_from(open_question)).scalar_one()
            return count, connection.execute(select(func.count()).select_from(mine)).scalar_one() - count

    def _opened(self, mine: Subquery, turn: Turn, *, failed_before: str) -> Select[Any]:
        """The numbers of the questions about these addresses that are open to a service."""
        asked = and_(question.c.address_id == mine.c.address_id, question.c.asking_id == self._askings[turn.service])
        source = mine.join(question, asked).outerjoin(reply, reply.c.question_key == question.c.key)
        unanswered: ColumnElement[bool] = reply.c.id.is_(None)
        old = reply.c.received_at < failed_before
        if failed_before:
            read = and_(candidates.c.reply_id == reply.c.id, candidates.c.reading_key == turn.reading)
            source = source.outerjoin(candidates, read)
            unanswered |= and_(func.coalesce(func.nullif(candidates.c.kind, ""), reply.c.kind).not_in(FINAL), old)
        wanted = [unanswered]
        if turn.judged_by:
            judged = and_(
                answer.c.job_id == self._job,
                answer.c.address_id == mine.c.address_id,
                answer.c.judged_by == turn.judged_by,
                answer.c.enough == 1,
            )
            source = source.outerjoin(answer, judged)
            not_enough: ColumnElement[bool] = answer.c.address_id.is_(None)
            if failed_before:
                not_enough |= and_(answer.c.outcome == Outcome.FAILED.value, reply.c.id.is_not(None), old)
            wanted.append(not_enough)
        if turn.after:
            before = question.alias()
            said = reply.alias()
            silent = select(before.c.id).select_from(before.outerjoin(said, said.c.question_key == before.c.key))
            those = before.c.asking_id.in_([self._askings[name] for name in turn.after])
            wanted.append(~silent.where(before.c.address_id == mine.c.address_id, those, said.c.id.is_(None)).exists())
        return select(question.c.id).select_from(source).where(*wanted)

    def questions(self) -> Iterator[Question]:
        """The open questions in the job's order, read a page at a time."""
        last = 0
        while page := self._store.persist(partial(self._page, last)):
            last = page[-1][0]
            yield from (Question(key, read_subject(text), records) for _, key, text, records in page)

    def _page(self, last: int) -> Sequence[Any]:
        """Those after a place; collected anew where they were lost with the connection."""
        if self._collected and self._collected[0] != self._store.session:
            self.open_questions(self._collected[1], failed_before=self._collected[2])
        columns = (open_question.c.n, open_question.c.question_key, open_question.c.address, open_question.c.records)
        query = select(*columns).where(open_question.c.n > last).order_by(open_question.c.n).limit(PAGE)
        return self._store.connection.execute(query).all()


def _known(row: Sequence[Any]) -> Known:
    place, key, raw_hash, held, known_hash, known_held, held_hash, written, lat, lon = row
    answered = Position(lat, lon) if lat is not None and lon is not None else None
    positions = map(read_position, (held, known_held, written))
    held, known_held, written = positions
    return Known(place, key, raw_hash, held, known_hash, known_held, held_hash, written, answered)


def _work_row(item: Work) -> tuple[Any, ...]:
    held = position_text(item.held)
    reasons = reasons_text(item.reasons)
    return (item.place, item.key, item.raw_hash, held, item.held_hash, item.state.value, reasons, item.address_key)
