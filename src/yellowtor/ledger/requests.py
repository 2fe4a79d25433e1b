"""Reserving and settling requests: many at a time, each group in one durable transaction.

The guarantees live here. A request is in the database, with its place in the pace and the window raised,
before it may leave; its reply is kept in the transaction that settles it.
"""

import json
import zlib
from collections import defaultdict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Literal, Protocol

from sqlalchemy import Connection, bindparam, func, select
from sqlalchemy.dialects.sqlite import insert

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import Left, Window
from yellowtor.answers.kinds import Kind
from yellowtor.answers.reading import Read
from yellowtor.answers.reply import Reply
from yellowtor.answers.work import AlreadyKnown, Reservation, Reserved, Spent
from yellowtor.ledger.scanning import FINAL
from yellowtor.ledger.schema import pace, reply, request
from yellowtor.ledger.store import ManyRows, Store
from yellowtor.ledger.windows import PUT_USE, Use, left_of, stamp, uses

Again = Literal["nothing", "failed", "everything"]  # which replies don't count: they are asked for again


class Clock(Protocol):
    def now(self) -> datetime: ...
    def boot(self) -> float: ...
    def boot_id(self) -> str: ...


@dataclass(frozen=True, slots=True)
class Reserve:
    """Wants the right to send one request about these questions; each counts, or all of them as one."""

    question_keys: Sequence[str]
    attempt: int
    counts_each: bool = True


@dataclass(frozen=True, slots=True)
class SettleReply:
    """A reply that stands: it is kept, and its question is closed."""

    request_id: int
    question_key: str
    reply: Reply
    read: Read


@dataclass(frozen=True, slots=True)
class Refuse:
    """A request that brought no reply worth keeping; it counts as spent."""

    request_id: int
    kind: Kind


@dataclass(frozen=True, slots=True)
class Release:
    """A request that never left: its place in the window, so many units, is given back."""

    request_id: int
    units: int = 1


@dataclass(frozen=True, slots=True)
class Postpone:
    """A reserved request that is late for its place in the pace, and wants another: so many units of it."""

    request_id: int
    units: int = 1


Order = Reserve | SettleReply | Refuse | Release | Postpone


@dataclass(frozen=True, slots=True)
class AccountTerms:
    """A service, the way it is asked (its key), the account that requests are charged to, and what that allows."""

    service: str
    asking: str
    account: str
    pace: Pace
    windows: Sequence[Window] = ()


REQUESTS = ManyRows(
    request, ["id", "run_id", "question_key", "account", "attempt", "state", "kind", "units", "reserved_at"]
)
REPLIES = ManyRows(
    reply,
    ["question_key", "service", "request_id", "run_id", "kind", "status", "message", "body", "received_at", "headers"],
)
CLOSE = "UPDATE request SET state = ?, kind = ?, settled_at = ? WHERE id IN (SELECT value FROM json_each(?))"


_PUT = insert(pace).values(account=bindparam("account"), boot_id=bindparam("boot_id"), arrival=bindparam("arrival"))
PUT_PACE = _PUT.on_conflict_do_update(
    index_elements=["account"], set_={"boot_id": _PUT.excluded.boot_id, "arrival": _PUT.excluded.arrival}
)


@dataclass
class _State:
    """What the account has used, as of a version of the database."""

    version: int
    uses: Sequence[Use]
    arrival: float
    next_id: int


class RequestBook:
    """The requests of one run."""

    def __init__(self, store: Store, run_id: int, clock: Clock, terms: AccountTerms, again: Again) -> None:
        self._store, self._run, self._clock, self._terms = store, run_id, clock, terms
        self._again = again
        self._state: _State | None = None
        self._begun_at = self._version(store.connection)
        self._shared = False  # another process has written to the ledger since this run began

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """What is carried out in the body happens whole and durably, or not at all."""
        try:
            with self._store.transaction():
                yield
        except BaseException:
            self._state = None  # what was not committed is not known
            raise

    def carry_out(self, orders: Sequence[Order]) -> list[Sequence[Reservation]]:
        """Carry all the orders out, in a transaction; a reservation for each question of whoever wants one."""
        connection, now = self._store.connection, self._clock.now()
        state = self._state_now(connection, now)
        self._settle(connection, [o for o in orders if isinstance(o, SettleReply)], now)
        closed = self._close(connection, orders, now)
        released = {o.request_id: o.units for o in orders if isinstance(o, Release)}
        for use in state.uses:
            use.released(released)
            use.closed(closed, now)
        made: dict[int, Sequence[Reservation]] = {
            id(o): [self._another(state, o)] for o in orders if isinstance(o, Postpone)
        }
        reserves = [o for o in orders if isinstance(o, Reserve)]
        made |= zip(map(id, reserves), self._reserve(connection, reserves, state, now), strict=True)
        if released or made:
            self._put_state(connection, state)
        return [made.get(id(o), ()) for o in orders]

    def left(self) -> Sequence[Left]:
        """What each window still allows."""
        now = self._clock.now()
        return [left_of(use, now) for use in self._uses(self._store.connection, now)]

    def kept(self, question_key: str) -> tuple[Reply, str] | None:
        """The kept reply to this question and when it came, if there is one."""
        query = select(reply).where(reply.c.question_key == question_key)
        row = self._store.connection.execute(query).first()
        return row and (Reply(row.status, json.loads(row.headers), zlib.decompress(row.body)), row.received_at)

    def _state_now(self, connection: Connection, now: datetime) -> _State:
        """The account's state; read again only when another process has written since."""
        version = self._version(connection)
        self._shared = self._shared or version != self._begun_at
        if self._state is None or self._state.version != version:
            next_id = (connection.execute(select(func.max(request.c.id))).scalar_one() or 0) + 1
            self._state = _State(version, self._uses(connection, now), self._arrival(connection), next_id)
        return self._state

    def _uses(self, connection: Connection, now: datetime) -> Sequence[Use]:
        return uses(self._terms.windows, self._terms.account, connection, now)

    def _reserve(
        self, connection: Connection, orders: list[Reserve], state: _State, now: datetime
    ) -> list[list[Reservation]]:
        known = self._known(connection, orders) if self._shared and orders else set()
        rows, made = list[dict[str, object]](), list[list[Reservation]]()
        for order in orders:
            made.append([AlreadyKnown()] * len(order.question_keys))
            wanted = [at for at, key in enumerate(order.question_keys) if key not in known]
            left = min((use.left(now) for use in state.uses), default=len(wanted))
            covered = left if order.counts_each else len(wanted) * (left > 0)
            if granted := wanted[:covered]:
                self._grant(order, granted, made[-1], rows, state, now)
            for at in wanted[covered:]:
                made[-1][at] = _spent(state.uses, now)
        REQUESTS.insert(connection, rows)
        return made

    def _grant(
        self, order: Reserve, places: Sequence[int], made: list[Reservation], rows: list[dict[str, object]],
        state: _State, now: datetime,
    ) -> None:  # fmt: skip
        """Put reservations for the questions in these places into made, and what the ledger keeps of them into rows."""
        total, reserved = len(places) if order.counts_each else 1, dict[int, int]()
        send_at, state.arrival = self._terms.pace.reserve(state.arrival, self._clock.boot(), total)
        for first, at in enumerate(places):
            units = 1 if order.counts_each or not first else 0
            made[at] = Reserved(state.next_id, send_at, units)
            rows.append(self._row(state.next_id, order.question_keys[at], order.attempt, units, now))
            reserved[state.next_id] = units
            state.next_id += 1
        for use in state.uses:
            use.reserved(reserved)

    @staticmethod
    def _version(connection: Connection) -> int:
        """What changes whenever another connection has written (SQLite's own count)."""
        return int(connection.exec_driver_sql("PRAGMA data_version").scalar_one())

    def _another(self, state: _State, order: Postpone) -> Reserved:
        send_at, state.arrival = self._terms.pace.reserve(state.arrival, self._clock.boot(), order.units)
        return Reserved(order.request_id, send_at, order.units)

    def _known(self, connection: Connection, orders: list[Reserve]) -> set[str]:
        """The questions that someone has put a final reply to since they were counted as open."""
        keys = [key for order in orders for key in order.question_keys]
        query = select(reply.c.question_key).where(reply.c.question_key.in_(keys))
        if self._again != "nothing":
            final = FINAL if self._again == "failed" else []
            query = query.where(reply.c.kind.in_(final) | (reply.c.run_id == self._run))
        return set(connection.execute(query).scalars())

    def _row(self, request_id: int, key: str, attempt: int, units: int, now: datetime) -> dict[str, object]:
        return {
            "id": request_id, "run_id": self._run, "question_key": key, "account": self._terms.account,
            "attempt": attempt, "state": "reserved", "kind": "", "units": units, "reserved_at": _stamp(now),
        }  # fmt: skip

    def _put_state(self, connection: Connection, state: _State) -> None:
        account = self._terms.account
        if rows := [row for use in state.uses for row in use.rows()]:
            connection.execute(PUT_USE, rows)
        if self._terms.pace.per_second:
            at = {"boot_id": self._clock.boot_id(), "arrival": state.arrival}
            connection.execute(PUT_PACE, {"account": account, **at})

    def _arrival(self, connection: Connection) -> float:
        """The account's theoretical arrival time; another boot's clock says nothing."""
        query = select(pace.c.boot_id, pace.c.arrival).where(pace.c.account == self._terms.account)
        row = connection.execute(query).first()
        return row[1] if row and row[0] == self._clock.boot_id() else 0.0

    def _settle(self, connection: Connection, orders: list[SettleReply], now: datetime) -> None:
        rows = [self._kept(order, now) for order in orders]
        if self._again != "nothing" or self._shared:  # the new reply takes the place of the one before
            keys = [order.question_key for order in orders]
            connection.execute(reply.delete().where(reply.c.question_key.in_(keys)))
        REPLIES.insert(connection, rows)

    def _kept(self, order: SettleReply, now: datetime) -> dict[str, object]:
        return {
            "question_key": order.question_key, "service": self._terms.service, "request_id": order.request_id,
            "run_id": self._run, "kind": order.read.kind.value, "status": order.reply.status,
            "message": order.read.message, "body": _packed(order.reply.body), "received_at": _stamp(now),
            "headers": json.dumps(dict(order.reply.headers)),
        }  # fmt: skip

    def _close(self, connection: Connection, orders: Sequence[Order], now: datetime) -> list[int]:
        """Mark what has become of requests, with one statement for all that became the same; those that were sent."""
        closed = defaultdict[tuple[str, str], list[int]](list)
        for order in orders:
            if not isinstance(order, Reserve | Postpone):
                closed[_become(order)].append(order.request_id)
        for became, ids in closed.items():
            connection.exec_driver_sql(CLOSE, (*became, _stamp(now), json.dumps(ids)))
        return [number for (state, _), ids in closed.items() if state != "released" for number in ids]


def _spent(uses: Sequence[Use], now: datetime) -> Spent:
    """Which windows have nothing left, and when the last of them has more."""
    empty = [use for use in uses if not use.left(now)]
    return Spent(_stamp(max(use.more_at(now) for use in empty)), " and ".join(use.window.name for use in empty))


def _packed(body: bytes) -> bytes:
    """The body in the format of RFC 1950; a window of 4 KiB costs a quarter of the time for so short a text."""
    packer = zlib.compressobj(1, zlib.DEFLATED, 12, 5)
    return packer.compress(body) + packer.flush()


def _become(order: SettleReply | Refuse | Release) -> tuple[str, str]:
    """The state of the request behind an order, and the kind of its reply."""
    match order:
        case SettleReply():
            return "answered", order.read.kind.value
        case Refuse():
            return "refused", order.kind.value
    return "released", ""


_stamp = lru_cache(maxsize=8)(stamp)
