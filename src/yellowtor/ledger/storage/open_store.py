"""Opens a ledger in whichever database it is."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from sqlalchemy import select

from yellowtor.contracts.clock import Clock
from yellowtor.ledger.storage.schema import job
from yellowtor.ledger.storage.store import Store

if TYPE_CHECKING:
    from yellowtor.ledger.storage.server import Server


def open_store(where: "Path | Server", clock: Clock) -> Store:
    """Open the ledger. Raises LedgerTrouble."""
    if isinstance(where, Path):
        from yellowtor.ledger.storage.sqlite import SqliteStore

        return SqliteStore(where, clock)
    from yellowtor.ledger.storage.postgres import PostgresStore

    return PostgresStore(where, clock)


@contextmanager
def open_to_read(where: "Path | Server", whose: str | Path, clock: Clock) -> Iterator[tuple[Store, int]]:
    """The ledger and the number of a job in it (0: it has none), to read while runs use it. Raises LedgerTrouble."""
    store = open_store(where, clock)
    try:
        known = store.connection.execute(select(job.c.id).where(job.c.path == str(whose))).scalar()
        yield store, known or 0
    finally:
        store.close()
