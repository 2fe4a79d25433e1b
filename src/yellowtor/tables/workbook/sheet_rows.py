"""The rows of a sheet, read once from the first to the last; and which of them hold records."""

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from itertools import islice


class SheetRows:
    """The rows of a sheet, read in order; rows before the requested ones are skipped."""

    def __init__(self, rows: Iterator[Sequence[object]]) -> None:
        self._rows = rows
        self._passed = 0

    def take(self, numbers: Sequence[int]) -> Sequence[Sequence[object]]:
        """The rows from the first of these numbers (from 1) to the last."""
        skipped = numbers[0] - 1 - self._passed
        self._passed = numbers[-1]
        return list(islice(self._rows, skipped, skipped + len(numbers)))


class RecordRows:
    """The numbers (from 1) of the rows with records, which are read when somebody looks whether one is among them."""

    def __init__(self, numbers: Callable[[], Iterator[Sequence[int]]]) -> None:
        self._numbers = numbers

    def __contains__(self, row: object) -> bool:
        return row in self._rows

    @cached_property
    def _rows(self) -> set[int]:
        return {number for page in self._numbers() for number in page}
