"""Rows in the text format of PostgreSQL's COPY."""

import json
import re
from collections.abc import Sequence
from typing import Any

from yellowtor.contracts.table import Repeated
from yellowtor.tables.cells import number_texts

_ESCAPES = {"\\": r"\\", "\t": r"\t", "\n": r"\n", "\r": r"\r"}
_SPECIAL = re.compile(r"[\\\t\n\r]")


def copy_text(columns: Sequence[Sequence[Any]]) -> str:
    """Columns as lines of a row each."""
    return "\n".join([*map("\t".join, zip(*map(_copied, columns), strict=True)), ""])


def _copied(cells: Sequence[Any]) -> Sequence[str]:
    if isinstance(cells, Repeated) and len(cells.values) <= len(cells):
        return list(map(_copied(cells.values).__getitem__, cells.which))
    try:
        together = "".join(cells)  # to be looked through at once
    except TypeError:
        kinds = set(map(type, cells))
    else:
        return list(map(_copied_cell, cells)) if any(mark in together for mark in _ESCAPES) else cells
    if kinds == {int}:
        return list(map(repr, cells))
    return number_texts(cells, r"\N") if kinds <= {float, type(None)} else list(map(_copied_cell, cells))


def _copied_cell(cell: Any) -> str:
    if cell is None:
        return r"\N"
    if isinstance(cell, bytes | memoryview):
        text = rf"\x{bytes(cell).hex()}"
    elif isinstance(cell, list | dict):
        text = _as_array(cell) if isinstance(cell, list) else json.dumps(cell, ensure_ascii=False)
    else:
        text = str(cell)
    return _SPECIAL.sub(lambda found: _ESCAPES[found[0]], text)


def _as_array(cells: Sequence[Any]) -> str:
    """An array as PostgreSQL writes it."""
    inner = (
        _as_array(c) if isinstance(c, list) else "NULL" if c is None else json.dumps(str(c), ensure_ascii=False)
        for c in cells
    )
    return f"{{{','.join(inner)}}}"
