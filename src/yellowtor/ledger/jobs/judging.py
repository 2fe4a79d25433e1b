"""What the ledger knows of judgements: which are out of date, how each record stands, how many of each."""

from collections.abc import Iterator, Mapping, Sequence
from collections.abc import Set as AbstractSet
from itertools import groupby
from operator import itemgetter
from typing import Any

from sqlalchemy import CTE, Select, Subquery, and_, bindparam, case, func, literal, select, update

from yellowtor.answers.ledger_rows import ALL_ADDRESSES, Addresses, Judged, ReadAs, Unjudged, WorkState, Written
from yellowtor.answers.record_answers import Answer, Answers
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import read_subject
from yellowtor.ledger.jobs.comparing import SqlComparisonBook
from yellowtor.ledger.jobs.history import keep_past_answers
from yellowtor.ledger.jobs.judged_rows import (
    found_row,
    judged_row,
    kept_reply,
    position_of,
    written_row,
)
from yellowtor.ledger.jobs.standing import SqlStanding
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import (
    address,
    answer,
    candidates,
    correction,
    job,
    new_written,
    past_pin,
    pin,
    question,
    reply,
    request,
    work,
)
from yellowtor.ledger.storage.store import COPIED, ManyRows, Store
from yellowtor.ledger.storage.stored_text import read_candidates

PAGE = 1_000
KEPT_PAGE = 5_000
JUDGED = ("job_id", "judged_by", "since", "address_id", *Judged._fields[1:])
OTHER = " OR ".join(f"answer.{name} IS DISTINCT FROM excluded.{name}" for name in ("outcome", "lat", "lon"))
SINCE = f"since = CASE WHEN {OTHER} THEN excluded.since ELSE answer.since END"
NEW_JUDGED = ManyRows(
    answer,
    JUDGED,
    again=" ON CONFLICT (job_id, address_id) DO UPDATE SET "
    + ", ".join([*(f"{name} = excluded.{name}" for name in JUDGED if name != "since"), SINCE]),
)
NEW_FOUND = ManyRows(candidates, ("reply_id", "reading_key", "found", "kind", "message"))
AT_HAND = 10_000  # records whose new coordinates are held in memory
MOVED = "CASE WHEN work.written <> new.column2 THEN work.written ELSE work.moved_from END"
KEEP = {
    in_place: f"""UPDATE work SET moved_from = {MOVED}, written = new.column2, sent = new.column3,
        raw_hash = coalesce(new.column4, work.raw_hash){", held = NULL" if in_place else ""}
        FROM (VALUES (?, ?, ?, ?)) AS new WHERE work.id = new.column1"""  # noqa: S608 - our own words
    for in_place in (True, False)
}
NEW_WRITTEN = ManyRows(new_written, ("work_id", "coordinates", "sent", "raw_hash"), again="")
PUT_POSITION = "INSERT INTO written_position (coordinates) VALUES (?) ON CONFLICT DO NOTHING"
TAKE_POSITIONS = """INSERT INTO written_position (coordinates)
    SELECT DISTINCT coordinates FROM new_written WHERE true ORDER BY coordinates ON CONFLICT DO NOTHING"""
IS_ASKED = work.c.state == WorkState.ASK.value


class SqlJudgeBook:
    """The judgements of one job. askings are the ledger's numbers of how services are asked, by their names.

    A run may judge some addresses only, while others judge the rest; and write a part of the records only.
    """

    def __init__(
        self,
        store: Store,
        job_id: int,
        askings: Mapping[str, int],
        addresses: Addresses = ALL_ADDRESSES,
        part: int = 0,
    ) -> None:
        self._store = store
        self._job = job_id
        self._askings = askings
        self.comparison = SqlComparisonBook(store, job_id)
        self._new: list[Written] = []  # what was noted and not kept yet; more of it in the table new_written
        self._spilled = False
        self._standing = SqlStanding(store, job_id, part)
        self._addresses = addresses
        self._judges = [] if addresses == ALL_ADDRESSES else [f"judge {job_id} {addresses.above}"]
        self._writes = [f"write {job_id} {part}"] if part else []

    def unjudged(self, judgement_key: str, readings: Mapping[str, str]) -> Iterator[list[Unjudged]]:
        """Pages of the addresses whose replies have not been judged so, in the order in which they were first met.

        readings are the keys of today's reading rules by the service's name.
        """
        services = {self._askings[name]: name for name in readings}
        last, up_to = self._addresses
        page_end = select(func.max(self._page().c.id))
        query = self._unjudged_query(judgement_key, readings)
        while (end := self._store.connection.execute(page_end, {"last": last, "end": up_to}).scalar()) is not None:
            rows = self._store.connection.execute(query, {"last": last, "end": end}).all()
            last = end
            if rows:
                yield [
                    Unjudged(
                        number,
                        read_subject(parts),
                        {services[row[4]]: kept_reply(row[5:]) for row in rows_of},
                        streets or 0,
                        away_m or 0.0,
                    )
                    for (number, parts, streets, away_m), rows_of in groupby(rows, key=itemgetter(0, 1, 2, 3))
                ]

    def _page(self) -> CTE:
        """The addresses of the page behind `last`, up to `end`; an index finds each by the one before.

        DISTINCT would read each of an address's records, and have PostgreSQL expect many more addresses than come.
        """

        def after(number: Any) -> Any:
            mine = (work.c.job_id == self._job, IS_ASKED, work.c.address_id <= bindparam("end"))
            return select(func.min(work.c.address_id)).where(*mine, work.c.address_id > number).scalar_subquery()

        page = select(literal(1).label("n"), after(bindparam("last")).label("id")).cte("page", recursive=True)
        following = select(page.c.n + 1, after(page.c.id)).where(page.c.id.is_not(None), page.c.n < PAGE)
        return page.union_all(following)

    def _unjudged_query(self, judgement_key: str, readings: Mapping[str, str]) -> Select[Any]:
        """A page of addresses from `last` to `end` whose judgement is missing or old, with the replies about each."""
        stale = self._stale(judgement_key, readings)
        services = [self._askings[name] for name in readings]
        reading = case({self._askings[name]: key for name, key in readings.items()}, value=question.c.asking_id)
        found = and_(candidates.c.reply_id == reply.c.id, candidates.c.reading_key == reading)
        unread = candidates.c.found.is_(None)  # of the others, what was read is all that is needed
        return (
            select(
                stale.c.id,
                address.c.parts,
                stale.c.streets,
                stale.c.away_m,
                question.c.asking_id,
                reply.c.id,
                reply.c.kind,
                reply.c.status,
                reply.c.message,
                candidates.c.found,
                case((unread, reply.c.body)),
                case((unread, reply.c.headers)),
                candidates.c.kind,
                candidates.c.message,
            )
            .select_from(
                stale.join(address, address.c.id == stale.c.id)
                .join(question, and_(question.c.address_id == stale.c.id, question.c.asking_id.in_(services)))
                .outerjoin(reply, reply.c.question_key == question.c.key)
                .outerjoin(candidates, found)
            )
            .order_by(stale.c.id)
        )

    def _stale(self, judgement_key: str, readings: Mapping[str, str]) -> Subquery:
        """The addresses of the page that have not been judged so, or have a newer reply."""
        services = [self._askings[name] for name in readings]
        mine = self._page()
        asked = and_(question.c.address_id == mine.c.id, question.c.asking_id.in_(services))
        judged = and_(answer.c.job_id == self._job, answer.c.address_id == mine.c.id)
        newest = func.max(reply.c.id)
        return (
            select(
                mine.c.id,
                func.max(answer.c.streets).label("streets"),
                func.max(answer.c.away_m).label("away_m"),
            )
            .select_from(
                mine.join(question, asked).join(reply, reply.c.question_key == question.c.key).outerjoin(answer, judged)
            )
            .group_by(mine.c.id)
            .having(
                func.max(answer.c.judged_by).is_distinct_from(judgement_key)
                | func.max(answer.c.newest).is_distinct_from(newest)
            )
            .subquery()
        )

    def put_judged(self, rows: Sequence[Judged], judgement_key: str, found: Sequence[ReadAs]) -> None:
        """Keep judgements, and what was read from replies for them."""
        now = stamp(self._store.clock.now())
        kept = [(self._job, judgement_key, now, *judged_row(row)) for row in rows]
        with self._store.transaction(self._judges) as connection:
            keep_past_answers(connection, self._job, rows, now)
            NEW_JUDGED.insert_rows(self._store, kept)
            NEW_FOUND.insert_rows(self._store, sorted(map(found_row, found)))

    def answers_before(self, service: str, reading_key: str, count: int) -> Sequence[Sequence[Candidate]]:
        """The candidates of a service's last answers that rules with this key have read, of any job."""
        mine = (reply.c.service == service) & (candidates.c.kind == Kind.ANSWERED.value)
        query = select(candidates.c.found).select_from(candidates.join(reply, reply.c.id == candidates.c.reply_id))
        query = query.where(mine, candidates.c.reading_key == reading_key).order_by(candidates.c.reply_id.desc())
        return [read_candidates(text) for text in self._store.connection.execute(query.limit(count)).scalars()]

    def enough(self, judgement_key: str) -> tuple[int, int]:
        """How many of the job's addresses that were judged so have an answer that is good enough; how many were."""
        mine = (answer.c.job_id == self._job) & (answer.c.judged_by == judgement_key)
        query = select(func.coalesce(func.sum(answer.c.enough), 0), func.count()).where(mine)
        good, all_of_them = self._store.connection.execute(query).one()
        return int(good), int(all_of_them)

    def is_judged(self, judgement_key: str) -> bool:
        """Whether nothing has come since all of this job was judged so."""
        query = select(job.c.judged_by).where(job.c.id == self._job)
        return bool(self._store.connection.execute(query).scalar_one() == self._through(judgement_key))

    def note_all_judged(self, judgement_key: str) -> None:
        """Remember that every reply there is now has been judged so."""
        through = self._through(judgement_key)
        with self._store.transaction() as connection:
            connection.execute(update(job).where(job.c.id == self._job).values(judged_by=through))

    def state(self, judgement_key: str) -> str:
        """What answers depend on, beside the source: replies, requests, pins and corrections, by their last ones."""
        newest = select(
            self._judged_by(),
            *(select(func.max(column)).scalar_subquery() for column in (request.c.id, pin.c.id, pin.c.pinned_at)),
            *(select(func.max(column)).scalar_subquery() for column in (correction.c.made_at, past_pin.c.until)),
        )
        return repr((judgement_key, *self._store.connection.execute(newest).one()))

    def _judged_by(self) -> Any:
        return select(job.c.judged_by).where(job.c.id == self._job).scalar_subquery()

    def _through(self, judgement_key: str) -> str:
        newest = self._store.connection.execute(select(func.max(reply.c.id))).scalar_one()
        return f"{judgement_key}:{newest}"

    def answers(self, keys: Sequence[str], wanted: AbstractSet[str]) -> dict[str, Answer]:
        """How these records stand now, by key; of texts, only the wanted ones. Not asked yet is waiting."""
        return self._standing.answers(keys, wanted)

    def answers_in_order(self, first: int, count: int, wanted: AbstractSet[str]) -> Answers:
        """The current answers for scanned records in the order of the scan, from an index on (from 0)."""
        return self._standing.in_order(first, count, wanted)

    def note_written(self, rows: Sequence[Written]) -> None:
        """Note positions that are new in the target; keep_written() stores them when the target is complete."""
        self._new.extend(rows)
        if len(self._new) > AT_HAND:
            self._spill()

    def _spill(self) -> None:
        """Put what was noted into a table, which takes any number."""
        with self._store.transaction(self._writes):
            NEW_WRITTEN.insert_rows(self._store, [written_row(new) for new in self._new])
        self._new = []
        self._spilled = True

    def keep_written(self, *, in_place: bool) -> None:
        """Store the noted positions: the target is complete. in_place: the target is the source."""
        if not self._new and not self._spilled:
            return
        if self._store.copies and len(self._new) >= COPIED:
            self._spill()
        with self._store.transaction(self._writes) as connection:
            if self._spilled:
                address = func.coalesce(new_written.c.raw_hash, work.c.raw_hash)
                new: dict[str, Any] = {"written": new_written.c.coordinates, "sent": new_written.c.sent}
                other = work.c.written != new_written.c.coordinates
                new |= {"moved_from": case((other, work.c.written), else_=work.c.moved_from)}
                new |= {"raw_hash": address} | ({"held": None} if in_place else {})
                connection.execute(update(work).where(work.c.id == new_written.c.work_id).values(new))
                self._store.run(TAKE_POSITIONS)
                connection.execute(new_written.delete())
            if self._new:
                rows = [written_row(new) for new in self._new]
                self._store.run_many(KEEP[in_place], rows)
                self._store.run_many(PUT_POSITION, [(text,) for text in sorted({row[1] for row in rows})])
        self._new = []
        self._spilled = False

    def some_positions(self, count: int) -> Sequence[Position]:
        """A sample of about this count of the positions of placed and kept records."""
        placed = and_(answer.c.job_id == self._job, answer.c.outcome == Outcome.PLACED.value)
        kept = and_(work.c.job_id == self._job, work.c.state == WorkState.KEPT.value, work.c.held.is_not(None))
        found: list[Position] = []
        for condition, number, columns in (
            (placed, answer.c.address_id, (answer.c.lat, answer.c.lon)),
            (kept, work.c.place, (work.c.held,)),
        ):
            there = self._store.connection.execute(select(func.count()).where(condition)).scalar_one()
            query = select(*columns).where(condition, number % max(1, there // count) == 0).limit(count)
            found += [position_of(*row) for row in self._store.connection.execute(query)]
        return found

    def kept_positions(self) -> Iterator[Sequence[tuple[str, Position]]]:
        """The key and position of each record that is kept, page by page."""
        last = 0
        kept = and_(work.c.job_id == self._job, work.c.state == WorkState.KEPT.value, work.c.held.is_not(None))
        query = select(work.c.place, work.c.key, work.c.held).where(kept).order_by(work.c.place).limit(KEPT_PAGE)
        while rows := self._store.connection.execute(query.where(work.c.place > last)).all():
            last = rows[-1][0]
            yield [(key, position_of(held)) for _, key, held in rows]
