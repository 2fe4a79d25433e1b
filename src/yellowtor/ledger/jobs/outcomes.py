"""How many records of a job ended how, by which service, and why they are doubtful."""

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Subquery, and_, func, select

from yellowtor.answers.ledger_rows import CauseCount, WorkState
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.subject import Subject, read_subject
from yellowtor.ledger.jobs.judged_rows import OF_STATE, OUTCOMES
from yellowtor.ledger.jobs.states import count_states
from yellowtor.ledger.storage.schema import address, answer, reply, work
from yellowtor.ledger.storage.store import Store

IS_ASKED = work.c.state == WorkState.ASK.value


class SqlOutcomeBook:
    """Counts of one job; nothing is kept."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store = store
        self._job = job_id

    def counts(self) -> Mapping[Outcome, int]:
        """The number of scanned records in each outcome."""
        states = count_states(self._store, self._job)
        counts = Counter({OF_STATE[state]: count for state, count in states.items() if state in OF_STATE})
        asked = self._asked()
        judged = and_(answer.c.job_id == self._job, answer.c.address_id == asked.c.address_id)
        outcome = func.coalesce(answer.c.outcome, Outcome.WAITING.value)
        by_outcome = select(outcome, func.sum(asked.c.records)).select_from(asked.outerjoin(answer, judged))
        for name, count in self._store.connection.execute(by_outcome.group_by(outcome)):
            counts[OUTCOMES[name]] += int(count)
        return +counts

    def placed_by(self) -> dict[str, int]:
        """How many records of the scan each service has placed, by its name."""
        asked = self._asked()
        judged = and_(
            answer.c.job_id == self._job,
            answer.c.address_id == asked.c.address_id,
            answer.c.outcome == Outcome.PLACED.value,
        )
        query = select(reply.c.service, func.sum(asked.c.records)).select_from(
            asked.join(answer, judged).join(reply, reply.c.id == answer.c.reply_id)
        )
        return {row[0]: int(row[1]) for row in self._store.connection.execute(query.group_by(reply.c.service))}

    def causes(self) -> Sequence[CauseCount]:
        """The causes of doubt, the one with the most records first, each with the first record of an address.

        That address has the least key: the same one in every ledger.
        """
        asked = self._asked()
        judged = and_(
            answer.c.job_id == self._job,
            answer.c.address_id == asked.c.address_id,
            answer.c.outcome == Outcome.DOUBTFUL.value,
        )
        records = func.sum(asked.c.records)
        there = asked.join(answer, judged).join(address, address.c.id == answer.c.address_id)
        query = select(answer.c.cause, records, func.min(address.c.key)).select_from(there)
        query = query.group_by(answer.c.cause).order_by(records.desc(), answer.c.cause)
        found: Sequence[Any] = self._store.connection.execute(query).all()
        return [CauseCount(cause, int(count), *self._first_record(key)) for cause, count, key in found]

    def _first_record(self, address_key: str) -> tuple[str, Subject]:
        """The key and the address of the first record with this address."""
        mine = and_(work.c.job_id == self._job, IS_ASKED, work.c.pin_id.is_(None), address.c.key == address_key)
        there = work.join(address, address.c.id == work.c.address_id)
        query = select(work.c.key, address.c.parts).select_from(there).where(mine).order_by(work.c.place)
        key, parts = self._store.connection.execute(query.limit(1)).one()
        return key, read_subject(parts)

    def _asked(self) -> Subquery:
        """The addresses that are asked about, and how many records have each."""
        asks = and_(work.c.job_id == self._job, IS_ASKED, work.c.pin_id.is_(None))
        query = select(work.c.address_id, func.count().label("records")).where(asks)
        return query.group_by(work.c.address_id).subquery()
