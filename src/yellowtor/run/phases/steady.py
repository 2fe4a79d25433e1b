"""Scans a file that others may write meanwhile."""

from collections.abc import Callable
from typing import TypeVar

from yellowtor.contracts.table import Table
from yellowtor.errors import BadSource

T = TypeVar("T")
RESCANS = 3


def scan_steadily(table: Table, once: Callable[[], T]) -> T:
    """Scan a table; a file that is written meanwhile is read once more, three times at most."""
    for last in (*[False] * RESCANS, True):
        table.refresh()
        try:
            found = once()
        except BadSource:  # perhaps only because its header was that of another version
            if last or not table.refresh():
                raise
            continue
        if last or not table.refresh():
            break
    return found
