"""The questions that a scan asks of the ledger: what is new, what has changed, what is open.

Rows that did not change are settled by one join and never come out of the database.
"""

from collections.abc import Iterator, Sequence
from typing import Any

from sqlalchemy import and_, func, insert, literal, or_, select, update
from sqlalchemy.dialects.sqlite import insert as upsert
from sqlalchemy.exc import IntegrityError

from yellowtor.answers.kinds import Kind
from yellowtor.answers.position import written
from yellowtor.answers.work import Known, Question, Work
from yellowtor.ledger.schema import job, last_order, last_scan, open_question, reply, scanned, work
from yellowtor.ledger.store import Store

PAGE = 1_000
FINAL = [kind.value for kind in Kind if kind.is_answer]
RESET = ("outcome", "lat", "lon", "confidence", "level", "matched", "reasons", "reply_id", "judged_by")


class ScanBook:
    """The scan of one job in one run."""

    def __init__(self, store: Store, job_id: int, run_id: int) -> None:
        self._store, self._job, self._run = store, job_id, run_id
        self._count = 0

    def composed_by(self) -> str:
        """The digest of the rules by which this job's addresses were put together last."""
        query = select(job.c.composed_by).where(job.c.id == self._job)
        return str(self._store.connection.execute(query).scalar_one())

    def put_composed_by(self, digest: str) -> None:
        with self._store.transaction() as connection:
            connection.execute(update(job).where(job.c.id == self._job).values(composed_by=digest))

    def recall(self, source: str) -> bool:
        """Take the last scan for this one, if it was of the same source; else forget it, for the work will change."""
        mine = last_scan.c.job_id == self._job
        order = select(last_order.c.n, last_order.c.key, literal("")).where(last_order.c.job_id == self._job)
        with self._store.transaction() as connection:
            if connection.execute(select(last_scan.c.source).where(mine)).scalar() != source:
                connection.execute(last_scan.delete().where(mine))
                connection.execute(last_order.delete().where(last_order.c.job_id == self._job))
                return False
            columns = ["n", "key", "raw_hash"]
            self._count = connection.execute(insert(scanned).from_select(columns, order.order_by("n"))).rowcount
        return True

    def keep(self, source: str) -> None:
        """Keep this scan, whole as it is, for the next run over the same source."""
        columns = ["job_id", "n", "key"]
        order = select(literal(self._job), scanned.c.n, scanned.c.key).order_by(scanned.c.n)
        with self._store.transaction() as connection:
            connection.execute(insert(last_order).from_select(columns, order))
            connection.execute(insert(last_scan).values(job_id=self._job, source=source))

    def note(
        self, batch: Sequence[tuple[str, str, str | None]], *, all_of_them: bool
    ) -> tuple[list[Known], str | None]:
        """Note a batch of scanned (key, raw hash, held); give back the new and changed ones (or all of them).

        The second value is a key that stood in the source before, if there is one: then nothing is noted.
        """
        if not batch:
            return [], None
        first = self._count + 1
        try:
            with self._store.transaction() as connection:
                connection.exec_driver_sql("INSERT INTO scanned (key, raw_hash, held) VALUES (?, ?, ?)", batch)
        except IntegrityError:
            return [], self._twice(batch)
        self._count += len(batch)
        return self._changed(first, all_of_them=all_of_them), None

    def _twice(self, batch: Sequence[tuple[str, str, str | None]]) -> str:
        seen: set[str] = set()
        for key, *_ in batch:
            query = select(scanned.c.key).where(scanned.c.key == key)
            if key in seen or self._store.connection.execute(query).first():
                return key
            seen.add(key)
        raise AssertionError("the key that stands twice was not found")

    def _changed(self, first: int, *, all_of_them: bool) -> list[Known]:
        same = and_(work.c.job_id == self._job, work.c.key == scanned.c.key)
        query = select(
            scanned.c.key, scanned.c.raw_hash, scanned.c.held,
            work.c.raw_hash, work.c.held, work.c.held_hash, work.c.written, work.c.state, work.c.lat, work.c.lon,
        ).select_from(scanned.outerjoin(work, same)).where(scanned.c.n >= first)  # fmt: skip
        if not all_of_them:
            query = query.where(
                or_(
                    work.c.raw_hash.is_(None),
                    work.c.raw_hash != scanned.c.raw_hash,
                    work.c.held.is_distinct_from(scanned.c.held),
                    work.c.state == "vanished",
                )
            )
        rows: Sequence[Any] = self._store.connection.execute(query).all()
        if not all_of_them and (taken := [row for row in rows if _only_held(row)]):
            self._take_held([(held, raw_hash, self._job, key) for key, raw_hash, held, *_ in taken])
            rows = [row for row in rows if not _only_held(row)]
        return [Known._make([*row[:7], _ours(*row[7:])]) for row in rows]

    def _take_held(self, rows: Sequence[tuple[str | None, str, int, str]]) -> None:
        """Take what the source holds now of records whose coordinates are gone, or ours again."""
        statement = "UPDATE work SET held = ?, held_hash = ? WHERE job_id = ? AND key = ?"
        with self._store.transaction() as connection:
            connection.exec_driver_sql(statement, list(rows))

    def put_work(self, rows: Sequence[Work]) -> None:
        """Keep what new and changed records have become; what was judged of them before is dropped."""
        if not rows:
            return
        statement = upsert(work)
        fresh = {name: statement.excluded[name] for name in (*Work._fields[1:3], *Work._fields[3:5], *RESET)}
        fresh |= {name: statement.excluded[name] for name in ("address", "address_key", "question_key")}
        statement = statement.on_conflict_do_update(index_elements=["job_id", "key"], set_=fresh)
        with self._store.transaction() as connection:
            connection.execute(statement, [self._row(item) for item in rows])
            connection.execute(update(job).where(job.c.id == self._job).values(judged_by=""))

    def _row(self, item: Work) -> dict[str, object]:
        lat, lon = (float(x) for x in item.held.split(",")) if item.state == "kept" and item.held else (None, None)
        row = dict.fromkeys(RESET) | item._asdict() | {"job_id": self._job, "level": "", "matched": ""}
        row["reasons"] = row.pop("reason")
        return row | {"outcome": None if item.state == "ask" else item.state, "lat": lat, "lon": lon}

    def close(self) -> int:
        """Mark the records that are no longer in the source; how many vanished with this scan."""
        here = and_(work.c.job_id == self._job, work.c.state != "vanished")
        with self._store.transaction() as connection:
            if connection.execute(select(func.count()).select_from(work).where(here)).scalar_one() == self._count:
                return 0  # whatever was scanned is there, so nothing else is
            gone = ~select(scanned.c.n).where(scanned.c.key == work.c.key).exists()
            return connection.execute(
                update(work).where(here, gone).values(state="vanished", question_key=None)
            ).rowcount

    def count(self) -> int:
        return self._count

    def states(self) -> dict[str, int]:
        """How many scanned records are to be kept, incomplete, asked."""
        query = select(work.c.state, func.count()).where(work.c.job_id == self._job, work.c.state != "vanished")
        return {row[0]: row[1] for row in self._store.connection.execute(query.group_by(work.c.state))}

    def open_questions(self, *, again_failed: bool) -> tuple[int, int]:
        """Collect the open questions in the job's order; how many are open, how many are answered.

        First which keys are open, from indexes alone; then, for those only, who asks and in which order.
        """
        mine = select(work.c.question_key).distinct().where(
            work.c.job_id == self._job, work.c.question_key.is_not(None)
        ).subquery()  # fmt: skip
        answered = reply.c.kind.in_(FINAL) if again_failed else reply.c.id.is_not(None)
        keys = select(mine.c.question_key).select_from(
            mine.outerjoin(reply, reply.c.question_key == mine.c.question_key)
        ).where(func.coalesce(answered, literal(0)) == 0)  # fmt: skip
        who = select(
            func.min(scanned.c.n), work.c.question_key, func.min(work.c.address), func.count()
        ).select_from(work.join(scanned, scanned.c.key == work.c.key)).where(
            work.c.job_id == self._job, work.c.question_key.in_(keys)
        ).group_by(work.c.question_key)  # fmt: skip
        with self._store.transaction() as connection:
            connection.execute(open_question.delete())
            connection.execute(insert(open_question).from_select(["n", "question_key", "address", "records"], who))
            count = connection.execute(select(func.count()).select_from(open_question)).scalar_one()
            return count, connection.execute(select(func.count()).select_from(mine)).scalar_one() - count

    def questions(self) -> Iterator[Question]:
        """The open questions in the job's order, read a page at a time."""
        last = 0
        columns = (open_question.c.n, open_question.c.question_key, open_question.c.address, open_question.c.records)
        while True:
            query = select(*columns).where(open_question.c.n > last).order_by(open_question.c.n).limit(PAGE)
            page = self._store.connection.execute(query).all()
            if not page:
                return
            last = page[-1][0]
            yield from (Question(*row[1:]) for row in page)


def _only_held(row: Any) -> bool:
    """Whether nothing of a record that is asked about has changed but that its coordinates are gone, or ours again."""
    _, raw_hash, held, known_hash, _, _, before, state, *_ = row
    return state == "ask" and raw_hash == known_hash and (held is None or held == before)


def _ours(state: str | None, lat: float | None, lon: float | None) -> str | None:
    """The coordinates that the services answered for a record, as they would be written."""
    return written(lat, lon) if state == "ask" and lat is not None and lon is not None else None
