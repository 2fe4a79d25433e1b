"""Compares the answers of one job's records with each other: which share a point, which share a town."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import groupby
from operator import itemgetter

from sqlalchemy import and_, func, or_, select

from yellowtor.answers.ledger_rows import WorkState
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject, read_subject
from yellowtor.ledger.storage.schema import address, answer, work
from yellowtor.ledger.storage.store import Store
from yellowtor.ledger.storage.stored_text import read_position

PAGED = {"yield_per": 5_000}
NOTE = "UPDATE answer SET streets = ?, away_m = ?, judged_by = NULL WHERE job_id = ? AND address_id = ?"


class SqlComparisonBook:
    """The answers of one job, in groups."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store = store
        self._mine = and_(answer.c.job_id == job_id, answer.c.lat.is_not(None))
        self._job = job_id
        self._locks = [f"compare {job_id}"]

    def with_one_point(self, least: int, levels: Sequence[str]) -> Iterator[Iterator[tuple[int, Subject]]]:
        """The addresses of each point that at least this many have, if its level is one of these.

        Each with its number.
        """
        fine = and_(self._mine, answer.c.level.in_(levels))
        shared = select(answer.c.lat, answer.c.lon).where(fine).group_by(answer.c.lat, answer.c.lon)
        point = shared.having(func.count() >= least).subquery()
        query = (
            select(answer.c.lat, answer.c.lon, answer.c.address_id, address.c.parts)
            .select_from(
                answer.join(point, and_(answer.c.lat == point.c.lat, answer.c.lon == point.c.lon)).join(
                    address, address.c.id == answer.c.address_id
                )
            )
            .where(fine)
            .order_by(answer.c.lat, answer.c.lon, answer.c.address_id)
        )
        with self._store.transaction(self._locks) as connection:
            rows = connection.execute(query, execution_options=PAGED)
            for _, group in groupby(rows, key=itemgetter(0, 1)):
                yield ((number, read_subject(parts)) for _, _, number, parts in group)

    def towns(self) -> Iterator[Iterator[tuple[int, Position]]]:
        """The points of each town, with the numbers of their addresses."""
        query = (
            select(answer.c.town, answer.c.address_id, answer.c.lat, answer.c.lon)
            .where(self._mine, answer.c.town != "")
            .order_by(answer.c.town, answer.c.address_id)
        )
        with self._store.transaction(self._locks) as connection:
            rows = connection.execute(query, execution_options=PAGED)
            for _, group in groupby(rows, key=itemgetter(0)):
                yield ((number, Position(lat, lon)) for _, number, lat, lon in group)

    def written_and_now(self) -> Iterator[tuple[Position, Position]]:
        """Where each placed record was written last, and where it would be written now; without pinned ones."""
        mine = and_(work.c.job_id == self._job, work.c.state == WorkState.ASK.value, work.c.pin_id.is_(None))
        placed = and_(self._mine, answer.c.address_id == work.c.address_id, answer.c.outcome == Outcome.PLACED.value)
        query = (
            select(work.c.written, answer.c.lat, answer.c.lon)
            .select_from(work.join(answer, placed))
            .where(mine, work.c.written.is_not(None), work.c.place.is_not(None))
        )
        with self._store.transaction(self._locks) as connection:
            for written, lat, lon in connection.execute(query, execution_options=PAGED):
                before = read_position(written)
                if before is not None:
                    yield before, Position(lat, lon)

    def note(self, found: Mapping[int, tuple[int, float]]) -> int:
        """Keep what the others say of these addresses (streets, metres), and of no others; the number that is new.

        The answers of which something else was known are to be judged again.
        """
        known = and_(answer.c.job_id == self._job, or_(answer.c.streets > 0, answer.c.away_m > 0))
        query = select(answer.c.address_id, answer.c.streets, answer.c.away_m).where(known)
        before = {number: (streets, away_m) for number, streets, away_m in self._store.connection.execute(query)}
        numbers = before.keys() | found.keys()
        changed = {number: new for number in numbers if (new := found.get(number, (0, 0.0))) != before.get(number)}
        with self._store.transaction(self._locks):
            self._store.run_many(NOTE, [(*new, self._job, number) for number, new in sorted(changed.items())])
        return len(changed)
