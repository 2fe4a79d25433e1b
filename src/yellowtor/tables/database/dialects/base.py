"""What every database does alike, in standard SQL. A database that differs overrides the method in question."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import URL

from yellowtor.contracts.position import WRITTEN_DECIMALS
from yellowtor.tables.column_precision import SHORTEST, Coarse, of_decimals
from yellowtor.tables.database.page_writes import Load

NEW = "yellowtor_new"  # the temporary table that rows are loaded into


class DatabaseDialect:
    """A database's own way to do things. It holds no state and no connection."""

    driver = ""  # SQLAlchemy's name of the database and its driver; empty: as the URL says
    ignores_name_case = True  # names of columns that differ in case alone are one column
    rolls_back_ddl = False  # a table that is made in a transaction is gone when that is rolled back

    def located(self, url: URL, folder: Path) -> URL:
        """The URL as the driver needs it; a file is looked for from the folder. Raises BadSource."""
        del folder
        return url

    def engine(self, url: URL) -> sa.Engine:
        """An engine that keeps no connection open between its uses."""
        return sa.create_engine(url, poolclass=sa.pool.NullPool)

    def lock_timeout(self, seconds: int) -> str:
        """The statement that limits waiting for a lock; empty where the connection has the limit already."""
        del seconds
        return ""

    def has_geometry(self, engine: sa.Engine) -> bool:
        """Whether the database has PostGIS."""
        del engine
        return False

    def takes_decimals(self, kind: Any) -> bool:
        """Whether a column of this type holds numbers with decimals."""
        return not isinstance(kind, sa.Integer | sa.Boolean | sa.Date | sa.DateTime)

    def rounding(self, kind: Any) -> Coarse | None:
        """What a column of this type makes of degrees; None where it returns what was written."""
        scale = getattr(kind, "scale", None)
        if scale is not None and scale < WRITTEN_DECIMALS:
            return of_decimals(scale)
        return SHORTEST if isinstance(kind, sa.REAL) else None

    def is_comparable(self, kind: Any) -> bool:
        """Whether a value of this type, sent back as it was read, equals the stored value."""
        del kind
        return True

    def number_type(self) -> Any:
        """The type of a column that is made for numbers."""
        return sa.Double()

    def as_double(self, value: Any) -> Any:
        """A number in double precision."""
        return sa.cast(value, sa.Double())

    def exact(self, value: Any, kind: Any) -> Any:
        """A text in a form that is equal only if every byte is, whatever the collation of its column."""
        del kind
        return sa.collate(sa.cast(value, sa.Text), "BINARY")

    def content(self, into: Sequence[str], columns: Sequence[Sequence[Any]], kinds: Sequence[Any]) -> Any:
        """Columns of cells as load() takes them. kinds are the types of the columns, None where unknown."""
        del kinds
        return [dict(zip(into, row, strict=True)) for row in zip(*columns, strict=True)]

    def load(self, connection: sa.Connection, new: sa.TableClause, load: Load) -> None:
        """Insert rows into the temporary table."""
        connection.execute(sa.insert(new), load.content)

    def analyze(self, connection: sa.Connection) -> None:
        """Collect statistics on the temporary table, where the planner needs them."""

    def clear(self, connection: sa.Connection, new: sa.TableClause) -> None:
        """Delete all rows of the temporary table."""
        connection.execute(sa.delete(new))

    def may_define(self, connection: sa.Connection, statement: str) -> bool:
        """Whether this user has the right for a statement, CREATE or ALTER. Only asked where DDL is not rolled back."""
        del connection, statement
        return True
