"""The result of writing, and the changes that it would make."""

from dataclasses import dataclass, field
from typing import NamedTuple

from yellowtor.contracts.table import (
    AsStored,
    ReturnsStored,
    Table,
)


@dataclass
class WriteResult:
    """Counts of the writing: records written; edited since they were read; with stale foreign coordinates; repaired.

    changed are the rows of a database that are other than before, refused those that it did not take.
    """

    written: int = 0
    edited: int = 0
    stale: int = 0
    repaired: int = 0
    changed: int = 0
    refused: int = 0
    first_refused: list[tuple[str, str]] = field(default_factory=list)  # keys, and why


class Change(NamedTuple):
    """A cell that would change."""

    key: str
    column: str
    old: str
    new: str


@dataclass
class Changes:
    """What a run would write of the answers that are there already: how many records and cells, the first of them."""

    records: int = 0
    cells: int = 0
    first: list[Change] = field(default_factory=list)


def as_stored_by(table: Table) -> AsStored | None:
    """What a table returns for coordinates; None if exactly those."""
    return table.as_stored if isinstance(table, ReturnsStored) else None
