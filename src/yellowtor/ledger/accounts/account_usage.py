"""What the ledger tells of an account: what its windows have left, and its requests by day, job and kind of reply."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from sqlalchemy import func, select

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Budget
from yellowtor.allowance.windows import Left, Window
from yellowtor.answers.ledger_rows import Charged, Used
from yellowtor.contracts.clock import Clock
from yellowtor.ledger.accounts.account import Accounts
from yellowtor.ledger.accounts.service_account import AccountTerms, ServiceAccount
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.open_store import open_to_read
from yellowtor.ledger.storage.schema import asking, job, question, request, run
from yellowtor.ledger.storage.store import Store

if TYPE_CHECKING:
    from yellowtor.ledger.storage.server import Server

PAGE = 2_000
CHARGED = (
    request.c.id,
    request.c.reserved_at,
    request.c.settled_at,
    request.c.account,
    asking.c.service,
    job.c.path,
    run.c.who,
    run.c.host,
    request.c.attempt,
    request.c.state,
    request.c.kind,
    request.c.units,
    request.c.cost,
    request.c.took_ms,
)
WHOSE = (
    request.join(run, run.c.id == request.c.run_id)
    .join(job, job.c.id == run.c.job_id)
    .outerjoin(question, question.c.key == request.c.question_key)
    .outerjoin(asking, asking.c.id == question.c.asking_id)
)


class SqlUsageBook:
    """Reads; nothing is kept."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store = store
        self._job = job_id

    def left(self, account: str, windows: Sequence[Window], now: datetime) -> Sequence[Left]:
        """What each window of the account still allows."""
        terms = AccountTerms("", "", account, Pace(None), windows)
        looked_at = ServiceAccount(terms, Accounts(self._store, self._job), self._store, Budget())
        looked_at.renew()
        return looked_at.lefts(now)

    def used(self, account: str, since: datetime) -> Sequence[Used]:
        """Its requests that left since then, by day (UTC), job and kind, in this order; 'reserved' is one in flight."""
        day = func.substr(request.c.reserved_at, 1, 10)
        kind = func.coalesce(func.nullif(request.c.kind, ""), request.c.state)
        query = (
            select(day, job.c.path, kind, func.sum(request.c.units), func.sum(request.c.cost))
            .select_from(request.join(run, run.c.id == request.c.run_id).join(job, job.c.id == run.c.job_id))
            .where(request.c.account == account, request.c.reserved_at >= stamp(since), request.c.state != "released")
        )
        rows = self._store.connection.execute(query.group_by(day, job.c.path, kind).order_by(day, job.c.path, kind))
        return [Used(*row[:3], int(row[3]), int(row[4])) for row in rows]

    def requests(self, accounts: Sequence[str]) -> Iterator[Sequence[Charged]]:
        """The record of every request to these accounts that left, in pages, in the order of their reservation."""
        query = (
            select(*CHARGED)
            .select_from(WHOSE)
            .where(request.c.account.in_(accounts), request.c.state != "released")
            .order_by(request.c.id)
        )
        last = 0
        while page := self._store.connection.execute(query.where(request.c.id > last).limit(PAGE)).all():
            last = page[-1][0]
            yield [Charged._make(row[1:]) for row in page]


@contextmanager
def open_usage(where: "Path | Server", whose: str | Path, clock: Clock) -> Iterator[SqlUsageBook]:
    """Open the ledger of a job to read it, while runs may use it. Raises LedgerTrouble."""
    with open_to_read(where, whose, clock) as (store, job_id):
        yield SqlUsageBook(store, job_id)
