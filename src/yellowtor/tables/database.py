"""A table or view of a database, through SQLAlchemy.

It is read by a cursor that is closed before anything is asked. It is written back by key, a page of rows in
a transaction that looks at each row again: what was edited meanwhile is left alone.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import URL, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, NoSuchTableError, SQLAlchemyError

from yellowtor.errors import BadSource
from yellowtor.tables.cells import LEAVE, Answering, Row, as_text

PAGE = 2_000  # rows that are read, and written in one transaction
NUMBERS = {"latitude", "longitude", "confidence"}  # the others are text
SCHEMES = {"postgresql": "postgresql+psycopg"}  # the driver that ships with our extra


@dataclass(frozen=True, slots=True)
class Place:
    """Where records are in a database. `only` is a SQL condition, `first` what they are put in order by."""

    url: str
    table: str
    schema: str | None = None
    key: str | None = None
    only: str | None = None
    first: str | None = None
    password: str | None = None


class DatabaseTable:
    """A table of a database. Raises BadSource for whatever is wrong with it.

    needed are the columns that the job reads, answers the columns by the part of the answer that they get;
    those that are not there are made if `create`.
    """

    decimal = "."
    remarks: Sequence[str] = ()

    def __init__(
        self, place: Place, needed: Sequence[str], answers: Mapping[str, str], folder: Path, *, create: bool
    ) -> None:
        self._place, self._create = place, create
        url = _url(place, folder)
        self.name = f"{place.schema + '.' if place.schema else ''}{place.table} in {url.render_as_string()}"
        with self._told("can't be opened"):
            self._engine = _engine(url)
            there = self._columns()
        self.key = place.key or self._primary_key()
        wanted = list(dict.fromkeys([self.key, *needed]))
        if missing := [name for name in wanted if name not in there]:
            raise BadSource(
                f"{self.name} has no column {', '.join(map(repr, missing))}, which the job names "
                f"(it has: {', '.join(there)}). Nothing was sent."
            )
        self._new = {name: part for part, name in answers.items() if name not in there}
        self.header = [*wanted, *(name for name in answers.values() if name in there)]
        self._answers = list(answers.values())

    def batches(self) -> Iterator[list[Row]]:
        """The rows as texts, in the job's order, through a cursor of the server."""
        order = [sa.text(self._place.first)] if self._place.first else []
        query = self._select(self.header).order_by(*order, sa.column(self.key))
        with self._told("can't be read"), self._engine.connect() as connection:
            streaming = connection.execution_options(stream_results=True, yield_per=PAGE)
            for page in streaming.execute(query).partitions(PAGE):
                yield [[as_text(value) for value in row] for row in page]

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, kept: Callable[[], None] = lambda: None
    ) -> None:
        """Write what answering gives into these columns; kept is called after each transaction."""
        del to
        last: Any = None
        with self._told("can't be written any further"):
            self._add_columns()
            while True:
                with self._engine.begin() as connection:
                    rows = connection.execution_options(writes=True).execute(self._page(columns, last)).all()
                    if not rows:
                        return
                    last = rows[-1][0]
                    width = len(self.header)
                    new = answering([[as_text(value) for value in row[:width]] for row in rows])
                    self._update(connection, columns, rows, list(zip(*new, strict=True)))
                kept()

    def fingerprint(self) -> str:
        """A database can't tell cheaply whether it is the same."""
        return ""

    def check_target(self, to: Path | None) -> str:
        """Raise BadSource when a column is missing that is not to be made."""
        del to
        if self._new and not self._create:
            raise BadSource(
                f"{self.name} has no column {', '.join(map(repr, self._new))} for the answers. Say create = true under "
                "[write] to have them made. Nothing was sent."
            )
        return ""

    def _page(self, columns: Sequence[str], last: Any) -> sa.Select[Any]:
        """The next page of rows by key, held for this transaction; after the header's columns, the answers' own."""
        key: Any = sa.column(self.key)
        query = self._select([*self.header, *columns]).order_by(key).limit(PAGE).with_for_update()
        return query if last is None else query.where(key > last)

    def _update(
        self, connection: sa.Connection, columns: Sequence[str], rows: Sequence[Any], new: Sequence[Sequence[Any]]
    ) -> None:
        """Put the new cells into the rows that they change."""
        changed = []
        for row, cells in zip(rows, new, strict=True):
            before = row[len(self.header) :]
            after = [old if cell is LEAVE else cell for old, cell in zip(before, cells, strict=True)]
            if any(not _same(old, cell) for old, cell in zip(before, after, strict=True)):
                changed.append({"this": row[0]} | {f"new{at}": cell for at, cell in enumerate(after)})
        if changed:
            values: dict[Any, Any] = {sa.column(name): sa.bindparam(f"new{at}") for at, name in enumerate(columns)}
            table = sa.table(self._place.table, *map(sa.column, [self.key, *columns]), schema=self._place.schema)
            statement = sa.update(table).where(table.c[self.key] == sa.bindparam("this")).values(values)
            connection.execute(statement, changed)

    def _select(self, names: Sequence[str]) -> sa.Select[Any]:
        table = sa.table(self._place.table, schema=self._place.schema)
        columns: list[Any] = list(map(sa.column, names))
        query = sa.select(*columns).select_from(table)
        return query.where(sa.text(f"({self._place.only})")) if self._place.only else query

    def _columns(self) -> list[str]:
        look = sa.inspect(self._engine)
        try:
            return [str(column["name"]) for column in look.get_columns(self._place.table, self._place.schema)]
        except NoSuchTableError as error:
            there = [*look.get_table_names(self._place.schema), *look.get_view_names(self._place.schema)]
            raise BadSource(
                f"There is no table {self.name} (there are: {', '.join(sorted(there)) or 'none'}). Nothing was sent."
            ) from error

    def _primary_key(self) -> str:
        with self._told("can't be read"):
            found = sa.inspect(self._engine).get_pk_constraint(self._place.table, self._place.schema)
        names = found["constrained_columns"]
        if len(names) != 1:
            has = f"a primary key of several columns ({', '.join(names)})" if names else "no primary key"
            raise BadSource(f'{self.name} has {has}. Name one column: key = "…" under [records]. Nothing was sent.')
        return str(names[0])

    def _add_columns(self) -> None:
        """Make the columns that are missing."""
        quote = self._engine.dialect.identifier_preparer
        table = quote.format_table(sa.table(self._place.table, schema=self._place.schema))
        for name, part in self._new.items():
            kind = (sa.Double() if part in NUMBERS else sa.Text()).compile(self._engine.dialect)
            with self._engine.begin() as connection:
                connection.exec_driver_sql(f"ALTER TABLE {table} ADD COLUMN {quote.quote(name)} {kind}")
        self._new = {}

    @contextmanager
    def _told(self, what: str) -> Iterator[None]:
        """The database's errors, as ours: each with what was and was not written."""
        try:
            yield
        except DBAPIError as error:
            said = str(error.orig).strip().splitlines()[0] if str(error.orig).strip() else type(error.orig).__name__
            fate = (
                "The rows before are written, each whole; the next run goes on without asking again."
                if "written" in what
                else "Nothing was written."
            )
            raise BadSource(f"{self.name} {what}: {said}. {fate}") from error
        except SQLAlchemyError as error:
            raise BadSource(f"{self.name} {what}: {error}. Nothing was written.") from error


def _url(place: Place, folder: Path) -> URL:
    """The URL with its password and its driver; an SQLite file is looked for from the job's folder."""
    try:
        url = make_url(place.url)
    except ArgumentError as error:
        raise BadSource(
            f"records.database = {place.url!r} is not the URL of a database, such as postgresql://user@host/name or "
            "sqlite:///file.db. Nothing was sent."
        ) from error
    if place.password is not None:
        url = url.set(password=place.password)
    url = url.set(drivername=SCHEMES.get(url.drivername, url.drivername))
    if url.get_backend_name() == "sqlite" and url.database:
        path = folder / url.database
        if not path.is_file():
            raise BadSource(f"There is no database {path}. Nothing was sent.")
        url = url.set(database=str(path))
    return url


def _engine(url: URL) -> sa.Engine:
    try:
        if url.get_backend_name() != "sqlite":
            return sa.create_engine(url, poolclass=sa.pool.NullPool)
        engine = sa.create_engine(url, poolclass=sa.pool.NullPool, connect_args={"timeout": 30})
    except (NoSuchModuleError, ModuleNotFoundError) as error:
        raise BadSource(
            f"No driver for {url.drivername} is installed ({error}). For PostgreSQL: "
            "pip install 'yellowtor[postgres]'. Nothing was sent."
        ) from error

    @sa.event.listens_for(engine, "connect")
    def by_hand(connection: Any, _: object) -> None:
        connection.isolation_level = None  # the driver begins no transaction of its own

    @sa.event.listens_for(engine, "begin")
    def begin(connection: sa.Connection) -> None:
        writes = connection.get_execution_options().get("writes")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine


def _same(old: Any, new: Any) -> bool:
    """Whether a cell holds already what is to be put into it."""
    if old is None or new is None or isinstance(new, str):
        return bool(old == new)
    try:
        return bool(float(old) == new)
    except (TypeError, ValueError):
        return False
