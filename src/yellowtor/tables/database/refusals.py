"""Refused rows: a row that breaks a rule of the database, unlike an error that concerns all rows.

A page with such a row is split in halves until the row is alone; the others are written.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError

from yellowtor.tables.database.database_source import database_message
from yellowtor.tables.database.database_target import Target
from yellowtor.tables.database.dialects.base import NEW
from yellowtor.tables.database.dialects.registry import dialect_of
from yellowtor.tables.database.page_writes import Load, Put

LOCK_TIMEOUT_S = 5
MOST = 1_000  # rows refused, from which on it is not about rows any more
MARIADB_ROW = {1264, 1265, 1366, 1406, 3819, 4025, 1644, 1048, 1292}  # codes of errors that concern a row's values


@dataclass(frozen=True)
class Refusal:
    """An error of a database that came of what was to be written."""

    error: DBAPIError

    @property
    def is_of_row(self) -> bool:
        """Whether it concerns values, not the connection, a lock, the disk or a right."""
        error = self.error
        if error.connection_invalidated or isinstance(error, InterfaceError):
            return False
        code = error.orig.args[0] if error.orig is not None and error.orig.args else None
        if isinstance(code, int):
            return code in MARIADB_ROW
        state = getattr(error.orig, "sqlstate", None)
        if state is not None:  # classes of SQL's standard: data, constraints, triggers, CHECK OPTION, policies
            return state[:2] in {"22", "23", "09", "44", "P0", "27"} or state == "42501"
        return not isinstance(error, OperationalError)

    @property
    def is_of_right(self) -> bool:
        """Whether this user may not do it."""
        code = self.error.orig.args[0] if self.error.orig is not None and self.error.orig.args else None
        return getattr(self.error.orig, "sqlstate", None) == "42501" or code in {1142, 1143}

    def said(self, target: Target) -> str:
        """What the database says, in the target's own words."""
        text = database_message(self.error.orig)
        for at, name in enumerate(target.columns.values()):
            text = re.sub(rf"\bcell_{at}\b", name, text)
        return text.replace(NEW, str(target.table))


@dataclass
class Rows:
    """What has become of some rows, by their keys: what Put says of them, and those that were refused, with why."""

    put: list[Put] = field(default_factory=list)
    refused: dict[Sequence[Any], str] = field(default_factory=dict)


def write_rows(connection: sa.Connection, target: Target, loads: Sequence[Load], done: Rows, *, ordered: bool) -> None:
    """Write these rows in one transaction; if one is refused, by halves. Raises DBAPIError for other trouble."""
    try:
        with connection.begin():
            put = [target.put(connection, load, ordered=ordered) for load in loads]
    except DBAPIError as error:
        if not Refusal(error).is_of_row or len(done.refused) >= MOST:
            raise
        if len(loads) == 1 and loads[0].rows == 1:
            done.refused[_keys(target, loads[0])[0]] = _why(connection, target, loads[0], error)
            return
        for part in loads if len(loads) > 1 else _halves(target, loads[0]):
            write_rows(connection, target, [part], done, ordered=ordered)
    else:
        done.put += put


def limit_lock_waits(connection: sa.Connection) -> None:
    """Limit how long the database waits for a lock that another session holds."""
    if statement := dialect_of(connection.dialect.name).lock_timeout(LOCK_TIMEOUT_S):
        connection.exec_driver_sql(statement)


def _keys(target: Target, load: Load) -> list[Sequence[Any]]:
    return list(zip(*load.columns[: len(target.keys)], strict=True))


def _halves(target: Target, load: Load) -> list[Load]:
    middle = load.rows // 2
    return [
        target.load([column[start:end] for column in load.columns], load.names)
        for start, end in ((0, middle), (middle, load.rows))
    ]


def _why(connection: sa.Connection, target: Target, load: Load, error: DBAPIError) -> str:
    """Why a row is refused: the column that alone is refused too, if there is one, and what the database says."""
    known = len(load.columns) - len(load.names)
    for at, name in enumerate(load.names, known):
        one = target.load([*load.columns[:known], load.columns[at]], [name])
        try:
            with connection.begin() as trial:
                target.put(connection, one, ordered=False)
                trial.rollback()
        except DBAPIError as alone:
            return f"{name} = {load.columns[at][0]!r}: {Refusal(alone).said(target)}"
    return Refusal(error).said(target)
