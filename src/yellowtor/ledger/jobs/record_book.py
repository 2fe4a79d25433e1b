"""What the ledger knows of single records: their answers, requests and replies, and the pinned ones. It only reads."""

from collections.abc import Iterator, Sequence
from itertools import chain
from typing import TYPE_CHECKING

from sqlalchemy import and_, select

from yellowtor.answers.decisions import Correction, PinnedSubject
from yellowtor.answers.ledger_rows import RequestMade, WorkState
from yellowtor.answers.record_answers import Answer
from yellowtor.answers.replies.reply import Reply
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import read_subject
from yellowtor.ledger.accounts.requests import kept_reply_to
from yellowtor.ledger.jobs.corrections import corrections_of
from yellowtor.ledger.jobs.judging import SqlJudgeBook
from yellowtor.ledger.storage.schema import address, answer, pin, request, work
from yellowtor.ledger.storage.store import Store

if TYPE_CHECKING:
    pass

MADE = (request.c.reserved_at, request.c.attempt, request.c.state, request.c.kind, request.c.took_ms)


class SqlRecordBook:
    """Single records of one job."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store = store
        self._job = job_id

    def answer(self, key: str) -> Answer | None:
        """How the record with this key stands; None if the ledger does not know it."""
        wanted = {"matched", "reasons", "level", "basis", "service", "asked_at", "parts"}
        return SqlJudgeBook(self._store, self._job, {}).answers([key], wanted).get(key)

    def others(self, key: str) -> tuple[int, float]:
        """What the job's other records say of the answer to the record with this key; zeros if nothing."""
        mine = and_(answer.c.job_id == self._job, answer.c.address_id == work.c.address_id)
        query = select(answer.c.streets, answer.c.away_m).select_from(work.join(answer, mine))
        found = self._store.connection.execute(query.where(work.c.job_id == self._job, work.c.key == key)).first()
        return (found[0], found[1]) if found else (0, 0.0)

    def requests(self, question_key: str) -> Sequence[RequestMade]:
        """The requests about a question, the first one first."""
        query = select(*MADE).where(request.c.question_key == question_key).order_by(request.c.id)
        return [RequestMade._make(row) for row in self._store.connection.execute(query)]

    def kept(self, question_key: str) -> tuple[Reply, str] | None:
        """The kept reply to this question and when it came, if there is one."""
        return kept_reply_to(self._store, question_key)

    def pinned(self) -> Iterator[PinnedSubject]:
        """The records of the job that a person has decided about, each address once."""
        there = work.join(address, address.c.id == work.c.address_id)
        own = and_(pin.c.job_id == self._job, pin.c.key == work.c.key)
        mine = (work.c.job_id == self._job) & (work.c.state != WorkState.VANISHED.value)
        columns = (work.c.key, address.c.parts, pin.c.lat, pin.c.lon)
        queries = (
            select(*columns).select_from(there.join(pin, on)).where(mine).order_by(work.c.place)
            for on in (own, pin.c.address_key == address.c.key)
        )
        met = set()
        for key, parts, lat, lon in chain.from_iterable(map(self._store.connection.execute, queries)):
            if parts not in met:
                met.add(parts)
                yield PinnedSubject(key, read_subject(parts), None if lat is None else Position(lat, lon))

    def correction(self, address_key: str) -> Correction | None:
        """How a person has corrected this address."""
        return next(iter(corrections_of(self._store.connection, [address_key])), None)
