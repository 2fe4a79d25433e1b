"""Where in a database answers are written: columns of the records' own table, or a table of results.

New cells go in bulk into a temporary table, beside what was read, and from there into the target by one statement
that changes what differs, where the record is still as it was read.
"""

import warnings
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import sqlalchemy as sa
from sqlalchemy.exc import NoSuchTableError, SAWarning

from yellowtor.answers.answer_columns import NUMBERS
from yellowtor.errors import BadSource
from yellowtor.tables.cells import DEGREES
from yellowtor.tables.column_precision import Coarse
from yellowtor.tables.database.database_source import Named
from yellowtor.tables.database.dialects.base import NEW
from yellowtor.tables.database.dialects.registry import dialect_of
from yellowtor.tables.database.page_writes import Load, PageChanges, Put

Create = bool | Literal["numeric"]  # whether what is missing is made, and degrees as which type


def columns_of(engine: sa.Engine, table: Named) -> dict[str, Any]:
    """The type of each column. Raises NoSuchTableError."""
    with warnings.catch_warnings():  # of a type that SQLAlchemy doesn't know, such as geometry: it is read as text
        warnings.simplefilter("ignore", SAWarning)
        found = sa.inspect(engine).get_columns(table.table, table.schema)
    return {str(column["name"]): column["type"] for column in found}


@dataclass(eq=False)
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
        self._dialect = dialect_of(self.engine.dialect.name)
        if self._dialect.ignores_name_case:
            spelt = {name.casefold(): name for name in self._there}
            self.columns = {part: spelt.get(name.casefold(), name) for part, name in self.columns.items()}
        self.degrees = [self.columns[part] for part in DEGREES if part in self.columns]
        self.present = [name for name in self.columns.values() if name in self._there]
        self._missing = {name: part for part, name in self.columns.items() if name not in self._there}
        self.at = sa.table(
            self.table.table, *map(column, [*self.keys, *self.columns.values()]), schema=self.table.schema
        )
        self._analyzed = False
        self._compared: Mapping[str, Any] = {}
        self._records: Any = self.at
        self._new = sa.table(NEW)
        self._known_changes: dict[tuple[str, ...], PageChanges] = {}

    def check(self) -> None:
        """Raise BadSource when answers can't go in here, before anything is sent."""
        if not self.exists and not self.create:
            raise BadSource(
                f"There is no table {self.table} for the answers. Set create = true under [write] to create it. "
                "Nothing was sent."
            )
        if self.exists and (lost := [key for key in self.keys if key not in self._there]):
            raise BadSource(f"{self.table} has no column {_list(lost)}, the key of the records. Nothing was sent.")
        if self._missing and not self.create:
            raise BadSource(
                f"{self.table} has no column {_list(self._missing)} for the answers. Set create = true under "
                "[write] to have them made. Nothing was sent."
            )
        if "geometry" in self.columns and not self._dialect.has_geometry(self.engine):
            raise BadSource(
                f"{self.table}: write.columns.geometry needs a database with PostGIS, and this has none. Nothing was "
                "sent."
            )
        for part, name in self.columns.items():
            if name in self._there and part not in NUMBERS and not _takes_text(self._there[name]):
                raise BadSource(
                    f"{self.table}: {part} is text, and the column {name!r} is {self._there[name]}. Nothing was sent."
                )
            if name in self._there and part in NUMBERS and not self._dialect.takes_decimals(self._there[name]):
                raise BadSource(
                    f"{self.table}: {part} is a number with decimals, and the column {name!r} is {self._there[name]}. "
                    "Nothing was sent."
                )

    @property
    def rolls_back_ddl(self) -> bool:
        """Whether what is made in a transaction is gone when that is rolled back."""
        return self._dialect.rolls_back_ddl

    def may_define(self, connection: sa.Connection, statement: str) -> bool:
        """Whether this user has the right for a statement, CREATE or ALTER."""
        return self._dialect.may_define(connection, statement)

    def coarse(self) -> list[Coarse | None]:
        """The rounding of the existing columns for latitude and longitude."""
        return [self._dialect.rounding(self._there.get(self.columns.get(part, ""))) for part in DEGREES]

    @property
    def is_whole(self) -> bool:
        """Whether nothing need be made."""
        return self.exists and not self._missing

    @property
    def known(self) -> Collection[str]:
        """The existing columns."""
        return self._there

    def forget_made(self) -> None:
        """Forget what was created in a transaction that is rolled back."""
        for name in self._missing:
            self._there.pop(name, None)
        self._known_changes.clear()
        self._analyzed = False

    def make(self, records: sa.Select[Any]) -> None:
        """Create what is missing; records selects the keys, whose types a table of results gets."""
        with self.engine.execution_options(writes=True).begin() as connection:
            self.make_in(connection, records)
        self.exists = True
        self._missing = {}

    def make_in(self, connection: sa.Connection, records: sa.Select[Any]) -> None:
        """As make(), in a transaction that may be rolled back."""
        quote = self.engine.dialect.identifier_preparer
        name = quote.format_table(self.at)
        if not self.exists:
            keys = ", ".join(map(quote.quote, self.keys))
            connection.exec_driver_sql(f"CREATE TABLE {name} AS {_none_of(records, self.engine)}")
            index = quote.quote(f"{self.table.table}_key")
            connection.exec_driver_sql(f"CREATE UNIQUE INDEX {index} ON {name} ({keys})")
        for column, part in self._missing.items():
            kind = self._type_of(part)
            connection.exec_driver_sql(f"ALTER TABLE {name} ADD COLUMN {quote.quote(column)} {kind}")
            self._there[column] = sa.Double() if part in NUMBERS else sa.Text()

    def _type_of(self, part: str) -> str:
        """The type that a column made for this part of the answer gets."""
        if part == "geometry":
            return "geometry(Point, 4326)"
        kind: Any = self._dialect.number_type() if part in NUMBERS else sa.Text()
        if part in DEGREES and self.create == "numeric":
            kind = sa.Numeric(9, 6)
        return str(kind.compile(self.engine.dialect))

    def open(self, connection: sa.Connection, records: sa.Select[Any], compared: Mapping[str, Any]) -> None:
        """Have this connection make its temporary table: of the keys, what was read of the records, and new cells.

        records selects the records; compared are their columns that must be as they were read, with their types.
        """
        source = records.subquery("records")
        for name in compared if self.own else ():
            if name not in self.at.c:
                self.at.append_column(column(name))
        self._compared = compared
        self._records = self.at if self.own else source
        self.looked_at = list(dict.fromkeys([*self.degrees, *compared]))
        columns = {
            **{f"key_{at}": self.at.c[key] for at, key in enumerate(self.keys)},
            **{f"read_{at}": self._records.c[name] for at, name in enumerate(compared)},
            **{self._cell(name): self._as_sent(name) for name in self.columns.values() if name in self._there},
        }
        like = sa.select(*(value.label(name) for name, value in columns.items())).where(sa.text("1 = 0"))
        connection.exec_driver_sql(f"CREATE TEMPORARY TABLE {NEW} AS {like.compile(self.engine)}")
        self._new = sa.table(NEW, *map(column, columns))

    def _as_sent(self, name: str) -> Any:
        """A column as it is loaded: degrees as they are sent, so that what the target's type makes of them is seen."""
        kind = self._there[name]
        kind = getattr(kind, "data_type", kind)  # of a domain
        if name in self.degrees and isinstance(kind, sa.Numeric | sa.Float):
            return self._dialect.as_double(self.at.c[name])
        return self.at.c[name]

    def _cell(self, name: str) -> str:
        return f"cell_{list(self.columns.values()).index(name)}"

    def load(self, columns: Sequence[Sequence[Any]], names: Sequence[str]) -> Load:
        """Columns of keys, of what was read, and of the new cells for the columns named, as the database takes them."""
        into = [*(c.name for c in self._new.c if not c.name.startswith("cell_")), *map(self._cell, names)]
        kinds = [*([None] * len(self.keys)), *self._compared.values(), *([None] * len(names))]
        content = self._dialect.content(into, columns, kinds)
        return Load(content, into, tuple(names), len(columns[0]), (columns[0][0], columns[0][-1]), columns)

    def put(self, connection: sa.Connection, load: Load, *, ordered: bool) -> Put:
        """Write the new cells of some rows, and look at what the table makes of them.

        A row that is not as it was read, or is gone, is left alone. A table of results gets the rows that it lacks.
        ordered: the rows come in the order of the keys.
        """
        self._load(connection, load)
        span = dict(zip(("first", "last"), load.span, strict=True)) if ordered else {}
        if load.names not in self._known_changes:
            self._known_changes[load.names] = self._changes(load.names, ordered=ordered)
        change = self._known_changes[load.names]
        done = Put()
        if self.own:
            done.changed = connection.execute(change.update, span).rowcount
            if done.changed < load.rows:
                done.left = connection.execute(change.left, span).all()
                done.skipped = connection.execute(change.skipped, span).all()
            done.returned = connection.execute(change.returned, span).all()
        else:
            done.left = connection.execute(change.left, span).all()
            if done.left:
                connection.execute(change.forget, span)
            done.changed = connection.execute(change.update, span).rowcount
            done.changed += connection.execute(change.insert, span).rowcount
            done.skipped = connection.execute(change.skipped, span).all()
        self._dialect.clear(connection, self._new)
        return done

    def _changes(self, names: Sequence[str], *, ordered: bool) -> PageChanges:
        """The statements that write these columns."""
        new = self._new
        keys = self._new_keys()
        mine = self._row_of(self.at, ordered=ordered)
        cells = {self.at.c[name]: new.c[self._cell(name)] for name in names}
        written = sa.and_(*(self._same(old, cell, self._there[old.name]) for old, cell in cells.items()))
        missing = self._none(self.at, mine)
        rest = sa.select(*keys, *cells.values()).where(missing)
        insert = sa.insert(self.at).from_select([*self.keys, *names], rest)
        update = sa.update(self.at).values(cells)
        unchanged = self._same_as_read(self._compared)
        if not self.own:
            edited = self._none(self._records, self._row_of(self._records, ordered=ordered) & unchanged)
            absent = sa.select(*keys).where(missing)
            left = sa.select(*keys).where(edited)
            return PageChanges(update.where(mine, ~written), left, sa.delete(new).where(edited), insert, absent, absent)
        ours = set(self.columns.values())  # a row is well that is as it was read, or as it is to be
        others = self._same_as_read(self._compared.keys() - ours)
        fine = others & (self._same_as_read(self._compared.keys() & ours) | written)
        there = sa.select(*keys).select_from(new.join(self.at, mine))
        returned = there.add_columns(*(self.at.c[name] for name in self.looked_at))
        return PageChanges(
            update.where(mine, unchanged, ~written),
            sa.select(*keys).where(self._none(self.at, mine & fine)),
            sa.delete(new),
            insert,
            there.where(unchanged, ~written),
            returned.where(~self._as_sent_in(cells) | ~others),
        )

    def _new_keys(self) -> list[Any]:
        return [self._new.c[f"key_{at}"] for at in range(len(self.keys))]

    def _row_of(self, table: Any, *, ordered: bool) -> Any:
        """The row of a table with the key of a row of new cells; the span lets the database look at one stretch."""
        same = [table.c[name] == key for name, key in zip(self.keys, self._new_keys(), strict=True)]
        span = [table.c[self.keys[0]].between(sa.bindparam("first"), sa.bindparam("last"))] if ordered else []
        return sa.and_(*same, *span)

    def _same_as_read(self, names: Iterable[str]) -> Any:
        """That these columns of the records are as they were read."""
        order = list(self._compared)
        same = (
            self._same(self._records.c[name], self._new.c[f"read_{order.index(name)}"], self._compared[name])
            for name in names
        )
        return sa.and_(sa.true(), *same)

    def _as_sent_in(self, cells: Mapping[Any, Any]) -> Any:
        """That the target holds the degrees exactly as they were sent."""
        same = (self._same(old, cell, self._there[old.name]) for old, cell in cells.items() if old.name in self.degrees)
        return sa.and_(sa.true(), *same)

    def _same(self, one: Any, other: Any, kind: Any) -> Any:
        return self._exact(one, kind).is_not_distinct_from(self._exact(other, kind))

    def _none(self, table: Any, condition: Any) -> Any:
        """That no row of the table fulfils the condition, for a row of new cells."""
        return ~sa.exists(sa.select(sa.literal(1)).select_from(table).where(condition).correlate(self._new))

    def _exact(self, value: Any, kind: Any) -> Any:
        """A value in a form that is equal only if every byte is; numbers are compared as they are."""
        if isinstance(kind, sa.Numeric | sa.Float | sa.Integer | sa.Boolean):
            return value
        return self._dialect.exact(value, kind)

    def _load(self, connection: sa.Connection, load: Load) -> None:
        self._dialect.load(connection, self._new, load)
        if not self._analyzed:  # the pages are alike: the statistics of one give a good plan for all
            self._dialect.analyze(connection)
            self._analyzed = True


def column(name: str) -> Any:
    """A column by its name, without a type."""
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
