"""Columns of a page, packed: a repeated value is written once."""

from collections.abc import Sequence
from typing import Any

PackedColumn = list[Any] | dict[str, list[Any]]
FEW = 0.5  # part of the values that may be different


def pack(values: Sequence[Any]) -> PackedColumn:
    """The values, or the different ones (`words`) and which of them each is (`at`).

    >>> pack(["a", "b", "a", "a"])
    {'words': ['a', 'b'], 'at': [0, 1, 0, 0]}
    >>> pack([1.5, 2.5])
    [1.5, 2.5]
    """
    words: dict[Any, int] = {}
    at = []
    most = max(1, int(len(values) * FEW))
    for value in values:
        at.append(words.setdefault(value, len(words)))
        if len(words) > most:
            return list(values)
    return {"words": list(words), "at": at}
