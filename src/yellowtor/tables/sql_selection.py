"""Those records of a file that a SQL condition holds for, in a SQL order: as a database would do it, by DuckDB.

The condition sees the file's columns as texts, empty cells as NULL, and nothing else: no file, no network, no
other table. Only an order needs all the records in memory at once.
"""

from collections.abc import Collection, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yellowtor.contracts.table import LEAVE, Answering, HasFormulas, KeepsBackup, OnWritten, ReturnsStored, Row
from yellowtor.errors import BadSource
from yellowtor.sealed_sql import sealed_engine, texts_of
from yellowtor.tables.cells import ignore_written
from yellowtor.tables.file_table import FileTable

if TYPE_CHECKING:
    import duckdb

    from yellowtor.tables.data_frame import FrameTable

NEEDED_BY = "records.only and records.first of a file"
BATCH = 2_000


class ChosenTable:
    """A file's table of which only some records count. Raises BadSource for a condition that can't be run."""

    def __init__(self, table: "FileTable | FrameTable", only: str | None, first: str | None) -> None:
        self._table = table
        self._only = only
        self._first = first
        table.is_chosen_from = only is not None
        self.name = table.name
        self.header = table.header
        self.keys = table.keys
        self.decimal = table.decimal
        self.backup = table.backup if isinstance(table, KeepsBackup) else None
        self.remarks = table.remarks
        self.as_stored = table.as_stored if isinstance(table, ReturnsStored) else None
        self.exact_keys = table.exact_keys
        self.fingerprint = table.fingerprint
        with sealed_engine(NEEDED_BY) as engine:  # so that a mistake is reported before anything is done
            self._numbers(engine, [])

    def refresh(self) -> bool:
        anew = self._table.refresh()
        self.header = self._table.header
        self.decimal = self._table.decimal
        self.as_stored = self._table.as_stored if isinstance(self._table, ReturnsStored) else None
        return anew

    @property
    def calculated(self) -> Collection[str]:
        return self._table.calculated if isinstance(self._table, HasFormulas) else ()

    @property
    def left(self) -> Sequence[str]:
        return self._table.left if isinstance(self._table, HasFormulas) else ()

    def check_target(self, to: Path | None) -> list[str]:
        return self._table.check_target(to)

    def batches(self) -> Iterator[Sequence[Row]]:
        """The chosen rows, in the file's order or the job's."""
        with sealed_engine(NEEDED_BY) as engine:
            if not self._first:
                for batch in self._table.batches():
                    if chosen := [batch[n] for n in self._numbers(engine, batch)]:
                        yield chosen
                return
            rows = [row for batch in self._table.batches() for row in batch]
            order = self._numbers(engine, rows)
        for at in range(0, len(order), BATCH):
            yield [rows[n] for n in order[at : at + BATCH]]

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """Write as the file's table does, and leave what was not chosen as it is."""
        with sealed_engine(NEEDED_BY) as engine:

            def answer(batch: Sequence[Row]) -> Sequence[Any]:
                chosen = sorted(self._numbers(engine, batch))
                cells: list[list[Any]] = [[LEAVE] * len(batch) for _ in columns]
                for column, new in zip(cells, answering([batch[n] for n in chosen]) if chosen else [], strict=False):
                    for n, cell in zip(chosen, new, strict=True):
                        column[n] = cell
                return cells

            self._table.rewrite(to, columns, answer, on_written)

    def _numbers(self, engine: "duckdb.DuckDBPyConnection", rows: Sequence[Row]) -> list[int]:
        """Which of these rows are chosen, in order."""
        import duckdb
        import pyarrow as pa

        columns = texts_of(self.header, rows)
        number = "n"
        while number in columns:
            number += "_"
        engine.register("records", pa.table({**columns, number: pa.array(range(len(rows)), pa.int64())}))
        where = f"WHERE ({self._only})" if self._only else ""
        order = f"{self._first}, {number}" if self._first else number
        query = f"SELECT {number} FROM records {where} ORDER BY {order}"  # noqa: S608 - sealed off
        try:
            (statement,) = engine.extract_statements(query)
            return [n for (n,) in engine.execute(statement).fetchall()]
        except (duckdb.Error, ValueError) as error:
            said = str(error).strip().splitlines()[0]
            rule = " and ".join(f"{k} = {v!r}" for k, v in (("only", self._only), ("first", self._first)) if v)
            raise BadSource(f"{self.name}: records.{rule} can't be run: {said}. Nothing was sent.") from error
        finally:
            engine.unregister("records")
