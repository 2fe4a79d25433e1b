"""Delimited text bodies, read by the number or name of a column."""

import codecs
import csv
import io
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from yellowtor.answers.replies.body_text import CantOpenError, decoded, instead, looks_like_page, quoted
from yellowtor.answers.replies.json_paths import Fields, Finder, Getter, Holder, fields_by

_DEEPEST = 250  # columns that a path may speak of


class TextRow(NamedTuple):
    """A line of delimited text: its cells, and where those with a name stand."""

    cells: Sequence[str]
    names: Mapping[str, int]

    def cell(self, column: int | str) -> str | None:
        at = column if isinstance(column, int) else self.names.get(column, -1)
        return self.cells[at].strip() if 0 <= at < len(self.cells) else None


class TextFormat:
    """Delimited text (RFC 4180), read by the number of a column (from 1) or its name in the header."""

    accept = "text/csv, text/plain"

    def __init__(self, delimiter: str, *, header: bool, encoding: str | None = None, needs: Sequence[str] = ()) -> None:
        self._delimiter = delimiter
        self._header = header
        self._encoding = encoding
        self._needs = [name for name in needs if header and not name.isdecimal()]

    def open(self, body: bytes, content_type: str) -> Any:
        if looks_like_page(body):
            raise CantOpenError(instead(body, "delimited text", ()))
        text = decoded(body, content_type, self._encoding)
        try:
            lines = csv.reader(io.StringIO(text, newline=""), delimiter=self._delimiter, strict=True)
            rows = [row for row in lines if row]
        except csv.Error as error:
            raise CantOpenError(f"the reply is not delimited text: {error}") from error
        if not rows:
            raise CantOpenError("the reply is empty")
        names = {name.strip(): at for at, name in enumerate(rows.pop(0))} if self._header else {}
        if missing := [name for name in self._needs if name not in names]:
            raise CantOpenError(f"the first line names no column {missing[0]!r}: {quoted(body)}")
        return [TextRow(row, names) for row in rows]

    def finder(self, path: str) -> Finder:
        get = self.getter(path)

        def find(data: Any) -> list[Any]:
            lines = data if isinstance(data, list) else [data]
            return [value for line in lines if (value := get(line)) is not None]

        return find

    def getter(self, path: str) -> Getter:
        if not path.isdecimal() and not self._header:
            raise ValueError(f"{path!r} is not a column: give its number, from 1, or set header = true")
        column: int | str = int(path) - 1 if path.isdecimal() else path
        if isinstance(column, int) and not 0 <= column < _DEEPEST:
            raise ValueError(f"{path!r} is not a column: they are counted from 1 to {_DEEPEST}")
        return lambda line: line.cell(column)

    def fields(self, paths: Mapping[str, str]) -> Fields:
        return fields_by({name: self.getter(path) for name, path in paths.items()})

    def holder(self, path: str) -> Holder:
        del path
        return lambda _: self._header  # whose columns are there: a body without one is never empty

    def part(self, found: Sequence[Any]) -> bytes:
        lines = [list(line.cells) for line in found]
        if self._header:
            lines.insert(0, list(found[0].names))
        text = io.StringIO(newline="")
        csv.writer(text, delimiter=self._delimiter).writerows(lines)
        return (codecs.BOM_UTF8 if self._encoding else b"") + text.getvalue().encode()
