"""Opening the SQLite file of a ledger: durable, private, and of our version.

One connection, used by one thread at a time. A write is a transaction that begins IMMEDIATE, so that two
processes never wait for each other in a circle.
"""

import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import ClauseElement, Connection, create_engine
from sqlalchemy.dialects import sqlite
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlalchemy.pool import NullPool

from yellowtor.errors import LedgerTrouble
from yellowtor.ledger.schema import KEPT_TABLES, VERSION, metadata, open_question, scanned

NETWORK = {"nfs", "nfs4", "cifs", "smb3", "smbfs", "fuse.sshfs", "afs"}


class Store:
    """An open ledger file. Raises LedgerTrouble when it can't be opened."""

    def __init__(self, path: Path) -> None:
        self.path = path
        if (kind := _file_system(path)) in NETWORK:
            raise LedgerTrouble(
                f"The ledger {path} would lie on a network drive ({kind}), where SQLite can't keep its promises. "
                'Name one on a local disk: ledger = "…" in the job. Nothing was sent.'
            )
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if not path.exists():
                os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
            engine = create_engine(
                f"sqlite:///{path}", isolation_level="AUTOCOMMIT", poolclass=NullPool,
                connect_args={"check_same_thread": False, "timeout": 60},
            )  # fmt: skip
            self.connection: Connection = engine.connect()
            self._prepare()
        except OSError as error:
            raise LedgerTrouble(f"The ledger {path} can't be opened: {error.strerror}. Nothing was sent.") from error
        except DBAPIError as error:
            raise LedgerTrouble(f"The ledger {path} can't be opened: {error.orig}. Nothing was sent.") from error

    def _prepare(self) -> None:
        for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "cache_size=-16000"):
            self.connection.exec_driver_sql(f"PRAGMA {pragma}")
        with self.transaction():
            version = self.connection.exec_driver_sql("PRAGMA user_version").scalar_one()
            if version not in (0, VERSION):
                raise LedgerTrouble(
                    f"The ledger {self.path} has version {version}; this Yellowtor knows version {VERSION}. "
                    "Use the Yellowtor that wrote it, or name another ledger in the job. It was not touched."
                )
            metadata.create_all(self.connection, tables=KEPT_TABLES)
            self.connection.exec_driver_sql(f"PRAGMA user_version={VERSION}")
        metadata.create_all(self.connection, tables=[scanned, open_question], checkfirst=False)

    @contextmanager
    def transaction(self) -> Iterator[Connection]:
        """Everything in the body, durably, or nothing. Raises LedgerTrouble when the database can't."""
        try:
            self.connection.exec_driver_sql("BEGIN IMMEDIATE")
            try:
                yield self.connection
                self.connection.exec_driver_sql("COMMIT")
            except BaseException:
                if self.connection.connection.dbapi_connection.in_transaction:  # type: ignore[union-attr]
                    self.connection.exec_driver_sql("ROLLBACK")
                raise
        except IntegrityError:
            raise  # whoever put the row in knows what it means
        except DBAPIError as error:
            raise LedgerTrouble(
                f"The ledger {self.path} can't be written: {error.orig}. What was committed before is safe."
            ) from error

    def close(self) -> None:
        self.connection.close()


class Many:
    """A Core statement for many rows, compiled once and given to the driver as it is.

    Building each row's parameters anew is half of what a reservation costs otherwise.
    """

    def __init__(self, statement: ClauseElement, columns: Sequence[str] | None = None) -> None:
        compiled = statement.compile(dialect=sqlite.dialect(), column_keys=columns)
        self._text = str(compiled)
        self._names = compiled.positiontup or []  # type: ignore[attr-defined]

    def execute(self, connection: Connection, rows: Sequence[Mapping[str, object]]) -> None:
        """Carry the statement out for each row: a value for each of its names."""
        if rows:
            connection.exec_driver_sql(self._text, [tuple(row[name] for name in self._names) for row in rows])


def _file_system(path: Path) -> str:
    """The kind of file system that path lies on, where Linux tells; else empty."""
    try:
        mounts = Path("/proc/self/mounts").read_text(encoding="utf-8").splitlines()
    except OSError:
        return ""
    place = str(path.absolute())
    fields = [line.split() for line in mounts]
    holding = [(len(f[1]), f[2]) for f in fields if place.startswith(f[1].rstrip("/") + "/")]
    return max(holding, default=(0, ""))[1]
