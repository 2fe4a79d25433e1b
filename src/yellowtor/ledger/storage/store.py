"""An open ledger in either database: one connection, used by one thread at a time.

A write is a transaction that waits for conflicting ones, so that what it reads stays valid. SQL texts here are in the
common subset of SQLite and PostgreSQL, with `?` for values.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from itertools import chain
from typing import Any, NamedTuple, TypeVar

from sqlalchemy import BigInteger, Connection, CursorResult, Engine, Table, Text, event
from sqlalchemy.engine import ExceptionContext
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.compiler import SQLCompiler
from sqlalchemy.sql.functions import FunctionElement

from yellowtor.contracts.clock import Clock
from yellowtor.errors import LedgerTrouble
from yellowtor.ledger.storage.schema import FLEETING, VERSION, metadata

T = TypeVar("T")
DAMAGED = ("malformed", "file is not a database", "disk image")  # what SQLite says of a broken file
BACK_S = 60.0  # how long a server that is gone is waited for
COPIED = 200  # rows that are worth a copy of their own
MOST_VALUES = 10_000  # SQLite takes 32,766 in one statement, PostgreSQL 65,535


class Worker(NamedTuple):
    """Who runs: a person's name, the host's, the number of the process; machine tells hosts of one name apart."""

    who: str
    host: str
    process: int
    machine: str = ""


class Running(NamedTuple):
    """A run that has not said that it ended; instants as the ledger keeps them."""

    id: int
    job_id: int
    started_at: str
    seen_at: str
    worker: Worker


class LedgerGone(LedgerTrouble):
    """Raised when the database has dropped the connection: reopen() may bring it back."""


class Store(ABC):
    """An open ledger. `index_first` precedes the column whose index a join uses first."""

    name: str
    connection: Connection
    clock: Clock
    index_first = ""
    shareable = False  # several runs may work on one job
    copies = False  # copy_rows() is quicker than statements with values
    is_open = False  # whole, and ready for use
    session = 0  # raised whenever the connection, and what lives as long as it, is a new one

    @abstractmethod
    def _begin(self, locks: Sequence[str]) -> None:
        """Begin a transaction that has the ledger to itself; or, if it names locks, what is counted under these."""

    @abstractmethod
    def request_numbers(self, count: int) -> Sequence[int]:
        """Numbers for this many new requests; in a transaction. No other connection ever gets the same."""

    @abstractmethod
    def changes(self) -> int:
        """What changes whenever somebody else has written; in a transaction, exactly."""

    @abstractmethod
    def job_in_hand(self, job_id: int) -> AbstractContextManager[bool]:
        """A lock on the job; False if another process has it.

        In a shareable ledger, the table of runs decides instead.
        """

    @abstractmethod
    def is_alive(self, run: Running) -> bool:
        """Whether a run without an end in the ledger is alive."""

    def beating(self, run_id: int) -> AbstractContextManager[None]:
        """Meanwhile the others know that this run is alive."""
        raise NotImplementedError

    def reopen(self, patience_s: float = BACK_S) -> None:  # noqa: ARG002 - a file does not come back
        """Open a connection that was dropped anew; a server that is gone is waited for. Raises LedgerTrouble."""
        raise LedgerTrouble(f"The ledger {self.name} is gone. What was committed before is safe.")

    def close(self) -> None:
        self.connection.close()

    @abstractmethod
    def before_many_records(self) -> None:
        """Called before many new records are stored."""

    @abstractmethod
    def after_many_records(self) -> None:
        """Called when they are."""

    @contextmanager
    def transaction(self, locks: Sequence[str] = ()) -> Iterator[Connection]:
        """Everything in the body, durably, or nothing. Raises LedgerTrouble when the database can't.

        A transaction with locks may run beside others that have none of them in common. It only touches requests,
        replies and tickets of the service that is locked, and what is counted under the other locks.
        """
        self._begin(locks)
        try:
            yield self.connection
            self.connection.exec_driver_sql("COMMIT")
        except BaseException:
            self._roll_back()
            raise

    @abstractmethod
    def _roll_back(self) -> None:
        """Take back what the transaction did, as far as there still is one."""

    def scrubbing(self) -> AbstractContextManager[None]:
        """What is deleted in the body is gone from the disk at its end."""
        raise NotImplementedError

    def run(self, sql: str, values: Sequence[object] = ()) -> CursorResult[Any]:
        """A statement with its values."""
        return self.connection.exec_driver_sql(self._spoken(sql), tuple(values))

    def run_many(self, sql: str, rows: Sequence[Sequence[object]]) -> None:
        """A statement for each row of values."""
        if rows:
            self.connection.exec_driver_sql(self._spoken(sql), [tuple(row) for row in rows])

    def copy_rows(self, many: "ManyRows", rows: Sequence[Sequence[object]], returning: str = "") -> Sequence[Any]:
        """Insert many rows by the quickest way that the database has; these columns of all of them."""
        raise NotImplementedError

    def analyze(self) -> None:  # noqa: B027 - not every database plans by what it has counted
        """Called after many records were put: the database counts what is in its tables."""

    def _spoken(self, sql: str) -> str:
        """The statement as the driver takes it."""
        return sql

    def persist(self, work: Callable[[], T]) -> T:
        """Do something, once more if the connection was dropped meanwhile."""
        try:
            return work()
        except LedgerGone:
            self.reopen()
            return work()

    def _connected(self, engine: Engine) -> None:
        """Use a new connection; its errors become ours."""
        event.listen(engine, "handle_error", self._explain)
        self.connection = engine.connect()
        self.session += 1

    def _make_fleeting(self) -> None:
        metadata.create_all(self.connection, tables=FLEETING, checkfirst=False)
        self.is_open = True

    def _explain(self, context: ExceptionContext) -> None:
        error = context.sqlalchemy_exception
        if isinstance(error, DBAPIError) and not isinstance(error, IntegrityError):  # who put a row in knows those
            raise self._trouble(error) from context.original_exception

    def _trouble(self, error: DBAPIError) -> LedgerTrouble:
        if any(word in driver_message(error) for word in DAMAGED):
            return LedgerTrouble(
                f"The ledger {self.name} is damaged: {driver_message(error)}. Restore a backup, or recover it: "
                f"`sqlite3 {self.name} .recover | sqlite3 new.sqlite`. With a new ledger, what it knew is asked and "
                f"paid again; the answers in your files stay.{'' if self.is_open else ' Nothing was sent.'}"
            )
        if not self.is_open:
            return LedgerTrouble(f"The ledger {self.name} can't be opened: {driver_message(error)}. Nothing was sent.")
        return LedgerTrouble(
            f"The ledger {self.name} can't be used: {driver_message(error)}. What was committed before is safe."
        )


class TextsOf(FunctionElement[str]):
    """The texts of a JSON array, to be looked for with IN: many values as one."""

    type = Text()
    inherit_cache = True


@compiles(TextsOf, "sqlite")
def _in_sqlite(element: TextsOf, compiler: SQLCompiler, **options: Any) -> str:
    return f"(SELECT value FROM json_each({compiler.process(element.clauses, **options)}))"  # noqa: S608


@compiles(TextsOf, "postgresql")
def _in_postgresql(element: TextsOf, compiler: SQLCompiler, **options: Any) -> str:
    return f"(SELECT json_array_elements_text(CAST({compiler.process(element.clauses, **options)} AS json)))"


class NumbersOf(FunctionElement[int]):
    """The integers of a JSON array, likewise."""

    type = BigInteger()
    inherit_cache = True


@compiles(NumbersOf, "sqlite")
def _numbers_in_sqlite(element: NumbersOf, compiler: SQLCompiler, **options: Any) -> str:
    return f"(SELECT value FROM json_each({compiler.process(element.clauses, **options)}))"  # noqa: S608


@compiles(NumbersOf, "postgresql")
def _numbers_in_postgresql(element: NumbersOf, compiler: SQLCompiler, **options: Any) -> str:
    array = f"CAST({compiler.process(element.clauses, **options)} AS json)"
    return f"(SELECT CAST(n AS bigint) FROM json_array_elements_text({array}) AS n)"  # noqa: S608


class ManyRows:
    """An insert of many rows in one step of the database; those that are there already stay, unless again says else.

    The event loop and the ledger's thread share the interpreter, and every step is a hand-over: a step for
    each row costs more than all the rows. there is when a new row, of the table {}, is there already.
    """

    def __init__(
        self, table: Table, columns: Sequence[str], *, again: str = " ON CONFLICT DO NOTHING", there: str = ""
    ) -> None:
        self.table = table.name
        self.columns = columns
        self.again = again
        self.there = there
        self._head = f"INSERT INTO {table.name} ({', '.join(columns)}) VALUES "  # noqa: S608 - our own names
        self._row = f"({', '.join('?' * len(columns))})"

    def insert(self, store: Store, rows: Sequence[Mapping[str, object]]) -> None:
        """Insert the rows; each has a value for every column."""
        self.insert_rows(store, [tuple(row[name] for name in self.columns) for row in rows])

    def insert_rows(self, store: Store, rows: Sequence[Sequence[object]]) -> None:
        """Insert rows whose values are in the order of the columns."""
        if len(rows) >= COPIED and store.copies:
            store.copy_rows(self, rows)
            return
        for page in _in_powers(rows, MOST_VALUES // len(self.columns)):
            store.run(self._statement(page), tuple(chain.from_iterable(page)))

    def inserted(self, store: Store, rows: Sequence[Sequence[object]], returning: str) -> Iterator[Sequence[Any]]:
        """Insert rows; these columns of each that was not there before, or of all of them."""
        if len(rows) >= COPIED and store.copies:
            yield from store.copy_rows(self, rows, ", ".join(f"{self.table}.{name}" for name in returning.split(", ")))
            return
        for page in _in_powers(rows, MOST_VALUES // len(self.columns)):
            statement = f"{self._statement(page)} RETURNING {returning}"
            yield from store.run(statement, tuple(chain.from_iterable(page))).all()

    def _statement(self, page: Sequence[object]) -> str:
        return self._head + ", ".join([self._row] * len(page)) + self.again


def _in_powers(rows: Sequence[T], most: int) -> Iterator[Sequence[T]]:
    """Pages of which each is as long as a power of two: few different statements are prepared, and kept."""
    at = 0
    while at < len(rows):
        size = 1 << min(len(rows) - at, most).bit_length() - 1
        yield rows[at : at + size]
        at += size


def batched(rows: Sequence[T], size: int) -> Iterator[Sequence[T]]:
    return (rows[at : at + size] for at in range(0, len(rows), size))


def driver_message(error: DBAPIError) -> str:
    """What the database says, on one line."""
    lines = [line.strip().rstrip(".") for line in str(error.orig).splitlines() if line.strip()]
    return lines[0] if lines else type(error.orig).__name__


def check_version(name: str, version: int) -> None:
    """Raise LedgerTrouble for a ledger of a newer version."""
    if version > VERSION:
        raise LedgerTrouble(
            f"The ledger {name} has version {version}; this Yellowtor knows those up to {VERSION}. "
            "Use the Yellowtor that wrote it, or name another ledger in the job. It was not touched."
        )
