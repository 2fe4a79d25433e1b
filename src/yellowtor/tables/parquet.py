"""Records in an Apache Parquet file, read and written by row groups: the largest of them is held in memory."""

import shutil
from collections.abc import Collection, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yellowtor.answers.answer_columns import NUMBERS
from yellowtor.contracts.table import LEAVE, Answering, NewCells, OnWritten, Repeated, Row
from yellowtor.errors import BadSource
from yellowtor.files import State, check_unwritten, written_aside
from yellowtor.tables.cells import DEGREES, Texts, as_column, ignore_written
from yellowtor.tables.column_precision import SINGLE, Coarse, as_stored
from yellowtor.tables.file_table import FileOptions, FileTable, check_readable
from yellowtor.tables.header import checked_header
from yellowtor.tables.repeated_arrays import RepeatedArrays, arrow_array

if TYPE_CHECKING:
    import pyarrow as pa

BATCH = 10_000
VERSIONS = {"1.0", "2.4", "2.6"}
ENCODINGS = {"DELTA_BINARY_PACKED", "DELTA_LENGTH_BYTE_ARRAY", "DELTA_BYTE_ARRAY", "BYTE_STREAM_SPLIT"}


class ParquetTable(FileTable):
    """A Parquet file. answers are the parts of the answer by column. Raises BadSource."""

    endings = frozenset({".parquet", ".pq"})

    def __init__(self, path: Path, backup: Path | None, answers: dict[str, str], name: str = "") -> None:
        super().__init__(path, backup, name)
        import pyarrow as pa
        import pyarrow.parquet as pq

        self._pa = pa
        self._pq = pq
        self._answers = answers
        self._made: dict[str, RepeatedArrays] = {}
        self._open()

    def _open(self) -> None:
        pa = self._pa
        try:
            with self._file() as file:
                self._schema: Any = file.schema_arrow
                groups = file.metadata
                columns = range(groups.num_columns if groups.num_row_groups else 0)
                chunks = [groups.row_group(0).column(at) for at in columns]
                self._packed = {chunk.path_in_schema: _codec(chunk.compression) for chunk in chunks}
                self._style = _style(groups, chunks)
        except FileNotFoundError as error:
            raise BadSource(f"There is no file {self.name}. Nothing was sent.") from error
        except (OSError, UnicodeDecodeError, pa.ArrowException) as error:
            raise BadSource(
                f"{self.name} is not a Parquet file that can be read: {error}. Nothing was sent."
            ) from error
        self.header = checked_header(self._schema.names, self.name)
        column_of = {part: name for name, part in self._answers.items()}
        self.as_stored = as_stored([self._coarse(column_of.get(part, "")) for part in DEGREES])

    def _file(self) -> Any:
        """The file, opened for reading."""
        check_readable(self.path, self.name)
        return self._pq.ParquetFile(self.path)

    def batches(self) -> Iterator[Sequence[Row]]:
        return self.batches_of(self.header)

    def batches_of(self, columns: Collection[str]) -> Iterator[Sequence[Row]]:
        """As batches(); the other columns are not read from the file."""
        wanted = None if set(columns) == set(self.header) else [name for name in self.header if name in columns]
        try:
            with self._file() as file:
                for batch in file.iter_batches(BATCH, columns=wanted):
                    found = batch.columns
                    if wanted is not None:
                        there = dict(zip(batch.schema.names, found, strict=True))
                        found = list(map(there.get, self.header))
                    yield _ArrowTexts(found, len(batch))
        except (OSError, UnicodeDecodeError, self._pa.ArrowException) as error:
            raise BadSource(f"{self.name} can't be read: {error}. Nothing was written.") from error

    def check_target(self, to: Path | None) -> list[str]:
        self.check_columns()
        return super().check_target(to)

    def check_columns(self) -> None:
        """Raise BadSource if a column is there and can't hold its part of the answer."""
        for name, part in self._answers.items():
            number = part in NUMBERS
            if name in self.header and self._kind(name, number=number) is None:
                raise BadSource(
                    f"{self.name}: the column {name!r} is of type {self._schema.field(name).type}, and the answer is "
                    f"{'a number' if number else 'text'}. Name another column. Nothing was sent."
                )

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """Write a copy in which these columns hold what answering gives; then call on_written.

        Row groups, compression, metadata and every other column stay what they are.
        """
        schema = self._written_schema(columns)
        pa = self._pa
        before = self.state
        codecs = {**dict.fromkeys(columns, "snappy"), **self._packed} if self._packed else "snappy"
        try:
            with written_aside(to or self.path, self.backup, self.path) as aside:
                changed = not schema.equals(self._schema)
                with (
                    self._file() as file,
                    self._pq.ParquetWriter(aside, schema, compression=codecs, **self._style) as writer,
                ):
                    if not file.schema_arrow.equals(self._schema):
                        raise BadSource(f"{self.name} has other columns than when it was read. Nothing was written.")
                    for number in range(file.num_row_groups):
                        read = file.read_row_group(number)
                        group = self._answered(read, columns, answering, schema)
                        changed = changed or any(not group[name].equals(read[name]) for name in columns)
                        writer.write_table(group, row_group_size=max(1, group.num_rows))
                if not changed:
                    self._copy(aside)  # as it was written by others
                self._check_unwritten(before)
        except pa.ArrowException as error:
            raise BadSource(f"{self.name} can't be written back: {error}. Nothing was written.") from error
        on_written()

    def _copy(self, to: Path) -> None:
        shutil.copyfile(self.path, to)

    def _check_unwritten(self, before: State) -> None:
        """Raise BadSource where somebody has written to the file since it was in this state."""
        check_unwritten(self.path, before)

    def _answered(
        self, group: "pa.Table", columns: Sequence[str], answering: Answering, schema: "pa.Schema"
    ) -> "pa.Table":
        """A row group with its new cells."""
        new: dict[str, list[Any]] = {name: [] for name in columns}
        for batch in group.to_batches(BATCH):
            for name, cells in zip(columns, answering(_ArrowTexts(batch.columns, len(batch))), strict=True):
                before = batch.column(name) if name in batch.schema.names else None
                new[name].append(self._array(name, before, cells, schema.field(name).type))
        arrays = dict(zip(group.column_names, group.columns, strict=True))
        arrays |= {name: self._pa.chunked_array(chunks, schema.field(name).type) for name, chunks in new.items()}
        return self._pa.table([arrays[name] for name in schema.names], schema=schema)

    def _array(self, name: str, before: Any, cells: NewCells, kind: Any) -> Any:
        """New cells as the file has them; before are those that are there."""
        if isinstance(cells, Repeated):
            made = self._made.setdefault(name, RepeatedArrays(partial(arrow_array, kind=kind)))
            if (array := made.of(cells)) is not None:
                return array
        if LEAVE in cells:
            there = before.to_pylist() if before is not None else [None] * len(cells)
            cells = [old if cell is LEAVE else cell for old, cell in zip(there, cells, strict=True)]
        return arrow_array(cells, kind)

    def _written_schema(self, columns: Sequence[str]) -> "pa.Schema":
        """The schema with the columns that are new, or have no type yet, made."""
        schema = self._schema
        for name in columns:
            kind = self._kind(name, number=self._answers[name] in NUMBERS)
            at = schema.get_field_index(name)
            if at < 0:
                schema = schema.append(self._pa.field(name, kind))
            elif kind != schema.field(at).type:
                schema = schema.set(at, schema.field(at).with_type(kind))
        return schema

    def _coarse(self, name: str) -> Coarse | None:
        """A column for degrees that is there, and of single precision."""
        is_single = name in self.header and self._schema.field(name).type == self._pa.float32()
        return SINGLE if is_single else None

    def _kind(self, name: str, *, number: bool) -> Any:
        """The type that a column of answers has or gets; None where it can't hold them."""
        pa = self._pa
        there = self._schema.field(name).type if name in self.header else pa.null()
        if pa.types.is_null(there):  # as a column of nothing has it
            return pa.float64() if number else pa.string()
        texts = pa.types.is_string(there) or pa.types.is_large_string(there)
        return there if texts or (number and pa.types.is_floating(there)) else None


class _ArrowTexts(Texts):
    """A batch as rows of texts. An unused column is not converted: its values may not exist in Python."""

    def __init__(self, columns: Sequence[Any], count: int) -> None:
        super().__init__(columns)
        self._count = count

    def column(self, at: int) -> Sequence[str]:
        if at not in self._made:
            self._made[at] = as_column(_values(self._columns[at]))
        return self._made[at]

    def __len__(self) -> int:
        return self._count


def _values(column: Any) -> Sequence[object]:
    """A column's values; as Arrow writes them where Python has none such: years beyond 9999, nanoseconds."""
    import pyarrow as pa

    try:
        return list(column.to_pylist())
    except (ValueError, OverflowError, ArithmeticError, pa.ArrowException):
        return list(column.cast(pa.string()).to_pylist())


def _style(file: Any, chunks: Sequence[Any]) -> dict[str, Any]:
    """The options that write a file like this one: version, dictionaries, statistics, order, instants."""
    style: dict[str, Any] = {"version": file.format_version if file.format_version in VERSIONS else "2.6"}
    if not chunks:
        return style
    style["use_dictionary"] = [c.path_in_schema for c in chunks if c.has_dictionary_page] or False
    style["write_statistics"] = [c.path_in_schema for c in chunks if c.is_stats_set] or False
    instants = {c.physical_type for c in chunks if c.physical_type == "INT96"}
    style["use_deprecated_int96_timestamps"] = bool(instants)
    if order := file.row_group(0).sorting_columns:
        style["sorting_columns"] = order
    encodings = {c.path_in_schema: e for c in chunks for e in c.encodings if e in ENCODINGS}
    if encodings and not style["use_dictionary"]:
        style["column_encoding"] = encodings
    return style


def _codec(name: str) -> str:
    return "none" if name == "UNCOMPRESSED" else name.lower()


def open_table(path: Path, options: FileOptions) -> ParquetTable:
    """The table in a Parquet file."""
    return ParquetTable(path, options.backup, dict(options.answers))
