"""Pins: stored, removed, listed. A run applies them at the end of its scan."""

from collections.abc import Mapping, Sequence

from sqlalchemy import Connection, func, insert, or_, select

from yellowtor.answers.ledger_rows import Pin
from yellowtor.contracts.position import Position
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
    """The pins of one job. Instants are ISO 8601, UTC."""

    def __init__(self, store: Store, job_id: int, now: str) -> None:
        self._store = store
        self._job = job_id
        self._now = now

    def put(self, key: str, position: Position, who: str, why: str, *, address_too: bool) -> bool:
        """Pin a record, or its address for the records of all jobs. False when no record with this key is known."""
        if (address_key := self._address_of(key)) is None:
            return False
        place = {"address_key": address_key} if address_too else {"job_id": self._job, "key": key}
        with self._store.transaction() as connection:
            put_pin(connection, place, Pin(position.lat, position.lon, who, why, self._now))
        return True

    def remove(self, key: str) -> int:
        """Remove the pins of a record and of its address; their number."""
        mine = (pin.c.job_id == self._job) & (pin.c.key == key)
        with self._store.transaction() as connection:
            return connection.execute(
                pin.delete().where(or_(mine, pin.c.address_key == self._address_of(key)))
            ).rowcount

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
        return sorted(found)

    def _address_of(self, key: str) -> str | None:
        query = select(address.c.key).select_from(work.join(address, address.c.id == work.c.address_id))
        return self._store.connection.execute(query.where(work.c.job_id == self._job, work.c.key == key)).scalar()


def put_pin(connection: Connection, place: Mapping[str, object], made: Pin) -> None:
    """Put a pin in at a place (an address's key, or a job and a record's), instead of the one that is there."""
    connection.execute(pin.delete().where(*(pin.c[name] == value for name, value in place.items())))
    connection.execute(insert(pin).values(**place, **made._asdict()))


def take_up(store: Store, job_id: int) -> None:
    """Have the job's records know the pins that hold for them, and forget those that are gone."""
    if (
        store.connection.execute(select(pin.c.id).limit(1)).first()
        or store.connection.execute(select(work.c.key).where(work.c.job_id == job_id, PINNED).limit(1)).first()
    ):
        with store.transaction():
            store.run(TAKE_UP, (job_id, job_id))
