"""PostgreSQL: rows are loaded by COPY, and PostGIS adds a type for points."""

import json
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.exc import DBAPIError

from yellowtor.tables.database.dialects.base import NEW, DatabaseDialect
from yellowtor.tables.database.page_writes import Load
from yellowtor.tables.database.postgres_copy import copy_text


class PostgreSQL(DatabaseDialect):
    """PostgreSQL by psycopg 3."""

    driver = "postgresql+psycopg"
    ignores_name_case = False
    rolls_back_ddl = True

    def lock_timeout(self, seconds: int) -> str:
        return f"SET lock_timeout = '{seconds}s'"

    def has_geometry(self, engine: sa.Engine) -> bool:
        with engine.connect() as connection:
            return bool(connection.execute(sa.text("SELECT to_regtype('geometry') IS NOT NULL")).scalar_one())

    def exact(self, value: Any, kind: Any) -> Any:
        """Two values of type json are equal if they differ in white space alone: jsonb has none."""
        if isinstance(kind, sa.JSON):
            value = sa.cast(value, JSONB)
        return sa.collate(sa.cast(value, sa.Text), "C")

    def content(self, into: Sequence[str], columns: Sequence[Sequence[Any]], kinds: Sequence[Any]) -> Any:
        del into
        cells = [_as_json(c) if isinstance(kind, sa.JSON) else c for c, kind in zip(columns, kinds, strict=True)]
        return copy_text(cells).encode()

    def load(self, connection: sa.Connection, new: sa.TableClause, load: Load) -> None:
        driver: Any = connection.connection.driver_connection
        try:
            with driver.cursor() as cursor, cursor.copy(f"COPY {new.name} ({', '.join(load.into)}) FROM STDIN") as copy:
                copy.write(load.content)
        except connection.dialect.loaded_dbapi.Error as error:
            raise DBAPIError(None, None, error) from error

    def analyze(self, connection: sa.Connection) -> None:
        connection.exec_driver_sql(f"ANALYZE {NEW}")

    def clear(self, connection: sa.Connection, new: sa.TableClause) -> None:
        connection.exec_driver_sql(f"TRUNCATE {new.name}")


def _as_json(cells: Sequence[Any]) -> Sequence[Any]:
    return [None if cell is None else json.dumps(cell, ensure_ascii=False) for cell in cells]
