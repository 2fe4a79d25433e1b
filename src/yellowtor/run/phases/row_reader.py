"""Where in a row the job's columns are, and the identities of records."""

import re
from collections.abc import Iterable, Mapping, Sequence

from yellowtor.addresses.keys import raw_hashes
from yellowtor.answers.geography.cell_coordinates import (
    NOTHING,
    CellCoordinates,
    Finding,
    read_coordinates,
    read_positions,
)
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Composer, Subject
from yellowtor.contracts.table import ColumnAccess, Row, Table
from yellowtor.errors import BadSource
from yellowtor.run.jobs.job import Job

PARTED = "\x1f"  # between the parts of a key of several columns


class RowReader:
    """Where in a row the job's columns stand. Raises BadSource when one is missing."""

    def __init__(self, job: Job, table: Table) -> None:
        self.composing: Composer = job.composing(table.decimal)
        columns = list(self.composing.raw_columns())
        keys = job.records.keys() or table.keys
        wanted = [*keys, *columns, *([job.records.name] if job.records.name else [])]
        named = [*wanted, *filter(None, job.held_columns()), *job.write.columns.mapped().values()]
        if twice := [name for name in dict.fromkeys(named) if table.header.count(name) > 1]:
            raise BadSource(
                f"{table.name} has more than one column called {', '.join(map(repr, twice))}, which the job names. "
                "Give each a different name. Nothing was sent."
            )
        if missing := [name for name in dict.fromkeys(wanted) if name not in table.header]:
            have = ", ".join(filter(None, table.header))
            raise BadSource(
                f"{table.name} has no column {', '.join(map(repr, missing))}, which the job names "
                f"(it has: {have}). Nothing was sent."
            )
        at = {name: i for i, name in enumerate(table.header)}
        self.columns = frozenset([*wanted, *filter(None, job.held_columns())])  # those that a record is read from
        self._columns = columns
        self.key_columns = " and ".join(map(repr, keys))
        self._keys = [at[key] for key in keys]
        self._exact_keys = table.exact_keys
        self._name = at[job.records.name] if job.records.name else None
        self._raw = [at[name] for name in columns]
        lat, lon = job.held_columns()
        self._held = (at[lat], at[lon]) if lat in at and lon in at else None
        self._in_reverse = job.in_reverse
        self._decimal = table.decimal
        self._area = job.judge.thresholds().area

    def keys(self, batch: Sequence[Row]) -> list[str]:
        """The identity of each record; empty where a part of its key is."""
        first, *others = (identities(_column(batch, at), exact=self._exact_keys) for at in self._keys)
        if not others:
            return first
        return [PARTED.join(parts) if all(parts) else "" for parts in zip(first, *others, strict=True)]

    def address_columns(self, batch: Sequence[Row]) -> list[Sequence[str]]:
        """The cells of each column of the address."""
        return [_column(batch, at) for at in self._raw]

    def raw_hashes(self, batch: Sequence[Row]) -> list[str]:
        """The fingerprint of each record's address cells."""
        return raw_hashes(zip(*self.address_columns(batch), strict=True))

    def raw_hash_with(self, row: Row, texts: Mapping[str, str]) -> str:
        """The fingerprint of a record's address cells, some of which have other texts now."""
        cells = [texts.get(name, row[at]) for name, at in zip(self._columns, self._raw, strict=True)]
        return next(iter(raw_hashes([cells])))

    def name(self, row: Row) -> str:
        return row[self._name].strip() if self._name is not None else ""

    def cells(self, row: Row) -> dict[str, str]:
        return self.named([row[at] for at in self._raw])

    def named(self, cells: Sequence[str]) -> dict[str, str]:
        """The cells of an address, by column."""
        return dict(zip(self._columns, cells, strict=True))

    def held_positions(self, batch: Sequence[Row]) -> tuple[Sequence[Position | None], Sequence[Finding | None]]:
        """The position that each record has already, and what is wrong with it.

        In reverse it is the subject of the question, and the record keeps none.
        """
        lats, lons = (_column(batch, at) for at in self._held) if self._held else ((), ())
        if not any(lats) and not any(lons):
            return [None] * len(batch), [None] * len(batch)
        positions, wrong = read_positions(lats, lons, self._decimal, self._area)
        return [None] * len(positions) if self._in_reverse else positions, wrong

    def has_coordinates(self, batch: Sequence[Row]) -> bool:
        """Whether a record has anything where coordinates would be."""
        return self._held is not None and any(any(_column(batch, at)) for at in self._held)

    def held_in(self, batch: Sequence[Row], places: Sequence[int]) -> list[CellCoordinates]:
        """The coordinates that the records in these places have already, and what is wrong with them."""
        if self._held is None or self._in_reverse or not places:
            return [NOTHING] * len(places)
        lats, lons = (_column(batch, at) for at in self._held)
        return [read_coordinates(lats[at], lons[at], self._decimal, self._area) for at in places]

    def held(self, row: Row) -> CellCoordinates:
        """The coordinates of one record, and what is wrong with them."""
        return self.held_in([row], [0])[0]


def find_record(job: Job, table: Table, key: str) -> tuple[str, Mapping[str, str], Subject, str]:
    """The name, the cells and the subject of the record with this key, and why it is not asked. Raises BadSource."""
    reader = RowReader(job, table)
    wanted = key_as_shown(key)
    for batch in table.batches():
        keys = reader.keys(batch)
        if wanted in keys:
            row = batch[keys.index(wanted)]
            cells = reader.cells(row)
            subject = reader.composing.compose(cells)
            return reader.name(row), cells, subject, reader.composing.why_not(cells, subject)
    raise BadSource(f"{table.name} has no record with the key {key!r}. Nothing was sent.")


def _column(batch: Sequence[Row], at: int) -> Sequence[str]:
    return batch.column(at) if isinstance(batch, ColumnAccess) else [row[at] for row in batch]


def shown_key(key: str) -> str:
    """An identity as people are shown it."""
    return key.replace(PARTED, " / ")


def key_as_shown(text: str) -> str:
    """The identity that people are shown so."""
    return PARTED.join(map(identity, text.split(" / ")))


def identity(key: str, *, exact: bool = False) -> str:
    """The identity of a key: 12, "12" and 12.0 are equal; 012 is different. U+0000 is ignored.

    Spaces around it are ignored too, unless exact: a database that distinguishes them.
    """
    text = key.replace("\0", "")
    text = text if exact and text.strip() else text.strip()
    return text.partition(".")[0] if "." in text and re.fullmatch(r"-?\d+\.0+", text) else text


def identities(keys: Iterable[str], *, exact: bool = False) -> list[str]:
    """The identity of each of many keys."""
    texts = list(keys)
    together = "".join(texts)
    stripped = list(map(str.strip, texts))
    if "." in together or "\0" in together or (exact and stripped != texts):
        return [identity(text, exact=exact) for text in texts]
    return stripped
