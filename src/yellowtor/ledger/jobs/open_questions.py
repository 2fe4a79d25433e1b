"""The questions of a job that are open to a service: collected from indexes, read in the job's order."""

from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from typing import Any

from sqlalchemy import ColumnElement, Select, Subquery, and_, func, insert, select

from yellowtor.answers.ledger_rows import ALL_ADDRESSES, Addresses, Question, Turn, WorkState
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.subject import read_subject
from yellowtor.ledger.storage.schema import address, answer, candidates, open_question, question, reply, work
from yellowtor.ledger.storage.store import Store

PAGE = 1_000
IS_ASKED = work.c.state == WorkState.ASK.value
FINAL = [kind.value for kind in Kind if kind.is_answer]


class SqlQuestionBook:
    """The open questions of one job. askings are the ledger's numbers of how services are asked, by their names.

    A run may ask about some addresses only, while others ask about the rest.
    """

    def __init__(
        self, store: Store, job_id: int, askings: Mapping[str, int], addresses: Addresses = ALL_ADDRESSES
    ) -> None:
        self._addresses = addresses
        self._store = store
        self._job = job_id
        self._askings = askings
        self._collected: tuple[int, Turn, str] | None = None  # in which session, and for whom

    def collect(self, turn: Turn, *, failed_before: str = "") -> tuple[int, int]:
        """Collect the questions that are open to a service, in the job's order; how many are, and how many are not.

        Those are, too, to which a reply came before an instant (ISO 8601, UTC) that is none by today's reading rules.

        First which are open, from indexes alone; then, for those only, who asks and in which order.
        """
        asks = and_(work.c.job_id == self._job, IS_ASKED, work.c.pin_id.is_(None))
        if self._addresses != ALL_ADDRESSES:
            above, up_to = self._addresses
            asks = and_(asks, work.c.address_id > above, work.c.address_id <= up_to)
        mine = select(work.c.address_id).distinct().where(asks).subquery()
        opened = self._opened(mine, turn, failed_before=failed_before)
        who = (
            select(func.min(work.c.place), question.c.id, func.count())
            .select_from(question.join(work, work.c.address_id == question.c.address_id))
            .where(asks, question.c.id.in_(opened))
            .group_by(question.c.id)
        )
        self._collected = (self._store.session, turn, failed_before)
        with self._store.transaction([f"questions {self._job} {self._addresses.above}"]) as connection:
            connection.execute(open_question.delete())
            connection.execute(insert(open_question).from_select(["n", "question_id", "records"], who))
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

    def all(self) -> Iterator[Question]:
        """The open questions in the job's order, read a page at a time."""
        last = 0
        while page := self._store.persist(partial(self._page, last)):
            last = page[-1][0]
            yield from (Question(key, read_subject(text), records) for _, key, text, records in page)

    def _page(self, last: int) -> Sequence[Any]:
        """Those after a place; collected anew where they were lost with the connection."""
        if self._collected and self._collected[0] != self._store.session:
            self.collect(self._collected[1], failed_before=self._collected[2])
        there = open_question.join(question, question.c.id == open_question.c.question_id)
        columns = (open_question.c.n, question.c.key, address.c.parts, open_question.c.records)
        query = select(*columns).select_from(there.join(address, address.c.id == question.c.address_id))
        query = query.where(open_question.c.n > last).order_by(open_question.c.n).limit(PAGE)
        return self._store.connection.execute(query).all()
