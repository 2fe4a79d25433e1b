"""JSON lines: a record in each line, as an object."""

import gzip
import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import Any

from yellowtor.contracts.table import Answering, OnWritten, Row
from yellowtor.errors import BadSource
from yellowtor.files import check_unwritten, written_aside
from yellowtor.tables.cells import ignore_written
from yellowtor.tables.file_table import FileOptions
from yellowtor.tables.json_files.json_records import BATCH, BOM, JsonTable, flat, load_json, path_of
from yellowtor.tables.json_files.json_text import edited, edits, members


class JsonLinesTable(JsonTable):
    """A file with a JSON object in each line. Raises BadSource."""

    endings = frozenset({".jsonl", ".ndjson", ".jsonl.gz", ".ndjson.gz"})

    def __init__(self, path: Path, backup: Path | None = None) -> None:
        super().__init__(path, backup)
        self._open()

    def _open(self) -> None:
        self._find_header(record for _, record in self._records() if record is not None)

    def _records(self) -> Iterator[tuple[bytes, dict[str, Any] | None]]:
        """Each line, and its record; None for a blank line."""
        with self._reading() as file:
            for number, line in enumerate(file, 1):
                text = line.removeprefix(BOM) if number == 1 else line
                yield line, flat(self._object(text, number)) if text.strip() else None

    def _object(self, text: bytes, number: int) -> dict[str, Any]:
        try:
            value = load_json(text)
        except ValueError as error:
            raise BadSource(f"{self.name}, line {number}: not JSON ({error}). Nothing was written.") from error
        if not isinstance(value, dict):
            raise BadSource(f"{self.name}, line {number}: not a JSON object, but {text[:40]!r}. Nothing was written.")
        return value

    def batches(self) -> Iterator[Sequence[Row]]:
        rows = (self._row(record) for _, record in self._records() if record is not None)
        while batch := list(islice(rows, BATCH)):
            yield batch

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        to = to or self.path
        before = self.state
        lines = self._records()
        changed = False
        packed = [path.suffix.lower() == ".gz" for path in (to, self.path)]
        with written_aside(to, self.backup, self.path) as aside:
            with _written(aside, packed=packed[0]) as file:
                while batch := list(islice(lines, BATCH)):
                    records = [record for _, record in batch if record is not None]
                    cells = zip(*answering([self._row(r) for r in records]), strict=True) if records else iter(())
                    for line, record in batch:
                        now = line if record is None else self._line(line, columns, next(cells))
                        changed = changed or now != line
                        file.write(now)
            if not changed and all(packed):
                shutil.copyfile(self.path, aside)  # packed by others, and the same
            check_unwritten(self.path, before)
        on_written()

    def _line(self, line: bytes, columns: Sequence[str], cells: Sequence[Any]) -> bytes:
        text = line.decode()
        changes = self._changes(columns, cells)
        try:
            start = text.index("{")
            there = members(text, start).values
            done = edits(text, start, {path_of(name, there): value for name, value in changes.items()})
        except ValueError as error:
            raise BadSource(f"{self.name}: a record's {error}: {text[:60]!r}. Nothing was written.") from error
        return edited(text, done).encode() if done else line


@contextmanager
def _written(aside: Path, *, packed: bool) -> Iterator[Any]:
    with aside.open("wb") as file:
        if not packed:
            yield file
            return
        with gzip.GzipFile("", "wb", 6, file, mtime=0) as inner:
            yield inner


def open_table(path: Path, options: FileOptions) -> JsonLinesTable:
    """The table in a file of JSON lines."""
    return JsonLinesTable(path, options.backup)
