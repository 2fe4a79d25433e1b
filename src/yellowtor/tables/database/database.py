"""Records in a table, a view or a query of a database.

A cursor reads them and is closed before the first request; the rows are stored. Answers are written by key, a page of
rows in a transaction whose update compares each row again: an edited row stays unchanged.
"""

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from decimal import Decimal
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError, NoSuchTableError

from yellowtor.contracts.secret import Secret
from yellowtor.contracts.table import LEAVE, Answering, OnWritten, PageWritten, Row
from yellowtor.database_url import DatabaseUrl
from yellowtor.errors import BadSource
from yellowtor.tables.cells import DEGREES, Texts, as_text, as_texts, ignore_written
from yellowtor.tables.column_precision import as_stored, remark
from yellowtor.tables.database.database_source import DatabaseLocation, Named, open_engine, translated
from yellowtor.tables.database.database_target import Create, Target, column, columns_of
from yellowtor.tables.database.dialects.registry import dialect_of
from yellowtor.tables.database.page_writes import Load
from yellowtor.tables.database.refusals import Rows, limit_lock_waits, write_rows
from yellowtor.tables.database.write_trial import try_to_write
from yellowtor.tables.row_spool import Page, Spool

TRIED = 3  # records for the trial write
SKIPPED = "the database left it as it was, and did not say why: a policy or a trigger may forbid it"
PAGE = 5_000  # rows that are read, and written in one transaction
OF_POSTGIS = {"spatial_ref_sys", "geometry_columns", "geography_columns"}  # no records are in these


class DatabaseTable:
    """Records of a database as a Table. Raises BadSource.

    needed are the columns that the job reads, answers the columns by the part of the answer; missing ones are created
    if `create`. Existing answers are read too, so that unchanged ones are not written again.
    """

    decimal = "."
    remarks: Sequence[str] = ()

    def __init__(
        self,
        place: DatabaseLocation,
        needed: Sequence[str],
        answers: Mapping[str, str],
        folder: Path,
        *,
        create: Create,
    ) -> None:
        self._place = place
        url = place.full_url(folder)
        self.name = f"{place.table or 'The query'} in {place.shown()}"
        with translated(self.name, "can't be opened"):
            self._engine = open_engine(url)
            there = self._columns()
            self._kinds = there
            self.keys: Sequence[str] = place.keys or self._primary_key()
        wanted = list(dict.fromkeys([*self.keys, *needed]))
        if missing := [name for name in wanted if name not in there]:
            raise BadSource(
                f"{self.name} has no column {', '.join(map(repr, missing))}, which the job names "
                f"(it has: {', '.join(there)}). Nothing was sent."
            )
        table = place.results or place.table
        assert table is not None, "the job sees to it that a query has a table of results"
        with translated(str(table), "can't be opened"):
            self._target = Target(self._engine, table, self.keys, answers, place.results is None, create)
        own = [] if place.results else self._target.present
        self.header = list(dict.fromkeys([*wanted, *own]))
        self.exact_keys = not any(isinstance(self._kinds.get(key), sa.CHAR) for key in self.keys)  # which are padded
        self.destination = f"{table} in {place.shown()}"
        self.as_stored = as_stored(self._target.coarse())
        self._compared = self._comparable({*wanted, *(answers.get(part, "") for part in DEGREES)})
        self._read: Spool | None = None  # the rows as they were read last, whole

    def batches(self) -> Iterator[Sequence[Row]]:
        """The rows as texts, in the job's order, through a cursor of the server."""
        order: list[Any] = [sa.literal_column(self._place.first)] if self._place.first else []
        query = self._records(self.header).order_by(*order, *map(column, self.keys))
        self._read = None
        spool = Spool()
        with translated(self.name, "can't be read"), self._engine.connect() as connection:
            streaming = connection.execution_options(stream_results=True, yield_per=PAGE)
            found = streaming.execute(query)
            cursor: Any = found.cursor
            try:
                for rows in found.partitions(PAGE):
                    page = list(zip(*rows, strict=True))
                    spool.add(page)
                    yield Texts(page)
            except DBAPIError:
                _give_up(cursor)
                raise
        self._read = spool

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """Write what answering gives into the target's columns; on_written is called after each transaction.

        The rows are those that batches() gave last. While one page is being written, the next one is answered.
        """
        del to, columns
        if self._read is None:
            for _ in self.batches():
                pass
        assert self._read is not None, "they were read just now"
        written = [0]
        with translated(self.destination, "can't be written any further", lambda: written[0]):
            self._target.make(self._records(self.keys))
            with (
                self._engine.execution_options(writes=True).connect() as connection,
                ThreadPoolExecutor(1) as aside,
            ):
                limit_lock_waits(connection)
                self._target.open(connection, self._records(self.header), self._compared)
                connection.commit()
                writing: Future[PageWritten] | None = None
                for page in self._read.pages():
                    ready = self._ready(page, answering(Texts(page)))
                    if writing:
                        on_written(writing.result())
                        written[0] += PAGE
                    writing = aside.submit(self._put, connection, page, ready)
                if writing:
                    on_written(writing.result())

    def refresh(self) -> bool:
        """Each statement names its columns."""
        return False

    def fingerprint(self) -> str:
        """Empty: a database can't tell cheaply whether it has changed."""
        return ""

    def check_target(self, to: Path | None) -> list[str]:
        """Raise BadSource when the answers can't be written."""
        del to
        records = self._records(self.header)
        with translated(self.name, "can't be read"), self._engine.connect() as connection:
            some = connection.execute(records.limit(TRIED)).all()
        with translated(self.destination, "can't be written"):
            self._target.check()
            tried = [dict(zip(self.header, row, strict=True)) for row in some]
            try_to_write(self._target, records, self._compared, tried)
        said = remark([self._target.columns.get(part, "") for part in DEGREES], self._target.coarse())
        return [said] if said else []

    def _ready(self, page: Page, answers: Sequence[Sequence[Any]]) -> list[Load]:
        """The new cells of a page, grouped by the columns that they are for."""
        names = list(self._target.columns.values())
        read = dict(zip(self.header, page, strict=True))
        changing = _changing([read.get(name) for name in names], self._as_given_back(answers))
        known = [read[name] for name in (*self.keys, *self._compared)]
        loads = []
        for which, places in _by_cells(answers, changing):
            known_cells: list[Sequence[Any]] = [*known, *(answers[at] for at in which)]
            if len(places) < len(page[0]):
                known_cells = [[column[at] for at in places] for column in known_cells]
            loads.append(self._target.load(known_cells, [names[at] for at in which]))
        return loads

    def _as_given_back(self, answers: Sequence[Sequence[Any]]) -> Sequence[Sequence[Any]]:
        """Cells as the table gives them back, where its columns for degrees are known to hold fewer digits."""
        parts = list(self._target.columns)
        if self.as_stored is None or not self._target.own or not set(DEGREES) <= set(parts):
            return answers
        at = [parts.index(part) for part in DEGREES]
        cells = list(answers)
        pairs = zip(cells[at[0]], cells[at[1]], strict=True)
        held = [self.as_stored(*pair) if isinstance(pair[0], float) else pair for pair in pairs]
        cells[at[0]], cells[at[1]] = ([pair[n] for pair in held] for n in range(2))
        return cells

    def _put(self, connection: sa.Connection, page: Page, loads: Sequence[Load]) -> PageWritten:
        """Write a page in one transaction, without refused rows."""
        done = Rows()
        write_rows(connection, self._target, loads, done, ordered=not self._place.first)
        changed = sum(put.changed for put in done.put)
        if not done.refused and not any(put.left or put.skipped or put.returned for put in done.put):
            return PageWritten(changed=changed)
        width = len(self.keys)
        at = {key: place for place, key in enumerate(zip(*page[:width], strict=True))}
        left = {at[tuple(key)] for put in done.put for key in put.left}
        refused = {at[tuple(key)]: SKIPPED for put in done.put for key in put.skipped} | {
            at[tuple(key)]: why for key, why in done.refused.items()
        }
        returned = {at[tuple(row[:width])]: row[width:] for put in done.put for row in put.returned}
        texts = {
            place: dict(zip(self._target.looked_at, map(as_text, row), strict=True))
            for place, row in returned.items()
            if place not in left and place not in refused
        }
        return PageWritten(sorted(left - refused.keys()), refused, texts, changed)

    def _comparable(self, wanted: Container[str]) -> dict[str, Any]:
        """Of the wanted columns those that must be as they were read when answers are written; with their types."""
        dialect = dialect_of(self._engine.dialect.name)
        names = [name for name in self.header if name in wanted and name not in self.keys]
        kinds = {name: self._kinds.get(name) for name in names}
        return {name: kind for name, kind in kinds.items() if dialect.is_comparable(kind)}

    def _records(self, names: Sequence[str]) -> sa.Select[Any]:
        """The job's records, in these columns."""
        table = self._place.table
        query = self._place.query
        source: Any = sa.table(table.table, schema=table.schema) if table else _as_table(query or "")
        chosen = sa.select(*map(column, names)).select_from(source)
        if self._place.only:
            chosen = chosen.where(sa.literal_column(f"({self._place.only})", sa.Boolean))
        return chosen

    def _columns(self) -> Mapping[str, Any]:
        """The existing columns, with their types if known."""
        table = self._place.table
        if table is None:
            with self._engine.connect() as connection:
                everything = sa.select(sa.text("*")).select_from(_as_table(self._place.query or "")).limit(0)
                return dict.fromkeys(connection.execute(everything).keys())
        try:
            return columns_of(self._engine, table)
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
    """A query as a source of SELECT; a colon in it is not a bind variable."""
    return sa.text(f"({query.strip().rstrip(';')}) AS records".replace(":", r"\:"))


def _changing(old: Sequence[Sequence[Any] | None], new: Sequence[Sequence[Any]]) -> Sequence[int]:
    """The places of a page's rows that do not hold what they are to hold, column by column; old: None if not read."""
    rows = range(len(new[0]) if new else 0)
    same: Sequence[int] = rows  # as far as is known
    for before, after in zip(old, new, strict=True):
        if before is None:
            return rows
        if tuple(after) != before:
            same = [at for at in same if after[at] is LEAVE or _is_same(before[at], after[at])]
    return sorted(set(rows).difference(same)) if same else rows


def _is_same(old: Any, new: object) -> bool:
    """Whether a cell certainly has the new value; if not certain, the database compares."""
    if isinstance(old, Decimal) and isinstance(new, float):
        return old == Decimal(repr(new))
    return bool(old == (new.hex().upper() if isinstance(new, bytes) else new))  # a geometry is read as digits


def _by_cells(answers: Sequence[Sequence[Any]], places: Sequence[int]) -> Iterable[tuple[Sequence[int], Sequence[int]]]:
    """Places of a page's rows by which of the columns they have new cells for; a row that has none is in none."""
    if not any(LEAVE in column for column in answers):
        return [(range(len(answers)), places)] if places else []
    groups: dict[tuple[int, ...], list[int]] = {}
    for place in places:
        groups.setdefault(tuple(at for at, column in enumerate(answers) if column[place] is not LEAVE), []).append(
            place
        )
    return [(which, places) for which, places in groups.items() if which]


def tables_of(url: str, password: Secret | None, folder: Path) -> list[Named]:
    """The tables and views of a database, those of its default schema first; none of PostGIS. Raises BadSource."""
    place = DatabaseLocation(DatabaseUrl(url, password), None)
    with translated(place.shown(), "can't be opened"):
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
    return [named for named in own + others if named.table not in OF_POSTGIS]


def sample_of(place: DatabaseLocation, folder: Path, count: int) -> tuple[list[str], list[Row], list[str]]:
    """The columns of a table, its first rows, and its primary key. Raises BadSource."""
    table = place.table
    assert table is not None, "a sample is of a table"
    with translated(f"{table} in {place.shown()}", "can't be read"):
        engine = open_engine(place.full_url(folder))
        header = list(columns_of(engine, table))
        query = sa.select(*map(column, header)).select_from(sa.table(table.table, schema=table.schema)).limit(count)
        with engine.connect() as connection:
            rows = connection.execute(query).all()
        key = sa.inspect(engine).get_pk_constraint(table.table, table.schema)["constrained_columns"]
    return header, as_texts(rows), key
