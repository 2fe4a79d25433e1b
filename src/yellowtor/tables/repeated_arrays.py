"""New cells of which many are the same, as Arrow has them: each value is converted once, whatever the rows."""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from yellowtor.contracts.table import LEAVE, Repeated

if TYPE_CHECKING:
    import pyarrow as pa


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
        return None if self._leaves else self._array.take(pa.array(new.which, pa.int64()))
