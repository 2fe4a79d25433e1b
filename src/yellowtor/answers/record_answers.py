"""The current answers for records, column by column: what a run writes."""

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Any, NamedTuple

from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome, Reason
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject

EXTRA = "extra:"  # begins the names of fields that a description adds of its own
Reader = Callable[[Sequence[Any]], Sequence[Any]]
NO_READERS: Mapping[str, Reader] = MappingProxyType({})


class Answer(NamedTuple):
    """The current answer for one record. `id` is the ledger's number of the record."""

    id: int
    key: str
    raw_hash: str
    held: Position | None
    written: Position | None
    sent: Position | None  # what the table was given when it returned `written`, if that is another position
    address: Subject
    outcome: Outcome | None
    lat: float | None
    lon: float | None
    confidence: float | None
    basis: str
    level: str
    matched: str
    parts: Mapping[str, str]
    reasons: Sequence[Reason]
    service: str | None
    asked_at: str | None  # ISO 8601, UTC
    pin: int | None  # the ledger's number of the position that a person has decided
    moved_from: Position | None = None  # what we wrote before `written`


NO_PARTS: Mapping[str, str] = MappingProxyType({})
UNKNOWN = Answer(
    0, "", "", None, None, None, Address(), None, None, None, None, "", "", "", NO_PARTS, (), None, None, None
)


class Answers:
    """The current answers for many records, column by column. Fields that were not wanted are None.

    readers turn the ledger's texts into values, by column: each is called when its column is first used.
    """

    def __init__(
        self, columns: Mapping[str, Sequence[Any]], count: int, readers: Mapping[str, Reader] = NO_READERS
    ) -> None:
        self._columns = dict(columns)
        self._count = count
        self._readers = {name: readers[name] for name in columns if name in readers}

    @classmethod
    def of(cls, rows: Sequence[Answer]) -> "Answers":
        return cls(dict(zip(Answer._fields, zip(*rows, strict=True), strict=True)) if rows else {}, len(rows))

    def column(self, name: str) -> Sequence[Any]:
        """One field of all records."""
        if name in self._readers:
            self._columns[name] = self._readers.pop(name)(self._columns[name])
        return self._columns.get(name) or (None,) * self._count

    def points(self) -> list[tuple[float, float] | None]:
        """Latitude and longitude of each record, None if it has no point."""
        pairs = zip(self.column("lat"), self.column("lon"), strict=True)
        return [None if pair[0] is None or pair[1] is None else pair for pair in pairs]

    def without(self, places: Collection[int]) -> "Answers":
        """The same, with nothing known about the records at these indexes."""
        return Answers.of([UNKNOWN if at in places else row for at, row in enumerate(self)]) if places else self

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[Answer]:
        return map(Answer, *map(self.column, Answer._fields))


class AnswerPool:
    """The answers for many addresses, column by column, as the ledger stores them; it only grows."""

    def __init__(self, readers: Mapping[str, Reader]) -> None:
        self._columns: dict[str, list[Any]] = {}
        self._readers = readers
        self.count = 0

    def add(self, names: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
        """Add rows of these columns, which are the same each time."""
        for name, values in zip(names, zip(*rows, strict=True), strict=True):
            self._columns.setdefault(name, []).extend(values)
        self.count += len(rows)

    def since(self, first: int) -> Answers:
        """The answers from an index on."""
        columns = {name: tuple(values[first:]) for name, values in self._columns.items()}
        return Answers(columns, self.count - first, self._readers)


class PooledAnswers(Answers):
    """Answers for records that share those of their addresses: `which` are their indexes in the pool.

    The columns are what each record has of its own.
    """

    def __init__(
        self,
        columns: Mapping[str, Sequence[Any]],
        pool: AnswerPool,
        which: Sequence[int],
        readers: Mapping[str, Reader],
    ) -> None:
        super().__init__(columns, len(which), readers)
        self.pool = pool
        self.which = which
        self._all: Answers | None = None

    def column(self, name: str) -> Sequence[Any]:
        if name not in self._columns:
            self._all = self._all or self.pool.since(0)
            values = self._all.column(name)
            self._columns[name] = tuple(map(values.__getitem__, self.which))
        return super().column(name)
