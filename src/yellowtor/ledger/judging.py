"""What the ledger knows of judgements: which are out of date, how each record stands, how many of each."""

import zlib
from collections.abc import Iterator, Sequence
from collections.abc import Set as AbstractSet
from typing import Any

from sqlalchemy import Select, and_, bindparam, func, null, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from yellowtor.answers.kinds import Kind
from yellowtor.answers.work import Answer, Judged, Unjudged
from yellowtor.ledger.schema import candidates, job, new_written, reply, scanned, work
from yellowtor.ledger.store import Store

PAGE = 500
TEXTS = {"address", "basis", "level", "matched", "reasons"}
OF_REPLY = {"service": reply.c.service, "asked_at": reply.c.received_at}


class JudgeBook:
    """The judgements of one job."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store, self._job = store, job_id

    def unjudged(self, judgement_key: str, reading_key: str) -> Iterator[list[Unjudged]]:
        """Pages of the questions whose reply has not been judged so for every record, in order of their keys."""
        last = ""
        found = and_(candidates.c.reply_id == reply.c.id, candidates.c.reading_key == reading_key)
        query = select(
            work.c.question_key, func.min(work.c.address), reply.c.id, reply.c.kind, reply.c.status, reply.c.message,
            candidates.c.found, reply.c.body,
        ).select_from(
            work.join(reply, reply.c.question_key == work.c.question_key).outerjoin(candidates, found)
        ).where(
            work.c.job_id == self._job, work.c.state == "ask", work.c.question_key > bindparam("last"),
            work.c.judged_by.is_distinct_from(judgement_key) | work.c.reply_id.is_distinct_from(reply.c.id),
        ).group_by(work.c.question_key).order_by(work.c.question_key).limit(PAGE)  # fmt: skip
        while rows := self._store.connection.execute(query, {"last": last}).all():
            last = rows[-1][0]
            yield [
                Unjudged(key, address, reply_id, Kind(kind), status, message, known, zlib.decompress(body))
                for key, address, reply_id, kind, status, message, known, body in rows
            ]

    def put_judged(self, rows: Sequence[Judged], judgement_key: str, found: Sequence[tuple[int, str, str]]) -> None:
        """Keep judgements, and the candidates (reply id, reading key, JSON) that they were made from."""
        set_: dict[str, Any] = {name: bindparam(f"new_{name}") for name in Judged._fields[1:]}
        statement = update(work).where(work.c.job_id == self._job, work.c.question_key == bindparam("this"))
        values = [
            {"this": key, **{f"new_{name}": value for name, value in zip(Judged._fields[1:], rest, strict=True)}}
            for key, *rest in rows
        ]
        with self._store.transaction() as connection:
            connection.execute(statement.values(judged_by=judgement_key, **set_), values)
            if found:
                rows_found = [dict(zip(("reply_id", "reading_key", "found"), f, strict=True)) for f in found]
                connection.execute(upsert(candidates).on_conflict_do_nothing(), rows_found)

    def is_judged(self, judgement_key: str) -> bool:
        """Whether nothing has come since all of this job was judged so."""
        query = select(job.c.judged_by).where(job.c.id == self._job)
        return bool(self._store.connection.execute(query).scalar_one() == self._through(judgement_key))

    def note_all_judged(self, judgement_key: str) -> None:
        """Remember that every reply there is now has been judged so."""
        through = self._through(judgement_key)
        with self._store.transaction() as connection:
            connection.execute(update(job).where(job.c.id == self._job).values(judged_by=through))

    def _through(self, judgement_key: str) -> str:
        newest = self._store.connection.execute(select(func.max(reply.c.id))).scalar_one()
        return f"{judgement_key}:{newest}"

    def answers(self, keys: Sequence[str], wanted: AbstractSet[str]) -> dict[str, Answer]:
        """How these records stand now, by key; of texts, only the wanted ones. Not asked yet is waiting."""
        query = _standing(wanted).where(work.c.job_id == self._job, work.c.key.in_(keys))
        return {row[0]: Answer._make(row) for row in self._store.connection.execute(query)}

    def answers_in_order(self, first: int, count: int, wanted: AbstractSet[str]) -> list[Answer]:
        """The same for the scanned records from the first-th on (from 0), in the order of the scan."""
        here = and_(work.c.job_id == self._job, work.c.key == scanned.c.key)
        query = _standing(wanted).select_from(scanned.outerjoin(work, here))  # outer: `scanned` leads
        query = query.where(scanned.c.n > first, scanned.c.n <= first + count).order_by(scanned.c.n)
        cursor = self._store.connection.execute(query).cursor  # the driver's own rows: nothing in them
        return list(map(Answer._make, cursor.fetchall())) if cursor else []  # needs converting

    def note_written(self, rows: Sequence[tuple[str, str]]) -> None:
        """Note the coordinates (as written) of records that are new in the target; keep_written() keeps them."""
        if rows:
            with self._store.transaction() as connection:
                connection.exec_driver_sql("INSERT INTO new_written (key, coordinates) VALUES (?, ?)", list(rows))

    def keep_written(self, *, in_place: bool) -> None:
        """The target is in its place: remember what was noted; in place, the source holds it now."""
        new = new_written.c.coordinates
        statement = update(work).where(work.c.job_id == self._job, work.c.key == new_written.c.key)
        with self._store.transaction() as connection:
            connection.execute(statement.values({"written": new, "held": new} if in_place else {"written": new}))
            connection.execute(new_written.delete())

    def outcomes(self) -> dict[str, int]:
        """How many records of the scan ended in each outcome."""
        outcome = func.coalesce(work.c.outcome, "waiting")
        query = select(outcome, func.count()).where(work.c.job_id == self._job, work.c.state != "vanished")
        return {row[0]: row[1] for row in self._store.connection.execute(query.group_by(outcome))}


def _standing(wanted: AbstractSet[str]) -> Select[Any]:
    """How records stand: an Answer's fields, the long texts only where they are wanted."""
    columns: list[Any] = [work.c.get(name) for name in Answer._fields]
    for at, name in enumerate(Answer._fields):
        if name in OF_REPLY:
            value = select(OF_REPLY[name]).where(reply.c.id == work.c.reply_id).scalar_subquery()
            columns[at] = value if name in wanted else null()
        elif name == "outcome":
            columns[at] = func.coalesce(work.c.outcome, "waiting")
        elif name in TEXTS and name not in wanted:
            columns[at] = null()
    return select(*columns)
