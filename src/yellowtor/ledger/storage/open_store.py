"""Opens a ledger in whichever database it is."""

from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.contracts.clock import Clock
from yellowtor.ledger.storage.store import Store

if TYPE_CHECKING:
    from yellowtor.ledger.storage.postgres import Server


def open_store(where: "Path | Server", clock: Clock) -> Store:
    """Open the ledger. Raises LedgerTrouble."""
    if isinstance(where, Path):
        from yellowtor.ledger.storage.sqlite import SqliteStore

        return SqliteStore(where, clock)
    from yellowtor.ledger.storage.postgres import PostgresStore

    return PostgresStore(where, clock)
