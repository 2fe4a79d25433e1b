"""The addresses of a job that need a person: grouped by cause, those with the most records first."""

from array import array
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from sqlalchemy import ColumnElement, Subquery, and_, case, func, select

from yellowtor.addresses.keys import digest
from yellowtor.answers.ledger_rows import WorkState
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.review import ReviewGroup, ReviewRow
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import read_subject
from yellowtor.ledger.accounts.requests import kept_reply_to
from yellowtor.ledger.jobs.judged_rows import OUTCOMES
from yellowtor.ledger.storage.schema import address, answer, correction, pin, work
from yellowtor.ledger.storage.store import Store
from yellowtor.ledger.storage.stored_text import read_reasons

if TYPE_CHECKING:
    pass

PAGE = 500
IS_ASKED = work.c.state == WorkState.ASK.value


class SqlReviewBook:
    """What is to be reviewed of one job; it only reads."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store = store
        self._job = job_id

    @property
    def is_known(self) -> bool:
        """Whether a run has read the job's records."""
        query = select(work.c.id).where(work.c.job_id == self._job).limit(1)
        return self._store.connection.execute(query).first() is not None

    def groups(self, outcomes: Sequence[Outcome]) -> Sequence[ReviewGroup]:
        """Records with one outcome, one cause and answers of one level; the largest group first."""
        open_ = self._open(outcomes, *self._undecided())
        by = (open_.c.outcome, open_.c.cause, open_.c.level)
        records = func.sum(open_.c.records)
        query = select(*by, func.count(), records).group_by(*by).order_by(*_rank(open_, outcomes), records.desc(), *by)
        rows = self._store.connection.execute(query)
        return [
            ReviewGroup(number, OUTCOMES[row[0]], row[1], row[2], row[3], int(row[4]))
            for number, row in enumerate(rows)
        ]

    def rows(self, outcomes: Sequence[Outcome], groups: Sequence[ReviewGroup]) -> Iterator[ReviewRow]:
        """Every address of these groups, in their order; in each the one with the most records first."""
        open_ = self._open(outcomes, *self._undecided())
        for group in groups:
            mine = and_(
                open_.c.outcome == group.outcome.value, open_.c.cause == group.cause, open_.c.level == group.level
            )
            query = select(open_.c.address_id).where(mine).order_by(open_.c.records.desc(), open_.c.place)
            numbers = array("q", self._store.connection.execute(query).scalars())
            for at in range(0, len(numbers), PAGE):
                page = {row.number: row for row in self._page(numbers[at : at + PAGE].tolist(), group.number)}
                yield from (page[number] for number in numbers[at : at + PAGE] if number in page)

    def row(self, number: int) -> ReviewRow | None:
        """One address with its answer, whatever its outcome; None if the job has no such address."""
        return next(iter(self._page([number], 0)), None)

    def number_of(self, key: str) -> int | None:
        """The number of the address of a record."""
        query = select(work.c.address_id).where(work.c.job_id == self._job, work.c.key == key)
        return self._store.connection.execute(query).scalar()

    def kept(self, question_key: str) -> tuple[Reply, str] | None:
        """The kept reply to this question and when it came, if there is one."""
        return kept_reply_to(self._store, question_key)

    def _page(self, numbers: Sequence[int], group: int) -> list[ReviewRow]:
        """The addresses with these numbers, whatever their outcomes."""
        open_ = self._open(list(Outcome), work.c.address_id.in_(numbers))
        query = select(
            open_.c.address_id,
            address.c.key,
            address.c.parts,
            work.c.key,
            open_.c.records,
            open_.c.outcome,
            open_.c.cause,
            answer.c.reasons,
            answer.c.lat,
            answer.c.lon,
        ).select_from(
            open_.join(address, address.c.id == open_.c.address_id)
            .join(answer, and_(answer.c.job_id == self._job, answer.c.address_id == open_.c.address_id))
            .join(work, and_(work.c.job_id == self._job, work.c.place == open_.c.place))
        )
        return [_row(row, group) for row in self._store.connection.execute(query)]

    def _open(self, outcomes: Sequence[Outcome], *which: ColumnElement[bool]) -> Subquery:
        """The addresses with these outcomes whose records meet these conditions."""
        asks = and_(work.c.job_id == self._job, IS_ASKED, *which)
        mine = (
            select(work.c.address_id, func.count().label("records"), func.min(work.c.place).label("place"))
            .where(asks)
            .group_by(work.c.address_id)
            .subquery()
        )
        judged = and_(answer.c.job_id == self._job, answer.c.address_id == mine.c.address_id)
        columns = (mine.c.address_id, mine.c.records, mine.c.place, answer.c.outcome, answer.c.cause, answer.c.level)
        wanted = answer.c.outcome.in_([outcome.value for outcome in outcomes])
        return select(*columns).select_from(mine.join(answer, judged)).where(wanted).subquery()

    def _undecided(self) -> Iterator[ColumnElement[bool]]:
        """What holds for records about which nobody has decided, whatever the last run knew of that."""
        yield work.c.key.not_in(select(pin.c.key).where(pin.c.job_id == self._job, pin.c.key.is_not(None)))
        for keys in (pin.c.address_key, correction.c.address_key):
            yield work.c.address_id.not_in(select(address.c.id).join_from(address, keys.table, address.c.key == keys))


def _rank(open_: Subquery, outcomes: Sequence[Outcome]) -> list[Any]:
    """The outcomes in the order in which they are wanted."""
    return [case({outcome.value: at for at, outcome in enumerate(outcomes)}, value=open_.c.outcome)]


def _row(row: Sequence[Any], group: int) -> ReviewRow:
    number, address_key, parts, key, records, outcome, cause, reasons, lat, lon = row
    position = None if lat is None else Position(lat, lon)
    return ReviewRow(
        number,
        digest(address_key)[:8],
        address_key,
        read_subject(parts),
        group,
        key,
        records,
        OUTCOMES[outcome],
        cause,
        read_reasons(reasons),
        position,
    )
