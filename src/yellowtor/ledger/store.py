"""Opening the SQLite file of a ledger: durable, private, and of our version.

One connection, used by one thread at a time. A write is a transaction that begins IMMEDIATE, so that two
processes never wait for each other in a circle.
"""

import os
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from pathlib import Path

from sqlalchemy import Connection, Table, create_engine
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlalchemy.pool import NullPool

from yellowtor.errors import LedgerTrouble
from yellowtor.ledger.schema import FLEETING, KEPT_TABLES, VERSION, metadata

MOST_VALUES = 30_000  # SQLite takes 32,766 in one statement
PRAGMAS = ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "cache_size=-16000", "wal_autocheckpoint=4000")
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
        for pragma in PRAGMAS:
            self.connection.exec_driver_sql(f"PRAGMA {pragma}")
        with self.transaction():
            version = self.connection.exec_driver_sql("PRAGMA user_version").scalar_one()
            if version > VERSION:
                raise LedgerTrouble(
                    f"The ledger {self.path} has version {version}; this Yellowtor knows those up to {VERSION}. "
                    "Use the Yellowtor that wrote it, or name another ledger in the job. It was not touched."
                )
            if 0 < version < VERSION:
                from yellowtor.ledger.migrations import upgrade

                upgrade(self.connection, version)
            else:
                metadata.create_all(self.connection, tables=KEPT_TABLES)
            self.connection.exec_driver_sql(f"PRAGMA user_version={VERSION}")
        metadata.create_all(self.connection, tables=FLEETING, checkfirst=False)

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


class ManyRows:
    """An insert of many rows in one step of the database.

    The event loop and the ledger's thread share the interpreter, and every step is a hand-over: a step for
    each row costs more than all the rows.
    """

    def __init__(self, table: Table, columns: Sequence[str]) -> None:
        self._columns = columns
        self._head = f"INSERT INTO {table.name} ({', '.join(columns)}) VALUES "  # noqa: S608 - our own names
        self._row = f"({', '.join('?' * len(columns))})"

    def insert(self, connection: Connection, rows: Sequence[Mapping[str, object]]) -> None:
        """Insert the rows; each has a value for every column."""
        for page in batched(rows, MOST_VALUES // len(self._columns)):
            values = tuple(row[name] for row in page for name in self._columns)
            connection.exec_driver_sql(self._head + ", ".join([self._row] * len(page)), values)


def batched(rows: Sequence[Mapping[str, object]], size: int) -> Iterator[Sequence[Mapping[str, object]]]:
    return (rows[at : at + size] for at in range(0, len(rows), size))


def look_at(path: Path) -> str:
    """How a ledger is, in words, without touching it. Raises LedgerTrouble."""
    if not path.exists():
        there = next(folder for folder in path.absolute().parents if folder.exists())
        if not os.access(there, os.W_OK):
            raise LedgerTrouble(f"The ledger {path} can't be made: {there} can't be written to.")
        return f"{path}, made by the first run"
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)) as connection:
            (version,) = connection.execute("PRAGMA user_version").fetchone()
            (whole,) = connection.execute("PRAGMA quick_check(1)").fetchone()
    except sqlite3.Error as error:
        raise LedgerTrouble(f"The ledger {path} can't be read: {error}.") from error
    if version > VERSION or whole != "ok":
        why = f"it has version {version}, and this Yellowtor knows those up to {VERSION}" if whole == "ok" else whole
        raise LedgerTrouble(f"The ledger {path} can't be used: {why}.")
    return f"{path}, {path.stat().st_size / 2**20:.1f} MiB"


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
