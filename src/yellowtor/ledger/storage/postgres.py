"""A ledger in a PostgreSQL database, shared by people, jobs and machines: its tables are in the schema `yellowtor`.

A write begins by locking: the whole ledger, or only the names of the accounts that it charges, so that runs with other
accounts write at the same time. Each lock has a turn, which counts its writes: so each connection sees whether another
has written. Pace and windows use the server's clock, which is the same for all.
"""

import logging
import os
import platform
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from time import sleep
from typing import Any

from sqlalchemy import create_engine, update
from sqlalchemy.engine import ExceptionContext
from sqlalchemy.exc import DBAPIError, IntegrityError, NoSuchModuleError, OperationalError, SQLAlchemyError
from sqlalchemy.pool import NullPool

from yellowtor.contracts.clock import Clock
from yellowtor.errors import LedgerTrouble
from yellowtor.ledger.storage.machine import this_machine
from yellowtor.ledger.storage.schema import KEPT_TABLES, VERSION, metadata, run
from yellowtor.ledger.storage.server import Server
from yellowtor.ledger.storage.server_clock import ServerClock
from yellowtor.ledger.storage.store import (
    BACK_S,
    LedgerGone,
    ManyRows,
    Running,
    Store,
    batched,
    check_version,
    driver_message,
)

BEAT_S = 5.0  # between two signs of life of a run
LAPSE_S = 30.0  # without one for so long, it is dead
NOW = "extract(epoch FROM clock_timestamp())::float8"
TURN = f"UPDATE ledger SET turn = turn + 1 RETURNING turn, {NOW}"  # noqa: S608 - our own words
# Locks each of these names until the commit, in their order, so that two transactions never wait for each other.
LOCK_NAMES = f"""INSERT INTO lock_turn (name, turn) VALUES {{}}
    ON CONFLICT (name) DO UPDATE SET turn = lock_turn.turn + 1 RETURNING name, turn, (SELECT turn FROM ledger), {NOW}"""  # noqa: S608 - our own words
LOCK = 0x79656C6C6F77  # the advisory lock of the ledger: shared by transactions that lock names, else exclusive
MADE = "SELECT 1 FROM pg_tables WHERE schemaname = 'yellowtor' AND tablename = 'ledger'"
ROOM = "ALTER TABLE work SET (fillfactor = 50)"  # a record gets its coordinates in the same page: no index is touched
PAGE = 500  # rows in a statement
BROKEN = frozenset({"ACTIVE", "UNKNOWN"})  # where the server ended a connection during COPY, which does not look closed
LISTENED = 16  # readings of the server's clock at the opening
# A worker that hangs in the middle of a write must not hold up the others, nor one that is gone without a word.
SETTINGS = {
    "application_name": "yellowtor",
    "connect_timeout": 10,
    "keepalives_idle": 10,
    "keepalives_interval": 5,
    "keepalives_count": 3,
    "options": "-c search_path=yellowtor -c idle_in_transaction_session_timeout=30s -c timezone=UTC",
}

logging.getLogger("psycopg").addHandler(logging.NullHandler())  # what it has to say is raised as well


class PostgresStore(Store):
    """A ledger in PostgreSQL.

    Raises LedgerTrouble if it can't be opened. A clock other than ServerClock is used as it is.
    """

    shareable = True
    copies = True

    def __init__(self, server: Server, clock: Clock) -> None:
        self.name = str(server)
        self.clock = clock
        self._url = server.full_url()
        self._turns: dict[str, int] = {}  # the last turn of each lock that is known; "" is the whole ledger
        self._others = 0
        try:
            self._open()
        except (NoSuchModuleError, ModuleNotFoundError) as error:
            raise LedgerTrouble(
                f"The ledger {self.name} needs a driver: pip install 'yellowtor[postgres]'. Nothing was sent."
            ) from error

    def _open(self) -> None:
        try:
            engine = create_engine(self._url, isolation_level="AUTOCOMMIT", poolclass=NullPool, connect_args=SETTINGS)
            self._connected(engine)
        except OperationalError as error:  # the connection's, which has no statement that could be explained
            raise self._gone(error) from error
        self.run(
            "SELECT set_config('synchronous_commit', 'on', false) WHERE current_setting('synchronous_commit') = 'off'"
        )
        if not self._is_made():
            self._make()
        self._check()
        turns: Sequence[Any] = self.run("SELECT name, turn FROM lock_turn").all()
        self._turns = {row[0]: row[1] for row in turns}
        self._turns[""] = self.run("SELECT turn FROM ledger").scalar_one()
        self._set_clock()
        self._make_fleeting()

    def _is_made(self) -> bool:
        """Whether the tables are there; looked up as data, for names are remembered over a wait for a lock."""
        return self.run(MADE).first() is not None

    def _make(self) -> None:
        """The tables, unless somebody else makes them at this moment."""
        self.run("BEGIN")
        self.run("SELECT pg_advisory_xact_lock(hashtext('yellowtor.ledger'))")
        if not self._is_made():
            self.run("CREATE SCHEMA IF NOT EXISTS yellowtor")
            self.run("CREATE TABLE ledger (version integer NOT NULL, turn bigint NOT NULL)")
            for index in (index for table in KEPT_TABLES for index in table.indexes if "sqlite_where" in index.kwargs):
                index.kwargs["postgresql_where"] = index.kwargs["sqlite_where"]  # not loaded where none is needed
            metadata.create_all(self.connection, tables=KEPT_TABLES)
            self.run(ROOM)
            self.run("INSERT INTO ledger VALUES (?, 0)", [VERSION])
            self.run("CREATE TABLE lock_turn (name text PRIMARY KEY, turn bigint NOT NULL)")
        self.run("COMMIT")

    def _set_clock(self) -> None:
        """Hear the server's time often enough that one reading was hardly delayed: before the first request."""
        for _ in range(LISTENED if isinstance(self.clock, ServerClock) else 0):
            self.clock.follow(self.run(f"SELECT {NOW}").scalar_one())  # type: ignore[attr-defined]

    def _check(self) -> None:
        """Bring an older ledger up to date."""
        version = self.run("SELECT version FROM ledger").scalar_one()
        check_version(self.name, version)
        if version == VERSION:
            return
        with self.transaction():
            if (version := self.run("SELECT version FROM ledger").scalar_one()) < VERSION:
                from yellowtor.ledger.storage.migrations import upgrade

                upgrade(self.connection, version)
                self.run("UPDATE ledger SET version = ?", [VERSION])

    def _begin(self, locks: Sequence[str]) -> None:
        if locks:
            self.run(f"BEGIN; SELECT pg_advisory_xact_lock_shared({LOCK})")
            rows: Sequence[Any] = self.run(LOCK_NAMES.format(", ".join(["(?, 1)"] * len(locks))), locks).all()
            turns = {row[0]: row[1] for row in rows}
            _, _, turn, epoch = rows[-1]
            others = any(turn != self._turns.get(name, 0) + 1 for name, turn in turns.items())
            self._others += others or turn != self._turns.get("", -1)
            turns[""] = turn
        else:
            self.run(f"BEGIN; SELECT pg_advisory_xact_lock({LOCK})")
            turn, epoch = tuple(self.run(TURN).one())
            self._others += turn != self._turns.get("", -1) + 1
            turns = {"": turn}
        self._turns |= turns
        if isinstance(self.clock, ServerClock):
            self.clock.follow(epoch)

    def request_numbers(self, count: int) -> Sequence[int]:
        return self.run("SELECT nextval('request_id_seq') FROM generate_series(1, ?)", [count]).scalars().all()

    def before_many_records(self) -> None:
        """Nothing: others use the indexes meanwhile."""

    def after_many_records(self) -> None:
        """Nothing."""

    def _roll_back(self) -> None:
        self._turns.clear()  # it is not known what became of it
        with suppress(LedgerTrouble, SQLAlchemyError):
            self.run("ROLLBACK")

    def changes(self) -> int:
        return self._others

    def reopen(self, patience_s: float = BACK_S) -> None:
        deadline = self.clock.boot() + patience_s
        wait = 0.2
        self._others += 1
        with suppress(LedgerTrouble, SQLAlchemyError):
            self.connection.close()
        while True:
            try:
                return self._open()
            except LedgerGone:
                if self.clock.boot() > deadline:
                    raise
                sleep(wait)
                wait = min(2.0, 2 * wait)

    @contextmanager
    def job_in_hand(self, job_id: int) -> Iterator[bool]:  # noqa: ARG002 - the runs tell
        yield True

    @contextmanager
    def scrubbing(self) -> Iterator[None]:
        """Rows that are deleted are overwritten sooner or later; a vacuum lets that begin."""
        yield
        for table in KEPT_TABLES:
            self.run(f'VACUUM "{table.name}"')

    def is_alive(self, run: Running) -> bool:
        """Whether it gave a sign of life lately, and its process exists if it is on this machine."""
        lapsed = self.clock.now() - datetime.fromisoformat(run.seen_at) > timedelta(seconds=LAPSE_S)
        here = run.worker.host == platform.node() and run.worker.machine == this_machine()
        return not lapsed and not (here and not _is_there(run.worker.process))

    @contextmanager
    def beating(self, run_id: int) -> Iterator[None]:
        """Uses a separate connection, because reading and writing may take long."""
        ended = threading.Event()
        beat = threading.Thread(target=self._beat, args=(run_id, ended), name="heartbeat", daemon=True)
        beat.start()
        try:
            yield
        finally:
            ended.set()
            beat.join()

    def _beat(self, run_id: int, ended: threading.Event) -> None:
        engine = create_engine(self._url, isolation_level="AUTOCOMMIT", poolclass=NullPool, connect_args=SETTINGS)
        while not ended.wait(BEAT_S):
            seen_at = self.clock.now().astimezone(UTC).isoformat(timespec="milliseconds")
            # A server that is gone misses a beat: the run itself finds out.
            with suppress(SQLAlchemyError), engine.connect() as connection:
                connection.execute(update(run).where(run.c.id == run_id).values(seen_at=seen_at))

    def run_many(self, sql: str, rows: Sequence[Sequence[object]]) -> None:
        """A statement for a page of rows: each its own takes a way over the network, or most of a millisecond."""
        head, row, tail = _around_values(sql)
        if not row:
            super().run_many(sql, rows)
            return
        for page in batched(list(dict.fromkeys(map(tuple, rows))), PAGE):
            self.run(head + ", ".join([row] * len(page)) + tail, [value for one in page for value in one])

    def copy_rows(self, many: ManyRows, rows: Sequence[Sequence[object]], returning: str = "") -> Sequence[Any]:
        table, columns = many.table, many.columns
        names = ", ".join(f'"{name}"' for name in columns)
        if not (many.again or returning):
            self._copy(table, names, rows)
            return ()
        aside = f"bulk_{table}_{len(columns)}"  # COPY knows nothing of conflicts
        self.run(
            f"CREATE TEMPORARY TABLE IF NOT EXISTS {aside} ON COMMIT DELETE ROWS AS SELECT {names} FROM {table} "  # noqa: S608
            "WITH NO DATA"
        )
        self._copy(aside, names, rows)
        # What is there already is left out first: a conflict uses up a number, and locks the row.
        new = f" WHERE NOT EXISTS (SELECT 1 FROM {table} WHERE {many.there.format(aside)})" if many.there else ""  # noqa: S608
        self.run(f"INSERT INTO {table} ({names}) SELECT {names} FROM {aside}{new}{many.again}")  # noqa: S608
        there = f"{table} JOIN {aside} ON {many.there.format(aside)}"
        found = self.run(f"SELECT {returning} FROM {there}").all() if returning else ()  # noqa: S608
        self.run(f"TRUNCATE {aside}")
        return found

    def _copy(self, table: str, names: str, rows: Sequence[Sequence[object]]) -> None:
        """COPY rows. Raises IntegrityError, LedgerTrouble."""
        import psycopg

        driver: Any = self.connection.connection.driver_connection
        statement = f"COPY {table} ({names}) FROM STDIN"
        try:
            with driver.cursor() as cursor, cursor.copy(statement) as copy:
                for row in rows:
                    copy.write_row(row)
        except psycopg.Error as error:
            if isinstance(error, psycopg.IntegrityError):
                raise IntegrityError(statement, None, error) from error
            found = DBAPIError(statement, None, error)
            if driver.closed or driver.info.transaction_status.name in BROKEN:
                self.connection.invalidate(error)
                raise self._gone(found) from error
            raise self._trouble(found) from error

    def analyze(self) -> None:
        for table in ("work", "address", "question"):
            self.run(f"ANALYZE {table}")

    def _spoken(self, sql: str) -> str:
        return sql.replace("?", "%s")

    def _explain(self, context: ExceptionContext) -> None:
        error = context.sqlalchemy_exception
        if isinstance(error, OperationalError) and (context.is_disconnect or _is_closed(context)):
            raise self._gone(error) from context.original_exception
        super()._explain(context)

    def _gone(self, error: DBAPIError) -> LedgerGone:
        said = driver_message(error)
        if self.is_open:
            return LedgerGone(f"The ledger {self.name} is gone: {said}. What was committed before is safe.")
        return LedgerGone(f"The ledger {self.name} can't be reached: {said}. Nothing was sent.")


def _around_values(sql: str) -> tuple[str, str, str]:
    """A statement's values, such as (?, ?), and what is before and after them; of one that has none, no values."""
    head, found, rest = sql.partition("VALUES (")
    depth = 1
    for at, character in enumerate(rest):
        depth += (character == "(") - (character == ")")
        if not depth:
            return f"{head}VALUES ", f"({rest[: at + 1]}", rest[at + 1 :]
    return sql, found and "", ""


def look_at_server(server: Server) -> str:
    """How a shared ledger is, in words, without touching it. Raises LedgerTrouble."""
    engine = create_engine(server.full_url(), poolclass=NullPool, connect_args=SETTINGS)
    try:
        with engine.connect() as connection:
            if connection.exec_driver_sql(MADE).first() is None:
                return f"{server}, shared, created by the first run"
            check_version(str(server), connection.exec_driver_sql("SELECT version FROM ledger").scalar_one())
    except DBAPIError as error:
        raise LedgerTrouble(f"The ledger {server} can't be used: {driver_message(error)}. Nothing was sent.") from error
    return f"{server}, shared"


def _is_closed(context: ExceptionContext) -> bool:
    connection: Any = context.connection and context.connection.connection.dbapi_connection
    return connection is None or bool(connection.closed)


def _is_there(process: int) -> bool:
    if os.name == "nt":  # where asking would end it
        return True
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        pass
    return True
