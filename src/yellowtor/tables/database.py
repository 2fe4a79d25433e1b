"""Records in a table, a view or a query of a database.

They are read by a cursor that is closed before anything is asked. Answers are written by key, a page of rows in
a transaction that looks at each row again: what was edited meanwhile is left alone.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError, NoSuchTableError

from yellowtor.errors import BadSource
from yellowtor.tables.cells import LEAVE, Answering, Row, as_texts
from yellowtor.tables.place import Named, Place, open_engine, told
from yellowtor.tables.target import Create, Target, column, columns_of

PAGE = 5_000  # rows that are read, and written in one transaction


class DatabaseTable:
    """Records of a database as a Table. Raises BadSource for whatever is wrong with it.

    needed are the columns that the job reads, answers the columns by the part of the answer that they get; what is
    missing for them is made if `create`. whole: the header has the columns of all the answers.
    """

    decimal = "."
    backup = None
    remarks: Sequence[str] = ()

    def __init__(
        self, place: Place, needed: Sequence[str], answers: Mapping[str, str], folder: Path, *, create: Create,
        whole: bool = False,
    ) -> None:  # fmt: skip
        self._place = place
        url = place.full_url(folder)
        self.name = f"{place.table or 'The query'} in {place.shown()}"
        with told(self.name, "can't be opened"):
            self._engine = open_engine(url)
            there = self._columns()
            self.keys: Sequence[str] = place.keys or self._primary_key()
        wanted = list(dict.fromkeys([*self.keys, *needed]))
        if missing := [name for name in wanted if name not in there]:
            raise BadSource(
                f"{self.name} has no column {', '.join(map(repr, missing))}, which the job names "
                f"(it has: {', '.join(there)}). Nothing was sent."
            )
        table = place.results or place.table
        assert table is not None, "the job sees to it that a query has a table of results"
        with told(str(table), "can't be opened"):
            self._target = Target(self._engine, table, self.keys, answers, place.results is None, create)
        read = answers if whole else ("latitude", "longitude")  # more is not needed to know what has to be asked
        own = [answers[part] for part in read if answers.get(part) in self._target.present]
        self.header = wanted if place.results else [*wanted, *own]
        self.into = f"{table} in {place.shown()}"

    def batches(self) -> Iterator[list[Row]]:
        """The rows as texts, in the job's order, through a cursor of the server."""
        order: list[Any] = [sa.literal_column(self._place.first)] if self._place.first else []
        query = self._records(self.header).order_by(*order, *map(column, self.keys))
        with told(self.name, "can't be read"), self._engine.connect() as connection:
            streaming = connection.execution_options(stream_results=True, yield_per=PAGE)
            found = streaming.execute(query)
            cursor: Any = found.cursor
            try:
                for page in found.partitions(PAGE):
                    yield as_texts(page)
            except DBAPIError:
                _give_up(cursor)
                raise

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, kept: Callable[[], None] = lambda: None
    ) -> None:
        """Write what answering gives into the target's columns; kept is called after each transaction."""
        del to, columns
        last: Sequence[Any] = ()
        with told(self.into, "can't be written any further", writing=True):
            self._target.make(self._records(self.keys))
            with self._engine.execution_options(writes=True).connect() as connection:
                self._target.open(connection)
                while True:
                    with connection.begin():
                        rows = connection.execute(self._page(last)).all()
                        if not rows:
                            return
                        self._target.put(connection, self._changed(rows, answering))
                    last = rows[-1][: len(self.keys)]
                    kept()

    def fingerprint(self) -> str:
        """A database can't tell cheaply whether it is the same."""
        return ""

    def check_target(self, to: Path | None) -> str:
        """Raise BadSource when the answers can't be written."""
        del to
        with told(self.into, "can't be written"):
            self._target.check()
        return ""

    def _changed(self, rows: Sequence[Sequence[Any]], answering: Answering) -> list[list[Any]]:
        """Of a page's rows whose cells are not so already, the columns: of the keys, and of the new cells."""
        width, columns = len(self.header), list(zip(*rows, strict=True))
        answers = answering(list(as_texts([row[:width] for row in rows])))
        changed: set[int] = set()
        after: list[Sequence[Any]] = []
        for before, new in zip(columns[-len(answers) :], answers, strict=True):
            cells = [old if cell is LEAVE else cell for old, cell in zip(before, new, strict=True)]
            if len(changed) < len(rows) and cells != list(before):
                pairs = enumerate(zip(before, cells, strict=True))
                changed.update(at for at, (old, cell) in pairs if old is not cell and not _same(old, cell))
            after.append(cells)
        told, places = [*columns[: len(self.keys)], *after], sorted(changed)
        return [list(column) if len(places) == len(rows) else [column[at] for at in places] for column in told]

    def _page(self, last: Sequence[Any]) -> sa.Select[Any]:
        """The next page of rows by key, locked where they are to be written; after the header, the target's cells."""
        target, columns = self._target, list(self._target.columns.values())
        if target.own:
            query = self._records([*self.header, *columns]).with_for_update()
            keys = list(map(column, self.keys))
        else:
            records = self._records(self.header).subquery("records")
            keys = [records.c[key] for key in self.keys]
            same = sa.and_(*(records.c[key] == target.at.c[key] for key in self.keys))
            query = sa.select(*records.c, *(target.at.c[name] for name in columns))
            query = query.select_from(records.outerjoin(target.at, same))
        query = query.order_by(*keys).limit(PAGE)
        if not last:
            return query
        return query.where(keys[0] > last[0] if len(keys) == 1 else sa.tuple_(*keys) > sa.tuple_(*last))

    def _records(self, names: Sequence[str]) -> sa.Select[Any]:
        """The job's records, in these columns."""
        table, query = self._place.table, self._place.query
        source: Any = sa.table(table.table, schema=table.schema) if table else _as_table(query or "")
        chosen = sa.select(*map(column, names)).select_from(source)
        if self._place.only:
            chosen = chosen.where(sa.literal_column(f"({self._place.only})", sa.Boolean))
        return chosen

    def _columns(self) -> Sequence[str]:
        table = self._place.table
        if table is None:
            with self._engine.connect() as connection:
                everything = sa.select(sa.text("*")).select_from(_as_table(self._place.query or "")).limit(0)
                return list(connection.execute(everything).keys())
        try:
            return list(columns_of(self._engine, table))
        except NoSuchTableError as error:
            look = sa.inspect(self._engine)
            there = [*look.get_table_names(table.schema), *look.get_view_names(table.schema)]
            raise BadSource(
                f"There is no table {self.name} (there are: {', '.join(sorted(there)) or 'none'}). Nothing was sent."
            ) from error

    def _primary_key(self) -> Sequence[str]:
        table = self._place.table
        names = sa.inspect(self._engine).get_pk_constraint(table.table, table.schema) if table else None
        if not names or not names["constrained_columns"]:
            raise BadSource(f'{self.name} has no primary key. Name one: key = "…" under [records]. Nothing was sent.')
        return names["constrained_columns"]


def _give_up(cursor: Any) -> None:
    """The connection is lost: have no driver try to read the rest of the rows later, and complain that it can't."""
    with suppress(Exception):
        cursor._result.unbuffered_active = False  # noqa: SLF001 - PyMySQL has no other way
    with suppress(Exception):
        cursor.close()


def _as_table(query: str) -> Any:
    """A query as what is selected from; a colon in it is no variable of ours."""
    return sa.text(f"({query.strip().rstrip(';')}) AS records".replace(":", r"\:"))


def _same(old: Any, new: Any) -> bool:
    """Whether a cell holds already what is to be put into it."""
    if old == new or old is None or new is None or isinstance(new, str):
        return bool(old == new)
    try:
        return bool(float(old) == new)
    except (TypeError, ValueError):
        return False


def tables_of(url: str, password: str | None, folder: Path) -> list[Named]:
    """The tables and views of a database, those of its default schema first. Raises BadSource."""
    place = Place(url, None, password=password)
    with told(place.shown(), "can't be opened"):
        look = sa.inspect(open_engine(place.full_url(folder)))
        own = [Named(name) for name in (*look.get_table_names(), *look.get_view_names())]
        hidden = {
            look.default_schema_name,
            "information_schema",
            "pg_catalog",
            "mysql",
            "performance_schema",
            "sys",
            "main",
        }
        schemas = [schema for schema in look.get_schema_names() if schema not in hidden]
        others = [Named(n, s) for s in schemas for n in (*look.get_table_names(s), *look.get_view_names(s))]
    return own + others


def sample_of(place: Place, folder: Path, count: int) -> tuple[list[str], list[Row], list[str]]:
    """The columns of a table, its first rows, and its primary key. Raises BadSource."""
    table = place.table
    assert table is not None, "a sample is of a table"
    with told(f"{table} in {place.shown()}", "can't be read"):
        engine = open_engine(place.full_url(folder))
        header = list(columns_of(engine, table))
        query = sa.select(*map(column, header)).select_from(sa.table(table.table, schema=table.schema)).limit(count)
        with engine.connect() as connection:
            rows = connection.execute(query).all()
        key = sa.inspect(engine).get_pk_constraint(table.table, table.schema)["constrained_columns"]
    return header, as_texts(rows), key
