"""What passes between a database's table and its writer: rows, statements and results."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa


@dataclass(frozen=True)
class Load:
    """Rows as the database takes them: into the columns `into` of the temporary table, for the target's `names`."""

    content: Any
    into: Sequence[str]
    names: tuple[str, ...]
    rows: int
    span: tuple[Any, Any]  # the first row's key, and the last one's
    columns: Sequence[Sequence[Any]]  # what the content is made from


@dataclass(frozen=True)
class PageChanges:
    """Statements: the update, the keys of the rows that are left alone, to forget those, and the rows that lack.

    skipped are the keys of rows that should have changed, and have not; returned those of rows which do not hold what
    was written, or whose other columns are not as they were read, with what they hold.
    """

    update: sa.Update
    left: sa.Select[Any]
    forget: sa.Delete
    insert: sa.Insert
    skipped: sa.Select[Any]
    returned: sa.Select[Any]


@dataclass
class Put:
    """Rows by their keys: what was left alone, what the table skipped, what it gives back with a row's columns.

    changed is how many rows are other than before.
    """

    left: Sequence[Any] = ()
    skipped: Sequence[Any] = ()
    returned: Sequence[Any] = ()
    changed: int = 0
