"""What a cell says, as text, and what may be written into one."""

import datetime as dt
import math
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from typing import overload

from yellowtor.contracts.table import ALL_WRITTEN, PageWritten, Row
from yellowtor.spreadsheet_text import FORMULA, shielded

DEGREES = ("latitude", "longitude")


def ignore_written(page: PageWritten = ALL_WRITTEN) -> None:
    """For a caller that does not need to know when rows are written."""
    del page


def as_text(value: object) -> str:
    """A cell's value as a person reads it: 412.0 is "412", an instant is ISO 8601."""
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, float):
        return str(int(value)) if math.isfinite(value) and value == int(value) and abs(value) < 1e15 else repr(value)
    if isinstance(value, dt.datetime) and value.time() == dt.time():
        return value.date().isoformat()
    return _decoded(bytes(value)) if isinstance(value, bytes | memoryview) else str(value)


def _decoded(value: bytes) -> str:
    """Bytes that are text as text, as people keep it in columns for anything; others as hexadecimal digits."""
    with suppress(UnicodeDecodeError):
        if (text := value.decode()).replace("\n", "").replace("\r", "").isprintable():
            return text
    return value.hex()


def number_texts(cells: Sequence[float | None], nothing: str = "") -> list[str]:
    """repr() of many numbers, five times as fast: a JSON writer does it, where it writes the same."""
    import orjson

    joined = orjson.dumps(list(cells))[1:-1].decode()
    texts = joined.split(",") if joined else []
    if "e" in joined or "0.0000" in joined or ("n" in joined and texts.count("null") > cells.count(None)):
        return [nothing if cell is None else repr(cell) for cell in cells]
    return [nothing if text == "null" else text for text in texts] if "n" in joined else texts


def sound(text: str) -> str:
    """A text without halves of characters (lone surrogates), which can be neither sent nor kept."""
    return text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def safe_text(cell: object) -> str:
    """A new cell as text; one that a spreadsheet would take for a formula gets an apostrophe first."""
    if isinstance(cell, str):
        return shielded(cell)
    return "" if cell is None else repr(cell)


def safe_texts(cells: Sequence[object]) -> list[str]:
    """As safe_text(), for many cells."""
    cells = list(cells)
    kinds = set(map(type, cells))
    if kinds <= {float, type(None)}:
        return number_texts(cells)  # type: ignore[arg-type]
    if kinds == {str} and FORMULA.isdisjoint([cell[:1] for cell in cells]):  # type: ignore[index]
        return cells  # type: ignore[return-value]
    return list(map(safe_text, cells))


class Texts(Sequence[Row]):
    """Columns of values as rows of texts: a column's are made when it is asked for, the others' with a whole row."""

    def __init__(self, columns: Sequence[Sequence[object]]) -> None:
        self._columns = columns
        self._made: dict[int, Sequence[str]] = {}

    def column(self, at: int) -> Sequence[str]:
        if at not in self._made:
            self._made[at] = as_column(self._values()[at])
        return self._made[at]

    def _values(self) -> Sequence[Sequence[object]]:
        return self._columns

    @cached_property
    def _rows(self) -> list[Row]:
        return list(zip(*map(self.column, range(len(self._values()))), strict=True))

    def __len__(self) -> int:
        return len(self._columns[0])

    def __iter__(self) -> Iterator[Row]:
        return iter(self._rows)

    @overload
    def __getitem__(self, at: int) -> Row: ...
    @overload
    def __getitem__(self, at: slice) -> list[Row]: ...
    def __getitem__(self, at: int | slice) -> Row | list[Row]:
        return self._rows[at]


class LazyTexts(Texts):
    """Rows of texts, whose columns are read when they are first used."""

    def __init__(self, count: int, read: Callable[[], Sequence[Sequence[object]]]) -> None:
        super().__init__(())
        self._count = count
        self._read = read

    def _values(self) -> Sequence[Sequence[object]]:
        self._columns = self._columns or self._read()
        return self._columns

    def __len__(self) -> int:
        return self._count


def as_texts(rows: Sequence[Sequence[object]]) -> list[Row]:
    """Rows of values as rows of texts, all of them."""
    return list(Texts(list(zip(*rows, strict=True)))) if rows else []


def as_column(column: Sequence[object]) -> Sequence[str]:
    kinds = set(map(type, column))
    if kinds == {str}:
        return column  # type: ignore[return-value]
    if kinds == {type(None)}:
        return [""] * len(column)
    if kinds <= {float, type(None)}:
        texts = number_texts(column)  # type: ignore[arg-type]
        if ".0\n" not in "\n".join([*texts, ""]):
            return texts
    return list(map(str if kinds == {int} else as_text, column))
