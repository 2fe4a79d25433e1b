"""Decisions: pins are stored, removed, listed, addresses corrected. A run applies them with its scan."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext

from sqlalchemy import Connection, and_, func, insert, or_, select

from yellowtor.addresses.keys import digest
from yellowtor.answers.decisions import Correction, Pin
from yellowtor.answers.record_answers import Answer
from yellowtor.contracts.subject import Subject
from yellowtor.ledger.jobs.corrections import correct, corrections_of, uncorrect
from yellowtor.ledger.jobs.history import end_pins
from yellowtor.ledger.jobs.judging import SqlJudgeBook
from yellowtor.ledger.storage.schema import PINNED, address, pin, work
from yellowtor.ledger.storage.store import Store

# A pin on the record goes before one on its address.
TAKE_UP = """UPDATE work SET pin_id = coalesce(
    (SELECT p.id FROM pin p WHERE p.job_id = work.job_id AND p.key = work.key),
    (SELECT p.id FROM address a JOIN pin p ON p.address_key = a.key WHERE a.id = work.address_id))
    WHERE job_id = ? AND state <> 'vanished' AND (pin_id IS NOT NULL
    OR key IN (SELECT key FROM pin WHERE job_id = ?)
    OR address_id IN (SELECT a.id FROM pin p JOIN address a ON a.key = p.address_key))"""


class PinBook:
    """The decisions about one job's records. now is the instant of new ones (ISO 8601, UTC), who works with it."""

    def __init__(self, store: Store, job_id: int, now: str, who: str = "") -> None:
        self._store = store
        self._job = job_id
        self.now = now
        self.who = who
        self._together = False

    @contextmanager
    def together(self) -> Iterator[None]:
        """Store the decisions of the body in one transaction, all of them or none."""
        with self._store.transaction():
            self._together = True
            try:
                yield
            finally:
                self._together = False

    def _transaction(self) -> AbstractContextManager[Connection]:
        return nullcontext(self._store.connection) if self._together else self._store.transaction()

    def answers(self, keys: Sequence[str]) -> Mapping[str, Answer]:
        """How these records stand, by key; those that the ledger knows."""
        return SqlJudgeBook(self._store, self._job, {}).answers(keys, {"address"})

    def corrected_with(self, number: int, check: str) -> Correction | None:
        """The correction of the address with this number, if this is the check of its key."""
        key = self._store.connection.execute(select(address.c.key).where(address.c.id == number)).scalar()
        return next(iter(self.corrections([key])), None) if key and digest(key)[:8] == check else None

    def put(self, key: str, made: Pin, *, address_too: bool) -> bool:
        """Pin a record, or its address for the records of all jobs. False when no record with this key is known."""
        if (address_key := self._address_of(key)) is None:
            return False
        if address_too:
            self.put_on_address(address_key, made)
        else:
            self.put_on_record(key, made)
        return True

    def put_on_record(self, key: str, made: Pin) -> bool:
        """Pin a record; whether that is news."""
        return self._put({"job_id": self._job, "key": key}, made)

    def put_on_address(self, address_key: str, made: Pin) -> bool:
        """Pin an address, for the records of all jobs; whether that is news."""
        return self._put({"address_key": address_key}, made)

    def _put(self, place: Mapping[str, object], made: Pin) -> bool:
        with self._transaction() as connection:
            if isinstance(address_key := place.get("address_key"), str):
                uncorrect(connection, address_key)
            there = connection.execute(
                select(pin.c.lat, pin.c.lon, pin.c.why).where(*(pin.c[name] == value for name, value in place.items()))
            ).first()
            if there and tuple(there) == (made.lat, made.lon, made.why):
                return False
            put_pin(connection, place, made)
            return True

    def correct(self, address_key: str, corrected: Subject, who: str, why: str) -> bool:
        """Have this address asked as another one, for the records of all jobs; whether that is news."""
        with self._transaction() as connection:
            end_pins(connection, pin.c.address_key == address_key, self.now)
            return correct(connection, address_key, corrected, who, why, self.now)

    def corrections(self, address_keys: Sequence[str]) -> Sequence[Correction]:
        """The corrections of these addresses."""
        return corrections_of(self._store.connection, address_keys)

    def undo(self, address_key: str) -> int:
        """Remove what was decided about an address; how much that was."""
        with self._transaction() as connection:
            pins = end_pins(connection, pin.c.address_key == address_key, self.now)
            return pins + uncorrect(connection, address_key)

    def remove(self, key: str) -> int:
        """Remove what was decided about a record and its address; how much that was."""
        mine = (pin.c.job_id == self._job) & (pin.c.key == key)
        address_key = self._address_of(key)
        with self._transaction() as connection:
            pins = end_pins(connection, or_(mine, pin.c.address_key == address_key), self.now)
            return pins + (uncorrect(connection, address_key, from_target=True) if address_key else 0)

    def all(self) -> Sequence[tuple[str, bool, Pin]]:
        """The job's pins by their records' keys, in order; and whether each is on the address."""
        fields = [pin.c[name] for name in Pin._fields]
        own = select(pin.c.key, *fields).where(pin.c.job_id == self._job)
        shared = (
            select(func.min(work.c.key), *fields)
            .select_from(
                pin.join(address, address.c.key == pin.c.address_key).join(work, work.c.address_id == address.c.id)
            )
            .where(work.c.job_id == self._job)
            .group_by(pin.c.id)
        )
        found = [(row[0], False, Pin._make(row[1:])) for row in self._store.connection.execute(own)]
        found += [(row[0], True, Pin._make(row[1:])) for row in self._store.connection.execute(shared)]
        return sorted(found, key=lambda one: one[:2])

    def _address_of(self, key: str) -> str | None:
        query = select(address.c.key).select_from(work.join(address, address.c.id == work.c.address_id))
        return self._store.connection.execute(query.where(work.c.job_id == self._job, work.c.key == key)).scalar()


def put_pin(connection: Connection, place: Mapping[str, object], made: Pin) -> None:
    """Put a pin in at a place (an address's key, or a job and a record's), instead of the one that is there."""
    end_pins(connection, and_(*(pin.c[name] == value for name, value in place.items())), made.pinned_at)
    connection.execute(insert(pin).values(**place, **made._asdict()))


def take_up(store: Store, job_id: int) -> None:
    """Have the job's records know the pins that hold for them, and forget those that are gone."""
    if (
        store.connection.execute(select(pin.c.id).limit(1)).first()
        or store.connection.execute(select(work.c.key).where(work.c.job_id == job_id, PINNED).limit(1)).first()
    ):
        with store.transaction():
            store.run(TAKE_UP, (job_id, job_id))
