"""New cells as arrays of Arrow. Of those of which many are the same, each value is converted once, whatever the rows.

pyarrow.array() would import pandas to see whether its argument is of pandas: half a second, and 60 MiB.
"""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from yellowtor.contracts.table import LEAVE, Repeated

if TYPE_CHECKING:
    import pyarrow as pa


def arrow_array(cells: Sequence[Any], kind: "pa.DataType") -> "pa.Array[Any]":
    """Numbers or texts, or None, as an array of this type. Raises ArrowException for a number that it can't hold."""
    import numpy as np
    import pyarrow as pa

    there = [cell is not None for cell in cells]
    held = None if all(there) else pa.py_buffer(np.packbits(there, bitorder="little"))
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        whole = pa.types.is_integer(kind)
        numbers = np.array([0 if cell is None else cell for cell in cells], np.int64 if whole else np.float64)
        found = pa.Array.from_buffers(pa.int64() if whole else pa.float64(), len(cells), [held, pa.py_buffer(numbers)])
    else:
        texts = [b"" if cell is None else str(cell).encode() for cell in cells]
        ends = np.cumsum([0, *map(len, texts)], dtype=np.int64)
        buffers = [held, pa.py_buffer(ends), pa.py_buffer(b"".join(texts))]
        found = pa.Array.from_buffers(pa.large_string(), len(cells), buffers)
    return found.cast(kind, safe=not pa.types.is_floating(kind))


class RepeatedArrays:
    """Arrays of one column; convert makes one of some values."""

    def __init__(self, convert: Callable[[Sequence[Any]], Any]) -> None:
        self._convert = convert
        self._values: Sequence[Any] | None = None
        self._array: Any = None
        self._leaves = False

    def of(self, new: Repeated) -> "pa.Array[Any] | None":
        """The cells of a batch of rows; None if some of them stay as they are."""
        import pyarrow as pa

        if self._values is not new.values:
            self._values = new.values
            self._array = self._convert([])
            self._leaves = False
        if len(self._array) < len(new.values) and not self._leaves:
            more = new.values[len(self._array) :]
            self._leaves = LEAVE in more
            if not self._leaves:
                self._array = pa.concat_arrays([self._array, self._convert(more)])
        return None if self._leaves else self._array.take(arrow_array(new.which, pa.int64()))
