"""Records in a pandas DataFrame; the answers go into a copy of it."""

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pandas as pd

from yellowtor.contracts.table import LEAVE, Answering, OnWritten, Row
from yellowtor.tables.cells import Texts, ignore_written, sound
from yellowtor.tables.header import checked_header

BATCH = 5_000


class FrameTable:
    """A frame as a table. `placed` is the copy with the answers, once they are written."""

    keys: Sequence[str] = ()
    decimal = "."
    name = "The frame"
    remarks: Sequence[str] = ()
    exact_keys = False
    is_chosen_from = False

    def __init__(self, frame: pd.DataFrame) -> None:
        self._frame = frame
        self.header = checked_header([str(column) for column in frame.columns], self.name)
        self.placed = frame

    def batches(self) -> Iterator[Sequence[Row]]:
        for at in range(0, len(self._frame), BATCH):
            part = self._frame.iloc[at : at + BATCH]
            yield Texts([_sound(_values(part.iloc[:, n])) for n in range(len(self.header))])

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """Put what answering gives into these columns of a copy; then call on_written."""
        del to
        new: list[list[Any]] = [[] for _ in columns]
        for batch in self.batches():
            for cells, answers in zip(new, answering(batch), strict=True):
                cells.extend(answers)
        placed = self._frame.copy()
        for name, cells in zip(columns, new, strict=True):
            there = name in self.header
            before = _values(self._frame.iloc[:, self.header.index(name)]) if there else [None] * len(cells)
            merged = [old if cell is LEAVE else cell for old, cell in zip(before, cells, strict=True)]
            placed[name] = _series(merged, self._frame.index)
        self.placed = placed
        on_written()

    def fingerprint(self) -> str:
        """Empty: a frame can't tell cheaply whether it has changed."""
        return ""

    def refresh(self) -> bool:
        return False

    def check_target(self, to: Path | None) -> list[str]:
        del to
        return []


def _values(series: "pd.Series[Any]") -> list[Any]:
    """The cells of a column; None for what pandas takes for missing."""
    values = series.astype(object)
    return values.where(series.notna(), None).tolist()


def _sound(cells: list[Any]) -> list[Any]:
    """The cells without lone surrogates."""
    try:
        "".join([cell for cell in cells if isinstance(cell, str)]).encode()
    except UnicodeEncodeError:
        return [sound(cell) if isinstance(cell, str) else cell for cell in cells]
    return cells


def _series(cells: Sequence[Any], index: Any) -> "pd.Series[Any]":
    numbers = all(cell is None or isinstance(cell, float | int) for cell in cells) and any(
        cell is not None for cell in cells
    )
    return pd.Series(cells, index, dtype="float64" if numbers else None)
