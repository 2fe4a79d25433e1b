"""What was before: written when an answer, an address or a pin is replaced, read to tell how records stood."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from sqlalchemy import ColumnElement, Connection, and_, delete, func, insert, literal, or_, select

from yellowtor.answers.decisions import Pin
from yellowtor.answers.history import PastPosition
from yellowtor.answers.ledger_rows import Judged, WorkState
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import read_subject
from yellowtor.ledger.jobs.judged_rows import OF_STATE, OUTCOMES
from yellowtor.ledger.storage.schema import address, answer, past_answer, past_pin, past_work, pin, reply, run, work
from yellowtor.ledger.storage.store import Store, TextsOf
from yellowtor.ledger.storage.stored_text import read_position

if TYPE_CHECKING:
    pass

PAGE = 1_000
UNASKED = {WorkState.KEPT.value, WorkState.INCOMPLETE.value}
ENDLESS = "~"  # after every instant
COPIED = ("judged_by", "outcome", "lat", "lon", "confidence", "basis", "level", "matched")
PIN_COPIED = ("job_id", "key", "address_key", "lat", "lon", "who", "why", "pinned_at")


def keep_past_answers(connection: Connection, job_id: int, rows: Sequence[Judged], now: str) -> None:
    """Before answers are replaced, keep those that have another outcome or position."""
    new = {row.address: (row.outcome.value, row.lat, row.lon) for row in rows}
    numbers = [answer.c.address_id, answer.c.since, *(answer.c[name] for name in COPIED)]
    query = (
        select(*numbers, func.coalesce(reply.c.service, "").label("service"))
        .add_columns(func.coalesce(reply.c.received_at, "").label("asked_at"))
        .select_from(answer.outerjoin(reply, reply.c.id == answer.c.reply_id))
        .where(answer.c.job_id == job_id, answer.c.address_id.in_(list(new)))
    )
    known = connection.execute(query).mappings().all()
    past = [row for row in known if (row["outcome"], row["lat"], row["lon"]) != new[row["address_id"]]]
    if past:
        connection.execute(insert(past_answer), [{"job_id": job_id, "until": now, **row} for row in past])


def keep_past_addresses(connection: Connection, job_id: int, new: Mapping[str, str], now: str) -> None:
    """Before records are put, keep the addresses that they had, if those are others. new are their keys by record."""
    if not new:
        return
    mine = and_(work.c.job_id == job_id, work.c.key.op("IN")(TextsOf(json.dumps(list(new)))))
    there = work.join(address, address.c.id == work.c.address_id)
    query = select(work.c.key, work.c.address_id, address.c.key).select_from(there).where(mine)
    past = [(key, number) for key, number, before in connection.execute(query) if before != new[key]]
    if past:
        rows = [{"job_id": job_id, "key": key, "address_id": number, "until": now} for key, number in past]
        connection.execute(insert(past_work), rows)


def end_pins(connection: Connection, which: ColumnElement[bool], until: str) -> int:
    """Remove pins, and keep what they were; their number."""
    copied = [pin.c[name] for name in PIN_COPIED]
    gone = select(*copied, literal(until)).where(which)
    connection.execute(insert(past_pin).from_select([*PIN_COPIED, "until"], gone))
    return connection.execute(delete(pin).where(which)).rowcount


def forget_past(connection: Connection, numbers: Sequence[int]) -> None:
    """Delete what is kept of the past of these addresses, and of the records that have or had them."""
    theirs = select(address.c.key).where(address.c.id.in_(numbers))
    for table in (work, past_work):
        records = and_(table.c.job_id == past_pin.c.job_id, table.c.key == past_pin.c.key)
        held = select(table.c.key).where(records, table.c.address_id.in_(numbers)).exists()
        connection.execute(delete(past_pin).where(held))
    connection.execute(delete(past_pin).where(past_pin.c.address_key.in_(theirs)))
    for past in (past_answer, past_work):
        connection.execute(delete(past).where(past.c.address_id.in_(numbers)))


class SqlHistoryBook:
    """How the records of one job stood; it only reads."""

    def __init__(self, store: Store, job_id: int) -> None:
        self._store = store
        self._job = job_id

    def before_run(self, number: int) -> str | None:
        """The instant at which the last run but some began (1: the last one); None if there were fewer."""
        query = select(run.c.started_at).where(run.c.job_id == self._job).order_by(run.c.id.desc())
        return self._store.connection.execute(query.offset(number - 1).limit(1)).scalar()

    def run_until(self, instant: str) -> str:
        """When the last run before an instant began: what was decided later was not written then. Empty: none did."""
        query = select(func.max(run.c.started_at)).where(run.c.job_id == self._job, run.c.started_at < instant)
        return self._store.connection.execute(query).scalar() or ""

    def all_keys(self) -> Iterator[list[str]]:
        """The keys of the records that are in the source, page by page."""
        last = 0
        query = select(work.c.place, work.c.key).where(work.c.job_id == self._job).order_by(work.c.place).limit(PAGE)
        while page := self._store.connection.execute(query.where(work.c.place > last)).all():
            last = page[-1][0]
            yield [key for _, key in page]

    def past(self, keys: Sequence[str]) -> dict[str, list[PastPosition]]:
        """Every position that these records had and have, the first one first."""
        read = self._store.connection.execute
        mine = TextsOf(json.dumps(keys))
        now = read(
            select(work.c.key, work.c.address_id, work.c.state, work.c.held).where(
                work.c.job_id == self._job, work.c.key.op("IN")(mine)
            )
        ).all()
        before = read(
            select(past_work.c.key, past_work.c.address_id, past_work.c.until)
            .where(past_work.c.job_id == self._job, past_work.c.key.op("IN")(mine))
            .order_by(past_work.c.until)
        ).all()
        spans = _spans(now, before)
        numbers = sorted({number for some in spans.values() for number, _, _ in some})
        lines = {row[0]: (row[1], read_subject(row[2]).line()) for row in self._addresses(numbers)}
        answers = self._answers(numbers)
        pins = self._pins(keys, [key for key, _ in lines.values()])
        unasked = {
            key: (OF_STATE[WorkState(state)], read_position(held)) for key, _, state, held in now if state in UNASKED
        }
        return {key: _timeline(key, some, lines, answers, pins, unasked.get(key)) for key, some in spans.items()}

    def _addresses(self, numbers: Sequence[int]) -> Sequence[Any]:
        query = select(address.c.id, address.c.key, address.c.parts).where(address.c.id.in_(numbers))
        return self._store.connection.execute(query).all()

    def _answers(self, numbers: Sequence[int]) -> dict[int, list[PastPosition]]:
        """The answers about each address, with the instants between which they held."""
        read = self._store.connection.execute
        found: dict[int, list[PastPosition]] = {}
        columns = [past_answer.c[name] for name in (*COPIED, "service", "asked_at")]
        past = select(past_answer.c.address_id, past_answer.c.since, past_answer.c.until, *columns)
        mine = and_(past_answer.c.job_id == self._job, past_answer.c.address_id.in_(numbers))
        now = (
            select(answer.c.address_id, answer.c.since, literal(""), *(answer.c[name] for name in COPIED))
            .add_columns(func.coalesce(reply.c.service, ""), func.coalesce(reply.c.received_at, ""))
            .select_from(answer.outerjoin(reply, reply.c.id == answer.c.reply_id))
            .where(answer.c.job_id == self._job, answer.c.address_id.in_(numbers))
        )
        for row in [*read(past.where(mine).order_by(past_answer.c.until)), *read(now)]:
            number, since, until, judged_by, outcome, lat, lon, confidence, basis, level, matched, service, asked_at = (
                row
            )
            at = None if lat is None else Position(lat, lon)
            held = (since, until, "", OUTCOMES[outcome], at, confidence, basis, level, matched)
            found.setdefault(number, []).append(PastPosition(*held, service, asked_at, judged_by or ""))
        return found

    def _pins(self, keys: Sequence[str], address_keys: Sequence[str]) -> dict[str, list[tuple[str, Pin]]]:
        """The pins on records (by key) and on addresses (by their keys), each until when."""
        found: dict[str, list[tuple[str, Pin]]] = {}
        for table in (past_pin, pin):
            until = past_pin.c.until if table is past_pin else literal("")
            mine = and_(table.c.job_id == self._job, table.c.key.op("IN")(TextsOf(json.dumps(keys))))
            theirs = table.c.address_key.op("IN")(TextsOf(json.dumps(address_keys)))
            columns = [table.c[name] for name in ("lat", "lon", "who", "why", "pinned_at")]
            query = select(table.c.key, table.c.address_key, until, *columns).where(or_(mine, theirs))
            for key, address_key, end, *made in self._store.connection.execute(query):
                whose = f"record {key}" if key is not None else f"address {address_key}"
                found.setdefault(whose, []).append((end, Pin(*made)))
        return found


Span = tuple[int, str, str]  # an address's number, and the instants between which a record had it


def _spans(now: Iterable[Sequence[Any]], before: Iterable[Sequence[Any]]) -> dict[str, list[Span]]:
    """The addresses that each record had and has, in order."""
    spans: dict[str, list[Span]] = {}
    for key, number, until in before:
        earlier = spans.setdefault(key, [])
        earlier.append((number, earlier[-1][2] if earlier else "", until))
    for key, number, _, _ in now:
        earlier = spans.setdefault(key, [])
        earlier.append((number, earlier[-1][2] if earlier else "", ""))
    return spans


def _timeline(
    key: str,
    spans: Sequence[Span],
    lines: Mapping[int, tuple[str, str]],
    answers: Mapping[int, Sequence[PastPosition]],
    pins: Mapping[str, Sequence[tuple[str, Pin]]],
    unasked: tuple[Outcome, Position | None] | None,
) -> list[PastPosition]:
    """Unasked is the outcome and the position of a record about which nothing is asked now."""
    found: list[PastPosition] = []
    for number, begin, end in spans:
        address_key, line = lines.get(number, ("", ""))
        if unasked and not end:
            found.append(PastPosition(begin, "", line, *unasked))
        else:
            found += (one._replace(address=line) for one in _clipped(answers.get(number, ()), begin, end))
        pinned = [_of_pin(made, until, line) for until, made in pins.get(f"address {address_key}", ())]
        found += _clipped(pinned, begin, end)
    found += [_of_pin(made, until, "") for until, made in pins.get(f"record {key}", ())]
    return sorted(found, key=lambda one: (one.since, one.until or ENDLESS))


def _of_pin(made: Pin, until: str, line: str) -> PastPosition:
    outcome = Outcome.PLACED if made.position else Outcome.UNPLACED
    return PastPosition(made.pinned_at, until, line, outcome, made.position, basis="pinned", said=made.said)


def _clipped(some: Iterable[PastPosition], begin: str, end: str) -> Iterator[PastPosition]:
    """Those that held between two instants, no longer than between them."""
    for one in some:
        since = max(one.since, begin)
        until = min(one.until or ENDLESS, end or ENDLESS)
        if since < until:
            yield one._replace(since=since, until="" if until == ENDLESS else until)
