"""SQLite: a file, whose numbers are all double precision."""

from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import URL

from yellowtor.errors import BadSource
from yellowtor.tables.column_precision import Coarse
from yellowtor.tables.database.dialects.base import DatabaseDialect

BUSY_S = 30  # how long it waits for another writer


class SQLite(DatabaseDialect):
    """SQLite by Python's own driver, which starts no transaction itself here."""

    rolls_back_ddl = True

    def located(self, url: URL, folder: Path) -> URL:
        if not url.database or url.database.startswith("file:"):
            return url
        path = folder / url.database
        if not path.is_file():
            raise BadSource(f"There is no database {path}. Nothing was sent.")
        return url.set(database=str(path))

    def engine(self, url: URL) -> sa.Engine:
        engine = sa.create_engine(
            url, poolclass=sa.pool.NullPool, connect_args={"timeout": BUSY_S, "check_same_thread": False}
        )

        @sa.event.listens_for(engine, "connect")
        def without_transactions(connection: Any, _: object) -> None:
            connection.isolation_level = None

        @sa.event.listens_for(engine, "begin")
        def begin(connection: sa.Connection) -> None:
            writes = connection.get_execution_options().get("writes")
            connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

        return engine

    def takes_decimals(self, kind: Any) -> bool:
        del kind
        return True

    def rounding(self, kind: Any) -> Coarse | None:
        del kind
        return None

    def number_type(self) -> Any:
        return sa.REAL()

    def as_double(self, value: Any) -> Any:
        return value
