"""Where in a database answers are written: columns of the records' own table, or a table of results.

The cells that change go in bulk into a temporary table, and from there into the target by one statement.
"""

import re
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError, NoSuchTableError, SAWarning

from yellowtor.errors import BadSource
from yellowtor.tables.cells import NUMBERS
from yellowtor.tables.place import Named

Create = bool | Literal["numeric"]  # whether what is missing is made, and degrees as which type
DEGREES = {"latitude", "longitude"}
_ESCAPES = {"\\": r"\\", "\t": r"\t", "\n": r"\n", "\r": r"\r"}
_SPECIAL = re.compile(r"[\\\t\n\r]")
NEW = "yellowtor_new"  # the temporary table


def columns_of(engine: sa.Engine, table: Named) -> dict[str, Any]:
    """The type of each column. Raises NoSuchTableError."""
    with warnings.catch_warnings():  # of a type that SQLAlchemy doesn't know, such as geometry: it is read as text
        warnings.simplefilter("ignore", SAWarning)
        found = sa.inspect(engine).get_columns(table.table, table.schema)
    return {str(column["name"]): column["type"] for column in found}


@dataclass
class Target:
    """The table that answers go into. columns are by the part of the answer; own: it is the records' own."""

    engine: sa.Engine
    table: Named
    keys: Sequence[str]
    columns: Mapping[str, str]
    own: bool
    create: Create

    def __post_init__(self) -> None:
        try:
            there: dict[str, Any] | None = columns_of(self.engine, self.table)
        except NoSuchTableError:
            there = None
        self.exists = there is not None
        self._there = there or {}
        if self.engine.dialect.name != "postgresql":  # to the others, names that differ in case alone are one
            spelt = {name.casefold(): name for name in self._there}
            self.columns = {part: spelt.get(name.casefold(), name) for part, name in self.columns.items()}
        self.present = [name for name in self.columns.values() if name in self._there]
        self._missing = {name: part for part, name in self.columns.items() if name not in self._there}
        self.at = sa.table(self.table.table, *map(column, [*self.keys, *self.columns.values()]),
                           schema=self.table.schema)  # fmt: skip
        self._analyzed = False
        self._new = sa.table(NEW, *map(column, [*self.keys, *self.columns.values()]))

    def check(self) -> None:
        """Raise BadSource when answers can't go in here, before anything is sent."""
        if not self.exists and not self.create:
            raise BadSource(
                f"There is no table {self.table} for the answers. Say create = true under [write] to have it made. "
                "Nothing was sent."
            )
        if self.exists and (lost := [key for key in self.keys if key not in self._there]):
            raise BadSource(f"{self.table} has no column {_list(lost)}, the key of the records. Nothing was sent.")
        if self._missing and not self.create:
            raise BadSource(
                f"{self.table} has no column {_list(self._missing)} for the answers. Say create = true under "
                "[write] to have them made. Nothing was sent."
            )
        if "geometry" in self.columns and not self._knows_geometry():
            raise BadSource(
                f"{self.table}: write.columns.geometry needs a database with PostGIS, and this has none. Nothing was "
                "sent."
            )
        for part, name in self.columns.items():
            if name in self._there and part not in NUMBERS and not _takes_text(self._there[name]):
                raise BadSource(
                    f"{self.table}: {part} is text, and the column {name!r} is {self._there[name]}. Nothing was sent."
                )
        if self.present:  # an update of no row tells whether the table may be written
            nothing = sa.update(self.at).where(sa.false()).values({self.present[0]: self.at.c[self.present[0]]})
            with self.engine.execution_options(writes=True).connect() as connection, connection.begin() as trial:
                connection.execute(nothing)
                trial.rollback()

    def _knows_geometry(self) -> bool:
        if self.engine.dialect.name != "postgresql":
            return False
        with self.engine.connect() as connection:
            return bool(connection.execute(sa.text("SELECT to_regtype('geometry') IS NOT NULL")).scalar_one())

    def make(self, records: sa.Select[Any]) -> None:
        """Make what is missing; records selects the keys, whose types a table of results takes over."""
        quote = self.engine.dialect.identifier_preparer
        name = quote.format_table(self.at)
        with self.engine.execution_options(writes=True).begin() as connection:
            if not self.exists:
                keys = ", ".join(map(quote.quote, self.keys))
                connection.exec_driver_sql(f"CREATE TABLE {name} AS {_none_of(records, self.engine)}")
                index = quote.quote(f"{self.table.table}_key")
                connection.exec_driver_sql(f"CREATE UNIQUE INDEX {index} ON {name} ({keys})")
                self.exists = True
            for column, part in self._missing.items():
                kind = self._type_of(part)
                connection.exec_driver_sql(f"ALTER TABLE {name} ADD COLUMN {quote.quote(column)} {kind}")
        self._missing = {}

    def _type_of(self, part: str) -> str:
        """The type that a column made for this part of the answer gets."""
        if part == "geometry":
            return "geometry(Point, 4326)"
        kind: Any = sa.Double() if part in NUMBERS else sa.Text()
        if part in DEGREES and self.create == "numeric":
            kind = sa.Numeric(9, 6)
        return str(kind.compile(self.engine.dialect))

    def open(self, connection: sa.Connection) -> None:
        """Have this connection make its temporary table."""
        like = _none_of(sa.select(*self.at.c).select_from(self.at), self.engine)
        connection.exec_driver_sql(f"CREATE TEMPORARY TABLE {NEW} AS {like}")
        connection.commit()

    def put(self, connection: sa.Connection, columns: Sequence[Sequence[Any]]) -> None:
        """Write columns of keys and cells, in the order of the keys; a table of results gets the rows it lacks too."""
        if not columns[0]:
            return
        self._load(connection, columns)
        same = sa.and_(*(self.at.c[key] == self._new.c[key] for key in self.keys))
        span = self.at.c[self.keys[0]].between(columns[0][0], columns[0][-1])  # lets the database look at one stretch
        cells = {self.at.c[name]: self._new.c[name] for name in self.columns.values()}
        connection.execute(sa.update(self.at).values(cells).where(same, span))
        if not self.own:
            lacking = sa.select(*self._new.c).where(~sa.exists().where(same).correlate(self._new))
            connection.execute(sa.insert(self.at).from_select([column.name for column in self._new.c], lacking))
        if self.engine.dialect.name == "postgresql":
            connection.exec_driver_sql(f"TRUNCATE {NEW}")
        else:
            connection.execute(sa.delete(self._new))

    def _load(self, connection: sa.Connection, columns: Sequence[Sequence[Any]]) -> None:
        if self.engine.dialect.name == "postgresql":
            quote = self.engine.dialect.identifier_preparer.quote
            names = ", ".join(quote(column.name) for column in self._new.c)
            driver: Any = connection.connection.driver_connection
            try:
                with driver.cursor() as cursor, cursor.copy(f"COPY {NEW} ({names}) FROM STDIN") as copy:
                    copy.write(copy_text(columns))
            except self.engine.dialect.loaded_dbapi.Error as error:
                raise DBAPIError(None, None, error) from error
            if not self._analyzed:  # the pages are alike: to know one is enough for a good plan
                connection.exec_driver_sql(f"ANALYZE {NEW}")
                self._analyzed = True
        else:
            own = [column.name for column in self._new.c]
            rows = [dict(zip(own, row, strict=True)) for row in zip(*columns, strict=True)]
            connection.execute(sa.insert(self._new), rows)


def copy_text(columns: Sequence[Sequence[Any]]) -> str:
    """Columns in the text format of PostgreSQL's COPY."""
    return "".join(f"{line}\n" for line in map("\t".join, zip(*map(_copied, columns), strict=True)))


def _copied(cells: Sequence[Any]) -> Sequence[str]:
    kinds = set(map(type, cells))
    if kinds <= {int, float}:
        return list(map(repr, cells))
    if kinds == {str} and not _SPECIAL.search("".join(cells)):
        return cells
    return [_copied_cell(cell) for cell in cells]


def _copied_cell(cell: Any) -> str:
    if cell is None:
        return r"\N"
    text = rf"\x{bytes(cell).hex()}" if isinstance(cell, bytes | memoryview) else str(cell)
    return _SPECIAL.sub(lambda found: _ESCAPES[found[0]], text)


def column(name: str) -> Any:
    """A column by its name alone, whatever its type."""
    return sa.column(name)


def _none_of(query: sa.Select[Any], engine: sa.Engine) -> str:
    return str(query.where(sa.text("1 = 0")).compile(engine))


def _takes_text(kind: Any) -> bool:
    """Whether a column of this type takes any text; a type that we don't know does."""
    try:
        return kind.python_type in {str, object}
    except NotImplementedError:
        return True


def _list(names: Any) -> str:
    return ", ".join(map(repr, names))
