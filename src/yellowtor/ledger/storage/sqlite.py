"""A ledger in an SQLite file: durable, private, and of our version. A write begins IMMEDIATE, so that two processes
never wait for each other in a circle.
"""

import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, nullcontext
from pathlib import Path

from filelock import FileLock, Timeout
from sqlalchemy import create_engine, func, select
from sqlalchemy.pool import NullPool

from yellowtor.contracts.clock import Clock
from yellowtor.errors import LedgerTrouble
from yellowtor.ledger.storage.schema import KEPT_TABLES, VERSION, metadata, request, work
from yellowtor.ledger.storage.store import Running, Store, check_version

APPLICATION = 0x59544F52  # in the file's header (SQLite's application_id): "YTOR"
CACHED = -16_000  # KiB
MANY_CACHED = -64_000  # while many new records come: their keys go all over the indexes
PRAGMAS = (
    "journal_mode=WAL",
    "synchronous=FULL",
    "foreign_keys=ON",
    f"cache_size={CACHED}",
    "wal_autocheckpoint=16000",
)
LARGE = 100_000  # records
LATER = next(index for index in work.indexes if index.name == "work_state")
NETWORK = {"nfs", "nfs4", "cifs", "smb3", "smbfs", "fuse.sshfs", "afs"}


TABLES = "SELECT name FROM sqlite_master WHERE type = 'table'"
OURS = {"job", "run", "request", "reply"}  # tables of every ledger, also of one from before it said whose it is
FOREIGN = 'is a database of another program, and no ledger. Name another file: ledger = "…" in the job.'


def _is_ours(application: int, version: int, tables: Sequence[str]) -> bool:
    """Whether an SQLite database is a ledger or empty, by its header and the names of its tables."""
    if application == APPLICATION or not (application or version or tables):
        return True
    return not application and version > 0 and OURS.issubset(tables)


class SqliteStore(Store):
    """Raises LedgerTrouble when it can't be opened."""

    index_first = "+"

    def __init__(self, path: Path, clock: Clock) -> None:
        self.path = path
        self.name = str(path)
        self.clock = clock
        self._next_number = 0
        self._numbered_at = -1  # the version of the ledger at which the next number is known
        if (kind := _file_system(path)) in NETWORK:
            raise LedgerTrouble(
                f"The ledger {path} would lie on a network drive ({kind}), where SQLite can't keep its promises. "
                'Name one on a local disk, or a PostgreSQL to share: ledger = "postgresql://…" in the job. '
                "Nothing was sent."
            )
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if not path.exists():
                os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
        except OSError as error:
            raise LedgerTrouble(f"The ledger {path} can't be opened: {error.strerror}. Nothing was sent.") from error
        engine = create_engine(
            f"sqlite:///{path}",
            isolation_level="AUTOCOMMIT",
            poolclass=NullPool,
            connect_args={"check_same_thread": False, "timeout": 60},
        )
        self._connected(engine)
        if not _is_ours(
            self.run("PRAGMA application_id").scalar_one(),
            self.run("PRAGMA user_version").scalar_one(),
            [name for (name,) in self.run(TABLES)],
        ):
            self.close()
            raise LedgerTrouble(f"{path} {FOREIGN} Nothing was sent.")
        self._prepare()

    def _prepare(self) -> None:
        for pragma in PRAGMAS:
            self.run(f"PRAGMA {pragma}")
        with self.transaction():
            version = self.run("PRAGMA user_version").scalar_one()
            check_version(self.name, version)
            if 0 < version < VERSION:
                from yellowtor.ledger.storage.migrations import upgrade

                upgrade(self.connection, version)
            elif not version:
                metadata.create_all(self.connection, tables=KEPT_TABLES)
            LATER.create(self.connection, checkfirst=True)  # after a scan that was cut short
            self.run(f"PRAGMA application_id={APPLICATION}")
            self.run(f"PRAGMA user_version={VERSION}")
        self._make_fleeting()

    def _begin(self, locks: Sequence[str]) -> None:  # noqa: ARG002 - one writes at a time
        self.run("BEGIN IMMEDIATE")

    def request_numbers(self, count: int) -> Sequence[int]:
        if self._numbered_at != (version := self.changes()):
            newest = self.connection.execute(select(func.max(request.c.id))).scalar_one() or 0
            self._next_number = newest + 1
            self._numbered_at = version
        first = self._next_number
        self._next_number += count
        return range(first, self._next_number)

    def before_many_records(self) -> None:
        """Drop an index whose order is not theirs, unless it is large: to make it afterwards takes a third."""
        self.run(f"PRAGMA cache_size={MANY_CACHED}")
        with self.transaction():
            if self.run("SELECT count(*) FROM (SELECT 1 FROM work LIMIT ?)", [LARGE]).scalar_one() < LARGE:
                LATER.drop(self.connection, checkfirst=True)

    def after_many_records(self) -> None:
        with self.transaction():
            LATER.create(self.connection, checkfirst=True)
        self.run(f"PRAGMA cache_size={CACHED}")

    def _roll_back(self) -> None:
        self._numbered_at = -1
        if self.connection.connection.dbapi_connection.in_transaction:  # type: ignore[union-attr]
            self.run("ROLLBACK")

    def changes(self) -> int:
        """SQLite's own count of what other connections wrote."""
        return int(self.run("PRAGMA data_version").scalar_one())

    @contextmanager
    def job_in_hand(self, job_id: int) -> Iterator[bool]:
        path = f"{self.path}.job-{job_id}.lock"
        lock = FileLock(path, timeout=0, mode=self.path.stat().st_mode & 0o777)  # for everyone who may use the ledger
        try:
            lock.acquire()
        except Timeout:
            yield False
            return
        except OSError as error:
            raise LedgerTrouble(
                f"The lock {path} can't be used: {(error.strerror or str(error)).lower()}. If it is another user's, "
                "have them allow you to write it, or delete it while no run goes on. Nothing was sent."
            ) from error
        try:
            yield True
        finally:
            lock.release()

    @contextmanager
    def scrubbing(self) -> Iterator[None]:
        self.run("PRAGMA secure_delete=ON")
        try:
            yield
        finally:
            self.run("PRAGMA secure_delete=OFF")
            self.run("PRAGMA wal_checkpoint(TRUNCATE)")

    def is_alive(self, run: Running) -> bool:
        """As long as its job is in somebody's hand."""
        with self.job_in_hand(run.job_id) as free:
            return not free

    def beating(self, run_id: int) -> nullcontext[None]:  # noqa: ARG002 - the job's lock tells
        return nullcontext()


def look_at(path: Path) -> str:
    """How a ledger is, in words, without touching it. Raises LedgerTrouble."""
    if not path.exists():
        there = next(folder for folder in path.absolute().parents if folder.exists())
        if not os.access(there, os.W_OK):
            raise LedgerTrouble(f"The ledger {path} can't be made: {there} can't be written to.")
        return f"{path}, created by the first run"
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)) as connection:
            (version,) = connection.execute("PRAGMA user_version").fetchone()
            (application,) = connection.execute("PRAGMA application_id").fetchone()
            tables = [name for (name,) in connection.execute(TABLES)]
            (whole,) = connection.execute("PRAGMA quick_check(1)").fetchone()
    except sqlite3.Error as error:
        raise LedgerTrouble(f"The ledger {path} can't be read: {error}.") from error
    if not _is_ours(application, version, tables):
        raise LedgerTrouble(f"{path} {FOREIGN}")
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
