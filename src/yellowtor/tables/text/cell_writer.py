"""Writes new cells into delimited text: everything else keeps its bytes."""

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import repeat
from typing import Any

from yellowtor.contracts.table import LEAVE, Answering, NewCells, Repeated
from yellowtor.tables.cells import safe_texts
from yellowtor.tables.text.columns import ColumnRows
from yellowtor.tables.text.dialect import TextDialect
from yellowtor.tables.text.row_text import RawRows

Whole = Callable[[list[str]], list[str]]  # a row with the cells that it lacks


class CellWriter:
    """Puts new cells into rows: as the table's dialect has them, beside cells as they are written."""

    def __init__(self, dialect: TextDialect, header: Sequence[str], columns: Sequence[str], whole: Whole) -> None:
        self._dialect = dialect
        self._header = header
        self._whole = whole
        self.changed = False
        self._made: dict[int, _Made] = {}
        self._added = [name for name in columns if name not in header]
        order = [*header, *self._added]
        self._places = [order.index(name) for name in columns]
        self._width = len(order)
        self._special = re.compile(f"[{re.escape(self._dialect.delimiter + self._dialect.quote)}\r\n]")
        all_quoted = len(self._dialect.quoted) == len(header)
        self._quoted = self._dialect.quoted | (set(range(len(header), len(order))) if all_quoted else set())

    def header(self, found: RawRows) -> str:
        """The header as it is, with the names of the columns that are new."""
        (cells,), (raw,), (end,) = found  # of a file that is not empty
        raw = [*raw, *[""] * (len(self._header) - len(cells))]
        names = self._texts(self._added, always=self._dialect.quoted_header)
        self.changed = bool(names)
        return self._dialect.delimiter.join([*raw, *names]) + end

    def rows(self, found: RawRows, answering: Answering) -> str:
        """Rows with their new cells; blank lines stay."""
        full = [n for n, row in enumerate(found.cells) if row]
        if not full:
            return "".join(found.ends)
        cells, raw = ([rows[n] for n in full] for rows in (found.cells, found.raw))
        width = len(self._header)
        short = [n for n, row in enumerate(cells) if len(row) != width]
        for n in short:
            cells[n] = self._whole(list(cells[n]))
        padded = [[*row, *[""] * (width - len(row))] for row in raw] if short else raw
        columns: list[Sequence[str]] = [*zip(*padded, strict=True), *repeat([""] * len(cells), len(self._added))]
        old = list(zip(*cells, strict=True))
        for place, new in zip(self._places, answering(cells), strict=True):
            cells_now = self._new(new, old[place] if place < width else None, columns[place], place)
            self.changed = self.changed or list(cells_now) != list(columns[place])
            columns[place] = cells_now
        texts = list(map(self._dialect.delimiter.join, zip(*columns, strict=True)))
        if not self._added:
            for n in short:
                texts[n] = self._trimmed([column[n] for column in columns], len(raw[n]))
        return self._with_ends(texts, full, found.ends)

    def columns(self, found: ColumnRows, answering: Answering) -> str:
        """Records with their new cells."""
        width = len(self._header)
        there = [place for place in self._places if place < width]
        first, behind = (min(there), max(there) + 1) if there else (width, width)
        pieces, at = found.pieces(first, behind)
        columns: list[Sequence[str]] = [*pieces, *[[""] * len(found)] * len(self._added)]
        added = len(pieces)
        for place, new in zip(self._places, answering(found), strict=True):
            number = added + place - width if place >= width else at + place - first
            raw = columns[number]
            repeated = (
                self._repeated(new, None if place >= width else raw, place) if isinstance(new, Repeated) else None
            )
            old = None if place >= width or repeated else found.unquoted(raw)
            columns[number] = repeated or self._new(new, old, raw, place)
        end = found.line_end if found.page.data.endswith(b"\n") else ""
        text = found.line_end.join(map(self._dialect.delimiter.join, zip(*columns, strict=True))) + end
        self.changed = self.changed or text != found.text
        return text

    def _repeated(self, new: Repeated, raw: Sequence[str] | None, place: int) -> list[str] | None:
        """As _new(), for cells of which many are the same; None where some stay, or are quoted."""
        made = self._made.get(place)
        if made is None or made.values is not new.values:
            made = self._made[place] = _Made(new.values, [], [])
        if len(made.texts) < len(new.values) and not made.leaves:
            more = new.values[len(made.texts) :]
            made.leaves = LEAVE in more
            texts = [] if made.leaves else self._as_texts(more)
            made.texts.extend(texts)
            made.written.extend(self._texts(texts, always=place in self._quoted))
        if made.leaves or (raw is not None and self._dialect.quote in "".join(raw)):
            return None
        now = list(map(made.written.__getitem__, new.which))
        if raw is None or made.written == made.texts:
            return now
        there = zip(raw, map(made.texts.__getitem__, new.which), now, strict=True)
        return [was if was == text else cell for was, text, cell in there]

    def _trimmed(self, fields: list[str], least: int) -> str:
        """A row that lacks its last cells, as long as nothing has come into them."""
        while len(fields) > least and not fields[-1]:
            fields.pop()
        return self._dialect.delimiter.join(fields)

    def _with_ends(self, texts: Sequence[str], full: Sequence[int], ends: Sequence[str]) -> str:
        if len(full) < len(ends):
            there = dict(zip(full, texts, strict=True))
            texts = [there.get(n, "") for n in range(len(ends))]
        if len(set(ends)) == 1:
            return ends[0].join(texts) + ends[0]
        return "".join([part for pair in zip(texts, ends, strict=True) for part in pair])

    def _new(self, new: NewCells, old: Sequence[str] | None, raw: Sequence[str], place: int) -> Sequence[str]:
        """What a column's cells are written as: what they are where their text stays. old: None for a new column."""
        texts = self._as_texts(new)
        written = self._texts(texts, always=place in self._quoted)
        if old is None:
            return written if LEAVE not in new else ["" if c is LEAVE else w for c, w in zip(new, written, strict=True)]
        rows = zip(new, texts, old, written, raw, strict=True)
        return [before if cell is LEAVE or text == was else now for cell, text, was, now, before in rows]

    def _as_texts(self, new: NewCells) -> Sequence[str]:
        """New cells as texts; one that a spreadsheet would take for a formula gets an apostrophe first."""
        texts = safe_texts(new)
        if (mark := self._dialect.decimal) == ".":
            return texts
        return [t if isinstance(cell, str) else t.replace(".", mark) for cell, t in zip(new, texts, strict=True)]

    def _texts(self, column: Sequence[str], *, always: bool) -> Sequence[str]:
        """Texts in quotes where they need them, or always."""
        if always:
            return [self._wrapped(t) if t or self._dialect.quoted_empty else t for t in column]
        if not self._special.search("".join(column)):
            return column
        return [self._wrapped(t) if self._special.search(t) else t for t in column]

    def _wrapped(self, text: str) -> str:
        quote = self._dialect.quote
        return quote + text.replace(quote, quote + quote) + quote


@dataclass
class _Made:
    """Values, as texts and as they are written; leaves: some of them leave their cell as it is."""

    values: Sequence[Any]
    texts: list[str]
    written: list[str]
    leaves: bool = False
