"""A trial write in a transaction that is rolled back, so that refusals are found before a request costs money.

One of the first records gets each outcome, each level and texts of a usual length. Triggers run; nothing stays.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError

from yellowtor.answers.answer_columns import column_of
from yellowtor.errors import BadSource
from yellowtor.tables.database.database_target import Target, column
from yellowtor.tables.database.refusals import Refusal, limit_lock_waits

_tried: set[Any] = set()  # tables that were tried well: a run that follows its source tries once, not in each round


def try_to_write(
    target: Target, records: sa.Select[Any], compared: Mapping[str, Any], some: Sequence[Mapping[str, Any]]
) -> None:
    """Write some of the records, and take that back. Raises BadSource for what the database refuses of each of them."""
    what = (target.engine.url, str(target.table), tuple(target.columns.items()), target.is_whole)
    if what in _tried:
        return
    transactional = target.rolls_back_ddl
    with target.engine.execution_options(writes=True).connect() as connection, connection.begin() as trial:
        try:
            limit_lock_waits(connection)
            keys: sa.Select[Any] = records.with_only_columns(*map(column, target.keys))
            if transactional:
                target.make_in(connection, keys)
            elif not target.is_whole:
                _check_right(connection, target)
            if some and (transactional or target.exists):
                target.open(connection, records, compared)
                _write_each(connection, target, [[one[name] for name in (*target.keys, *compared)] for one in some])
        finally:
            trial.rollback()
            target.forget_made()
    if some:
        _tried.add(what)


def _check_right(connection: sa.Connection, target: Target) -> None:
    """Raise BadSource where this user may not make what is missing, and it can't be tried."""
    wanted = "ALTER" if target.exists else "CREATE"
    if not target.may_define(connection, wanted):
        raise BadSource(
            f"{target.table} can't be written: the right {wanted} is denied to this user, and the job says create = "
            "true. Nothing was sent."
        )


def _write_each(connection: sa.Connection, target: Target, records: Sequence[Sequence[Any]]) -> None:
    """Write each sample with all columns; if that fails, each column alone, to find which one.

    A refusal may concern one record: then the next record is tried.
    """
    parts = {name: part for part, name in target.columns.items() if part != "geometry" and name in target.known}
    for sample in _samples(parts):
        error = _error_of(connection, target, records, sample)
        if error is not None:
            for name, value in sample.items():
                if one := _error_of(connection, target, records, {name: value}):
                    raise _refused(target, name, value, one) from one
            raise BadSource(
                f"{target.table} can't be written: {Refusal(error).said(target)}. Nothing was sent."
            ) from error


def _error_of(
    connection: sa.Connection, target: Target, records: Sequence[Sequence[Any]], sample: Mapping[str, Any]
) -> DBAPIError | None:
    """The last record's error, if none of them can be written so."""
    found = None
    for known in records:
        try:
            _write(connection, target, known, sample)
        except DBAPIError as error:
            found = error
        else:
            return None
    return found


def _write(connection: sa.Connection, target: Target, known: Sequence[Any], sample: Mapping[str, Any]) -> None:
    with connection.begin_nested() as attempt:
        load = target.load([[value] for value in (*known, *sample.values())], list(sample))
        target.put(connection, load, ordered=False)
        attempt.rollback()


def _samples(parts: Mapping[str, str]) -> Iterator[dict[str, Any]]:
    values = {name: column_of(part).sample() for name, part in parts.items()}
    for at in range(max(map(len, values.values()), default=0)):
        yield {name: tried[at % len(tried)] for name, tried in values.items()}


def _refused(target: Target, name: str, value: Any, error: DBAPIError) -> BadSource:
    if Refusal(error).is_of_right:
        said = Refusal(error).said(target)
        return BadSource(f"{target.table}: the column {name!r} can't be written: {said}. Nothing was sent.")
    shown = f"{value[:30]!r}… ({len(value)} characters)" if isinstance(value, str) and len(value) > 40 else repr(value)
    return BadSource(
        f"{target.table}: the column {name!r} does not take {shown}, which an answer may be: "
        f"{Refusal(error).said(target)}. Widen it, or map another column. Nothing was sent."
    )
