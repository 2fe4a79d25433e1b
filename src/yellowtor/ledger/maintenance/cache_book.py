"""What the ledger knows of addresses, for people: looked at, corrected, forgotten, taken out and taken over."""

import json
import zlib
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from sqlalchemy import and_, delete, func, insert, or_, select, union_all

from yellowtor.answers.cache_entry import Entry, Exported, KnownReply, SizeOf, Sizes, Standing
from yellowtor.answers.decisions import Pin
from yellowtor.answers.ledger_rows import Charged
from yellowtor.contracts.clock import Clock
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject, read_subject, subject_text
from yellowtor.ledger.accounts.account_usage import CHARGED, WHOSE
from yellowtor.ledger.accounts.requests import packed
from yellowtor.ledger.jobs.corrections import correct, corrections_of
from yellowtor.ledger.jobs.history import end_pins, forget_past
from yellowtor.ledger.jobs.new_records import PUT_ADDRESS
from yellowtor.ledger.jobs.pins import put_pin
from yellowtor.ledger.jobs.run_book import PUT_ASKING
from yellowtor.ledger.maintenance.export import export_query, exported, exported_decisions
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.open_store import open_store
from yellowtor.ledger.storage.retention import before, expire, let_go
from yellowtor.ledger.storage.schema import (
    address,
    answer,
    candidates,
    correction,
    job,
    last_scan,
    pin,
    question,
    reply,
    request,
    run,
    ticket,
    work,
    written_position,
)
from yellowtor.ledger.storage.store import Store
from yellowtor.ledger.storage.stored_text import mapping_text

if TYPE_CHECKING:
    from yellowtor.ledger.storage.server import Server

PAGE = 2_000
KEPT = ("question_key", "service", "kind", "status", "message", "headers", "received_at")
IMPORTED = "(imported)"  # the account of requests that another ledger was charged for
PUT_QUESTION = """INSERT INTO question (key, asking_id, address_id)
    SELECT ?, k.id, a.id FROM address a, asking k WHERE a.key = ? AND k.key = ? ON CONFLICT DO NOTHING"""


class SqlCacheBook:
    """Instants are ISO 8601, UTC."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def addresses(self) -> Iterator[Sequence[tuple[int, Subject]]]:
        """Every subject in pages: its number and itself."""
        last = 0
        query = select(address.c.id, address.c.parts).order_by(address.c.id).limit(PAGE)
        while page := self._store.connection.execute(query.where(address.c.id > last)).all():
            last = page[-1][0]
            yield [(row[0], read_subject(row[1])) for row in page]

    def entry(self, number: int) -> Entry | None:
        """Everything about an address; None if there is no address with this number."""
        read = self._store.connection.execute
        known = read(select(address.c.key, address.c.parts).where(address.c.id == number)).first()
        if known is None:
            return None
        keys = read(select(question.c.key).where(question.c.address_id == number)).scalars().all()
        columns = [reply.c.id, *(reply.c[name] for name in KnownReply._fields[:6])]
        found = read(select(*columns).where(reply.c.question_key.in_(keys)).order_by(reply.c.id)).all()
        replies = [
            KnownReply(row[1], row[2], row[3], row[4], row[5], zlib.decompress(row[6]), self._candidates(row[0]))
            for row in found
        ]
        asked = select(*CHARGED).select_from(WHOSE).where(request.c.question_key.in_(keys)).order_by(request.c.id)
        standing = [job.c.path, *(answer.c[name] for name in Standing._fields[1:])]
        judged = select(*standing).join(answer, answer.c.job_id == job.c.id).where(answer.c.address_id == number)
        records = select(job.c.path, work.c.key, work.c.state).join(work, work.c.job_id == job.c.id)
        mine = records.where(work.c.address_id == number).order_by(job.c.path, work.c.place)
        pins = select(func.coalesce(pin.c.key, ""), *(pin.c[name] for name in Pin._fields))
        held = select(work.c.id).where(
            work.c.address_id == number, work.c.job_id == pin.c.job_id, work.c.key == pin.c.key
        )
        on_it = or_(pin.c.address_key == known.key, held.exists())
        return Entry(
            number,
            read_subject(known.parts),
            replies,
            [Charged._make(row[1:]) for row in read(asked)],
            [Standing._make(row) for row in read(judged)],
            [(row[0], Pin._make(row[1:])) for row in read(pins.where(on_it))],
            [(row[0], row[1], row[2]) for row in read(mine)],
            corrections_of(self._store.connection, leading_to=known.key),
        )

    def _candidates(self, reply_id: int) -> list[dict[str, object]]:
        query = select(candidates.c.found).where(candidates.c.reply_id == reply_id)
        text = self._store.connection.execute(query).scalars().first()
        return json.loads(text) if text else []

    def pin(self, number: int, position: Position, who: str, why: str) -> None:
        """Pin an address, for the records of every job."""
        key = select(address.c.key).where(address.c.id == number)
        with self._store.transaction() as connection:
            place = {"address_key": connection.execute(key).scalar_one()}
            put_pin(connection, place, Pin(position.lat, position.lon, who, why, stamp(self._store.clock.now())))

    def unpin(self, number: int) -> int:
        """Take the pin on an address out; how many there were."""
        key = select(address.c.key).where(address.c.id == number).scalar_subquery()
        with self._store.transaction() as connection:
            return end_pins(connection, pin.c.address_key == key, stamp(self._store.clock.now()))

    def forget(self, numbers: Sequence[int], *, every_trace: bool) -> int:
        """Forget the replies about these addresses; with every trace, that there ever was such an address.

        What was charged stays in the record of requests, which holds a digest of the question only. How many replies.
        """
        keys = select(question.c.key).where(question.c.address_id.in_(numbers))
        with self._store.scrubbing():
            with self._store.transaction() as connection:  # what is promised would come back
                connection.execute(delete(ticket).where(ticket.c.question_key.in_(keys)))
            count = let_go(self._store, reply.c.question_key.in_(keys))
            if every_trace:
                self._leave_no_trace(numbers)
        return count

    def _leave_no_trace(self, numbers: Sequence[int]) -> None:
        """Also of the addresses that were asked in their place."""
        theirs = select(address.c.key).where(address.c.id.in_(numbers))
        instead = select(correction.c.corrected_key).where(correction.c.address_key.in_(theirs))
        found = self._store.connection.execute(select(address.c.id).where(address.c.key.in_(instead))).scalars()
        numbers = [*numbers, *found]
        theirs = select(address.c.key).where(address.c.id.in_(numbers))
        records = and_(work.c.job_id == pin.c.job_id, work.c.key == pin.c.key, work.c.address_id.in_(numbers))
        pinned = or_(pin.c.address_key.in_(theirs), select(work.c.id).where(records).exists())
        with self._store.transaction() as connection:
            forget_past(connection, numbers)
            connection.execute(delete(pin).where(pinned))
            connection.execute(
                delete(correction).where(
                    or_(correction.c.address_key.in_(theirs), correction.c.corrected_key.in_(theirs))
                )
            )
            there = select(work.c.written).where(work.c.address_id.in_(numbers), work.c.written.is_not(None))
            connection.execute(delete(written_position).where(written_position.c.coordinates.in_(there)))
            for table in (answer, work, question):
                connection.execute(delete(table).where(table.c.address_id.in_(numbers)))
            connection.execute(delete(address).where(address.c.id.in_(numbers)))
            connection.execute(delete(last_scan))

    def expire(self, older_than_days: int | None = None, service: str | None = None) -> dict[str, int]:
        """Delete replies that are too old, by the terms of the services or by age; their number by service."""
        if older_than_days is None:
            return dict(expire(self._store, self._store.clock.now()))
        found = select(reply.c.service, reply.c.kind).distinct()
        old = reply.c.received_at < before(self._store.clock.now(), older_than_days)
        counts = Counter[str]()
        for name, kind in self._store.connection.execute(found).all():
            if service in {None, name}:
                counts[name] += let_go(self._store, and_(reply.c.service == name, reply.c.kind == kind, old))
        return dict(+counts)

    def sizes(self) -> Sizes:
        found = (
            select(
                reply.c.service,
                reply.c.kind,
                func.count(),
                func.sum(func.length(reply.c.body)),
                func.min(reply.c.received_at),
                func.max(reply.c.received_at),
            )
            .group_by(reply.c.service, reply.c.kind)
            .order_by(reply.c.service, reply.c.kind)
        )
        rows = self._store.connection.execute(found)
        by_service = [SizeOf(row[0], row[1], int(row[2]), int(row[3]), row[4], row[5]) for row in rows]
        counts = [
            self._store.connection.execute(select(func.count()).select_from(table)).scalar_one()
            for table in (address, request, pin, job)
        ]
        addresses, requests, pins, jobs = map(int, counts)
        return Sizes(addresses, requests, pins, jobs, by_service)

    def export(self) -> Iterator[Sequence[Exported]]:
        """Every reply and every decision about an address, in pages."""
        query = export_query()
        last = 0
        while page := self._store.connection.execute(query.where(reply.c.id > last)).all():
            last = page[-1][0]
            yield [exported(row[1:]) for row in page]
        yield exported_decisions(self._store.connection)

    def take_over(self, rows: Sequence[Exported], source: str) -> tuple[int, int]:
        """Take replies and pins over, with their provenance; how many of each are new. What is known already stays."""
        replies = [row for row in rows if row.question_key]
        pins = [row for row in rows if not row.question_key]
        with self._store.transaction() as connection:
            self._store.run_many(PUT_ADDRESS, [(row.address_key, subject_text(row.subject)) for row in rows])
            self._store.run_many(PUT_ASKING, list({(row.asking, row.service) for row in replies}))
            self._store.run_many(PUT_QUESTION, [(row.question_key, row.address_key, row.asking) for row in replies])
            known = self._known(replies)
            new = list({row.question_key: row for row in replies if row.question_key not in known}.values())
            self._take(new, source)
            known_pins = self._pinned(pins)
            fresh = [row for row in pins if row.address_key not in known_pins]
            for row in fresh:
                if row.corrected is not None:
                    correct(connection, row.address_key, row.corrected, row.who, row.why, row.received_at)
                else:
                    made = Pin(row.lat, row.lon, row.who, row.why, row.received_at)
                    put_pin(connection, {"address_key": row.address_key}, made)
        return len(new), len(fresh)

    def _known(self, rows: Sequence[Exported]) -> set[str]:
        keys = [row.question_key for row in rows]
        query = select(reply.c.question_key).where(reply.c.question_key.in_(keys))
        return set(self._store.connection.execute(query).scalars())

    def _pinned(self, rows: Sequence[Exported]) -> set[str]:
        keys = [row.address_key for row in rows]
        query = union_all(
            select(pin.c.address_key).where(pin.c.address_key.in_(keys)),
            select(correction.c.address_key).where(correction.c.address_key.in_(keys)),
        )
        return set(self._store.connection.execute(query).scalars())

    def _take(self, rows: Sequence[Exported], source: str) -> None:
        """Keep replies as answers to requests of a run of their own, which was somebody else's."""
        connection = self._store.connection
        runs_of = dict[tuple[str, str, str], int]()
        now = stamp(self._store.clock.now())
        for number, row in zip(self._store.request_numbers(len(rows)), rows, strict=True):
            who = (f"{source}: {row.job}", row.who, row.host)
            if who not in runs_of:
                runs_of[who] = self._run_of(*who, row.received_at, now)
            charged = {
                "id": number,
                "run_id": runs_of[who],
                "question_key": row.question_key,
                "account": IMPORTED,
                "attempt": row.attempt,
                "state": "answered",
                "kind": row.kind,
                "units": 0,
                "cost": row.cost,
                "reserved_at": row.received_at,
                "settled_at": row.received_at,
            }
            connection.execute(insert(request).values(charged))
            kept = {name: getattr(row, name) for name in KEPT} | {"headers": mapping_text(row.headers)}
            connection.execute(
                insert(reply).values(**kept, request_id=number, run_id=runs_of[who], body=packed(row.body))
            )

    def _run_of(self, whose: str, who: str, host: str, began: str, now: str) -> int:
        connection = self._store.connection
        self._store.run(
            "INSERT INTO job (path, composed_by, judged_by) VALUES (?, '', '') ON CONFLICT DO NOTHING", [whose]
        )
        job_id = connection.execute(select(job.c.id).where(job.c.path == whose)).scalar_one()
        new = connection.execute(
            insert(run).values(job_id=job_id, started_at=began, ended_at=now, who=who, host=host)
        ).inserted_primary_key
        assert new is not None
        return int(new[0])


@contextmanager
def open_cache(where: "Path | Server", clock: Clock) -> Iterator[SqlCacheBook]:
    """Open the ledger for maintenance, while runs may use it. Raises LedgerTrouble."""
    store = open_store(where, clock)
    try:
        yield SqlCacheBook(store)
    finally:
        store.close()
