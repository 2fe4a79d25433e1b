"""Lists of different lengths in two arrays: list n is values[starts[n]:starts[n + 1]]."""

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[Any]


class Lists(NamedTuple):
    """starts has one number more than there are lists."""

    starts: Ints
    values: NDArray[Any]

    def of(self, rows: Ints) -> "tuple[Ints, NDArray[Any]]":
        """The lists of these rows one after the other: the place of each value's row, and the values."""
        counts = self.starts[rows + 1] - self.starts[rows]
        return np.repeat(np.arange(len(rows)), counts), self.values[ranges(self.starts[rows], counts)]


def ranges(starts: Ints, counts: Ints) -> Ints:
    """The whole numbers start, start + 1 … of each start, count of them, one range after the other."""
    total = int(counts.sum())
    if not total:
        return np.zeros(0, np.int64)
    begins = np.cumsum(counts) - counts
    offsets: Ints = np.repeat(starts.astype(np.int64) - begins, counts)
    return np.arange(total, dtype=np.int64) + offsets


def lists_of(values: Sequence[Sequence[int]], kind: Any) -> Lists:
    """Python lists as arrays of this type."""
    counts = np.fromiter(map(len, values), np.int64, len(values))
    flat = np.fromiter((one for own in values for one in own), kind, int(counts.sum()))
    return Lists(np.concatenate([[0], np.cumsum(counts)]), flat)


def run_starts(numbers: Ints) -> Ints:
    """The starts of runs of equal numbers in a sorted array."""
    return np.flatnonzero(np.concatenate([[True], numbers[1:] != numbers[:-1]])) if len(numbers) else numbers[:0]
