"""How the records of one job stand: their answers, with pins and what records keep.

Most records are asked about and have nothing of their own: the answers of their addresses are read once for all records
that have them, and stay at hand for the next ones.
"""

import json
from collections.abc import Callable, Sequence
from collections.abc import Set as AbstractSet
from typing import Any

from sqlalchemy import ColumnElement, FromClause, Select, and_, case, func, literal, or_, select

from yellowtor.answers.decisions import Pin
from yellowtor.answers.ledger_rows import WorkState
from yellowtor.answers.record_answers import NO_PARTS, Answer, AnswerPool, Answers, PooledAnswers
from yellowtor.contracts.outcome import Outcome
from yellowtor.ledger.jobs.judged_rows import OF_REPLY, POOLED_READERS, READERS
from yellowtor.ledger.storage.schema import PART, address, answer, pin, question, reply, work
from yellowtor.ledger.storage.store import NumbersOf, Store, TextsOf

IS_ASKED = work.c.state == WorkState.ASK.value
TEXTS = {"moved_from", "basis", "key", "level", "matched", "parts", "raw_hash", "reasons"}
OF_RECORD = ("id", "key", "raw_hash", "written", "moved_from")  # an answer's fields that each record has of its own
POOLED = 32_000  # addresses whose answers are at hand: some 30 MB


class SqlStanding:
    """The answers of one job; in_order() is about one part of its records."""

    def __init__(self, store: Store, job_id: int, part: int = 0) -> None:
        self._store = store
        self._base = part * PART
        self._job = job_id
        self._known_pins: dict[int, Pin] | None = None
        self._pool = AnswerPool(READERS)
        self._in_pool: dict[int, int] = {}  # the index of each address
        self._pool_of: AbstractSet[str] = frozenset()  # the fields that it has

    def answers(self, keys: Sequence[str], wanted: AbstractSet[str]) -> dict[str, Answer]:
        """How these records stand now, by key; of texts, only the wanted ones. Not asked yet is waiting."""
        among = work.c.key.op("IN")(TextsOf(json.dumps(keys)))
        return {found.key: found for found in self._answers(wanted | {"key"}, lambda query: query.where(among))}

    def in_order(self, first: int, count: int, wanted: AbstractSet[str]) -> Answers:
        """The current answers for scanned records in the order of the scan, from an index on (from 0)."""
        first += self._base
        if (pooled := self._pooled(first, count, wanted)) is not None:
            return pooled
        among = and_(work.c.place > first, work.c.place <= first + count)
        return self._answers(wanted, lambda query: query.where(among).order_by(work.c.place))

    def _answers(self, wanted: AbstractSet[str], among: Callable[[Select[Any]], Select[Any]]) -> Answers:
        """How some records of the job stand; what is not wanted is not fetched, for every value takes its time."""
        columns, source = self._columns(wanted)
        query = among(select(*columns.values()).select_from(source).where(work.c.job_id == self._job))
        cursor = self._store.connection.execute(query).cursor  # the driver's own rows: nothing in them
        rows = cursor.fetchall() if cursor else []  # needs converting
        found = Answers(dict(zip(columns, zip(*rows, strict=True), strict=True)) if rows else {}, len(rows), READERS)
        if Outcome.KEPT in found.column("outcome") or any(pin is not None for pin in found.column("pin")):
            return Answers.of([self._settled(item) for item in found])
        return found

    def _settled(self, item: Answer) -> Answer:
        """The answer with the position of a pin, or of a record that keeps its own."""
        if item.pin is not None:
            pinned = self._pins()[item.pin]
            fits = pinned.lat is not None
            return item._replace(
                outcome=Outcome.PLACED if fits else Outcome.UNPLACED,
                lat=pinned.lat,
                lon=pinned.lon,
                confidence=1.0 if fits else None,
                basis="pinned" if fits else "",
                level=pinned.level,
                matched=pinned.matched,
                parts=NO_PARTS,
                reasons=(pinned.said,),
                service=pinned.service or item.service,
            )
        if item.outcome is Outcome.KEPT and item.held:
            return item._replace(lat=item.held.lat, lon=item.held.lon)
        return item

    def _pins(self) -> dict[int, Pin]:
        if self._known_pins is None:
            query = select(pin.c.id, *(pin.c[name] for name in Pin._fields))
            self._known_pins = {row[0]: Pin._make(row[1:]) for row in self._store.connection.execute(query)}
        return self._known_pins

    def _pooled(self, first: int, count: int, wanted: AbstractSet[str]) -> PooledAnswers | None:
        """The same, if no record among them has anything but the answer of its address."""
        names = [name for name in OF_RECORD if name in wanted or name not in TEXTS]
        own = or_(~IS_ASKED, work.c.held.is_not(None), work.c.sent.is_not(None), work.c.pin_id.is_not(None))
        query = select(work.c.address_id, own, *(work.c[name] for name in names)).where(
            work.c.job_id == self._job, work.c.place > first, work.c.place <= first + count
        )
        cursor = self._store.connection.execute(query.order_by(work.c.place)).cursor
        rows = cursor.fetchall() if cursor else []
        if not rows:
            return None
        addresses, special, *columns = zip(*rows, strict=True)
        if any(special):
            return None
        which = self._places(addresses, wanted, anew=not first)
        nothing = dict.fromkeys(("held", "sent", "pin"), (None,) * len(rows))
        own_columns = {**nothing, **dict(zip(names, columns, strict=True))}
        return PooledAnswers(own_columns, self._pool, which, POOLED_READERS)

    def _places(self, addresses: Sequence[int], wanted: AbstractSet[str], *, anew: bool) -> list[int]:
        """The indexes of addresses in the pool, when all of them are in it. anew: nothing in it counts."""
        if anew or self._pool_of != wanted or len(self._in_pool) > POOLED:
            self._pool_of = wanted
            self._pool = AnswerPool(READERS)
            self._in_pool = {}
        if missing := set(addresses).difference(self._in_pool):
            names, rows = self._of_addresses(sorted(missing), wanted)
            places = range(self._pool.count, self._pool.count + len(rows))
            self._in_pool.update(zip([row[-1] for row in rows], places, strict=True))
            self._pool.add(names, [row[:-1] for row in rows])
        return list(map(self._in_pool.__getitem__, addresses))

    def _of_addresses(self, numbers: Sequence[int], wanted: AbstractSet[str]) -> tuple[list[str], Sequence[Any]]:
        """The answers for addresses, each row with its number at the end, and the names of its other columns."""
        columns: dict[str, ColumnElement[Any]] = {
            name: answer.c[name]
            for name in Answer._fields
            if name in answer.c and (name in wanted or name not in TEXTS) and name not in OF_RECORD
        }
        columns |= self._reply_columns(wanted)
        columns["outcome"] = func.coalesce(answer.c.outcome, Outcome.WAITING.value)
        if "reasons" in wanted:
            why = select(func.max(question.c.left_open)).where(question.c.address_id == address.c.id)
            columns["reasons"] = func.coalesce(answer.c.reasons, why.scalar_subquery(), literal("[]"))
        if "address" in wanted:
            columns["address"] = address.c.parts
        judged = and_(answer.c.job_id == self._job, answer.c.address_id == address.c.id)
        query = (
            select(*columns.values(), address.c.id)
            .select_from(address.outerjoin(answer, judged))
            .where(address.c.id.op("IN")(NumbersOf(json.dumps(numbers))))
        )
        cursor = self._store.connection.execute(query).cursor
        return list(columns), cursor.fetchall() if cursor else []

    def _reply_columns(self, wanted: AbstractSet[str]) -> dict[str, ColumnElement[Any]]:
        return {
            name: select(value).where(reply.c.id == answer.c.reply_id).scalar_subquery()
            for name, value in OF_REPLY.items()
            if name in wanted
        }

    def _columns(self, wanted: AbstractSet[str]) -> tuple[dict[str, ColumnElement[Any]], FromClause]:
        """The columns of an Answer, long texts only if they are wanted, and the tables that they come from."""
        columns: dict[str, ColumnElement[Any]] = {
            name: table.c[name]
            for table in (answer, work)
            for name in Answer._fields
            if name in table.c and (name in wanted or name not in TEXTS)
        }
        columns |= self._reply_columns(wanted)
        columns["outcome"] = case(
            (IS_ASKED, func.coalesce(answer.c.outcome, Outcome.WAITING.value)),
            else_=work.c.state,
        )
        columns["pin"] = work.c.pin_id
        if "reasons" in wanted:
            why = select(func.max(question.c.left_open)).where(question.c.address_id == work.c.address_id)
            open_ = and_(IS_ASKED, answer.c.reasons.is_(None))
            columns["reasons"] = case(
                (open_, func.coalesce(why.scalar_subquery(), work.c.reasons)),
                else_=func.coalesce(answer.c.reasons, work.c.reasons),
            )
        judged = and_(answer.c.job_id == self._job, answer.c.address_id == work.c.address_id, IS_ASKED)
        source = work.outerjoin(answer, judged)
        if "address" in wanted:
            columns["address"] = address.c.parts
            source = source.join(address, address.c.id == work.c.address_id)
        return columns, source
