"""What the ledger tells of an account: what its windows have left, and its requests by day, job and kind of reply."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path

from sqlalchemy import func, select

from yellowtor.allowance.windows import Left, Window
from yellowtor.answers.work import Used
from yellowtor.ledger.schema import job, request, run
from yellowtor.ledger.store import Store
from yellowtor.ledger.windows import left_of, stamp, uses


class UsageBook:
    """Reads; nothing is kept."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def left(self, account: str, windows: Sequence[Window], now: datetime) -> Sequence[Left]:
        """What each window of the account still allows."""
        return [left_of(use, now) for use in uses(windows, account, self._store.connection, now)]

    def used(self, account: str, since: datetime) -> Sequence[Used]:
        """Its requests that left since then, by day (UTC), job and kind, in this order; 'reserved' is one in flight."""
        day, kind = (
            func.substr(request.c.reserved_at, 1, 10),
            func.coalesce(func.nullif(request.c.kind, ""), request.c.state),
        )
        query = select(day, job.c.path, kind, func.sum(request.c.units), func.sum(request.c.cost)).select_from(
            request.join(run, run.c.id == request.c.run_id).join(job, job.c.id == run.c.job_id)
        ).where(
            request.c.account == account, request.c.reserved_at >= stamp(since), request.c.state != "released"
        )  # fmt: skip
        rows = self._store.connection.execute(query.group_by(day, job.c.path, kind).order_by(day, job.c.path, kind))
        return [Used(*row) for row in rows]


@contextmanager
def open_usage(path: Path) -> Iterator[UsageBook]:
    """Open the ledger to look at it; runs may go on meanwhile. Raises LedgerTrouble."""
    store = Store(path)
    try:
        yield UsageBook(store)
    finally:
        store.close()
