"""Reserving and settling requests: many at a time, each group in one durable transaction.

The guarantees live here. A request is in the database, with its place in the pace and the window raised,
before it may leave; its reply is kept in the transaction that settles it.
"""

import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Literal, Protocol

from sqlalchemy import Connection, bindparam, func, insert, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import DayWindow
from yellowtor.answers.kinds import Kind
from yellowtor.answers.reading import Read
from yellowtor.answers.reply import Reply
from yellowtor.answers.work import AlreadyKnown, Reservation, Reserved, Spent
from yellowtor.ledger.scanning import FINAL
from yellowtor.ledger.schema import pace, reply, request, window_use
from yellowtor.ledger.store import Store

Again = Literal["nothing", "failed", "everything"]  # which replies don't count: they are asked for again


class Clock(Protocol):
    def now(self) -> datetime: ...
    def boot(self) -> float: ...
    def boot_id(self) -> str: ...


@dataclass(frozen=True, slots=True)
class Reserve:
    """Wants the right to send one request."""

    question_key: str
    attempt: int


@dataclass(frozen=True, slots=True)
class SettleReply:
    """A reply that stands: it is kept, and its question is closed."""

    request_id: int
    question_key: str
    status: int
    body: bytes
    read: Read


@dataclass(frozen=True, slots=True)
class Refuse:
    """A request that brought no reply worth keeping; it counts as spent."""

    request_id: int
    kind: Kind


@dataclass(frozen=True, slots=True)
class Release:
    """A request that never left: its place in the window is given back."""

    request_id: int


Order = Reserve | SettleReply | Refuse | Release


@dataclass(frozen=True, slots=True)
class AccountTerms:
    """The account that requests are charged to, and what it allows."""

    service: str
    account: str
    pace: Pace
    day: DayWindow


class RequestBook:
    """The requests of one run."""

    def __init__(self, store: Store, run_id: int, clock: Clock, terms: AccountTerms, again: Again) -> None:
        self._store, self._run, self._clock, self._terms = store, run_id, clock, terms
        self._again = again

    def carry_out(self, orders: Sequence[Order]) -> list[Reservation | None]:
        """Carry all the orders out in one transaction; a reservation for each Reserve, None for the rest."""
        now = self._clock.now()
        with self._store.transaction() as connection:
            self._settle(connection, [o for o in orders if isinstance(o, SettleReply)], now)
            self._close(connection, orders, now)
            reserves = [o for o in orders if isinstance(o, Reserve)]
            if not reserves:
                return [None] * len(orders)
            made = iter(self._reserve(connection, reserves, now))
            return [next(made) if isinstance(o, Reserve) else None for o in orders]

    def left_today(self) -> int | None:
        """Requests that the day's window still allows; None where there is no limit."""
        if self._terms.day.limit is None:
            return None
        _, used = self._window(self._store.connection, self._clock.now())
        return max(0, self._terms.day.limit - used)

    def kept(self, question_key: str) -> tuple[Reply, str] | None:
        """The kept reply to this question and when it came, if there is one."""
        query = select(reply).where(reply.c.question_key == question_key)
        row = self._store.connection.execute(query).first()
        return row and (Reply(row.status, {}, zlib.decompress(row.body)), row.received_at)

    def _reserve(self, connection: Connection, orders: list[Reserve], now: datetime) -> list[Reservation]:
        known = self._known(connection, orders)
        start, used = self._window(connection, now)
        arrival = first_arrival = self._arrival(connection)
        next_id = (connection.execute(select(func.max(request.c.id))).scalar_one() or 0) + 1
        rows, made = [], list[Reservation]()
        for order in orders:
            if order.question_key in known:
                made.append(AlreadyKnown())
            elif self._terms.day.limit is not None and used >= self._terms.day.limit:
                made.append(Spent(_stamp(self._terms.day.end(max(now, start)))))
            else:
                send_at, arrival = self._terms.pace.reserve(arrival, self._clock.boot())
                made.append(Reserved(next_id, send_at))
                rows.append(self._row(next_id, order, now))
                next_id, used = next_id + 1, used + 1
        if rows:
            connection.execute(insert(request), rows)
            self._put_window(connection, start, used)
            if arrival != first_arrival:
                self._put_arrival(connection, arrival)
        return made

    def _known(self, connection: Connection, orders: list[Reserve]) -> set[str]:
        """The questions that someone has put a final reply to since they were counted as open."""
        query = select(reply.c.question_key).where(reply.c.question_key.in_([o.question_key for o in orders]))
        if self._again != "nothing":
            final = FINAL if self._again == "failed" else []
            query = query.where(reply.c.kind.in_(final) | (reply.c.run_id == self._run))
        return set(connection.execute(query).scalars())

    def _row(self, request_id: int, order: Reserve, now: datetime) -> dict[str, object]:
        return {
            "id": request_id, "run_id": self._run, "question_key": order.question_key,
            "account": self._terms.account, "attempt": order.attempt, "state": "reserved", "reserved_at": _stamp(now),
        }  # fmt: skip

    def _window(self, connection: Connection, now: datetime) -> tuple[datetime, int]:
        """The day's start and what is used of it; never an earlier day than the last one seen."""
        query = select(window_use.c.start, window_use.c.used).where(
            window_use.c.account == self._terms.account, window_use.c.window == "day"
        )
        last = connection.execute(query.order_by(window_use.c.start.desc()).limit(1)).first()
        start = self._terms.day.start(now)
        if last and datetime.fromisoformat(last[0]) >= start:
            return datetime.fromisoformat(last[0]), last[1]
        return start, 0

    def _put_window(self, connection: Connection, start: datetime, used: int) -> None:
        row = {"account": self._terms.account, "window": "day", "start": _stamp(start), "used": used}
        connection.execute(
            upsert(window_use).values(row).on_conflict_do_update(
                index_elements=["account", "window", "start"], set_={"used": used}
            )
        )  # fmt: skip

    def _arrival(self, connection: Connection) -> float:
        """The account's theoretical arrival time; another boot's clock says nothing."""
        query = select(pace.c.boot_id, pace.c.arrival).where(pace.c.account == self._terms.account)
        row = connection.execute(query).first()
        return row[1] if row and row[0] == self._clock.boot_id() else 0.0

    def _put_arrival(self, connection: Connection, arrival: float) -> None:
        state = {"boot_id": self._clock.boot_id(), "arrival": arrival}
        statement = upsert(pace).values(account=self._terms.account, **state)
        connection.execute(statement.on_conflict_do_update(index_elements=["account"], set_=state))

    def _settle(self, connection: Connection, orders: list[SettleReply], now: datetime) -> None:
        if not orders:
            return
        connection.execute(
            reply.delete().where(reply.c.question_key == bindparam("question")),
            [{"question": order.question_key} for order in orders],
        )
        connection.execute(insert(reply), [self._kept(order, now) for order in orders])

    def _kept(self, order: SettleReply, now: datetime) -> dict[str, object]:
        return {
            "question_key": order.question_key, "service": self._terms.service, "request_id": order.request_id,
            "run_id": self._run, "kind": order.read.kind.value, "status": order.status,
            "message": order.read.message, "body": zlib.compress(order.body, 1), "received_at": _stamp(now),
        }  # fmt: skip

    def _close(self, connection: Connection, orders: Sequence[Order], now: datetime) -> None:
        closed = list(filter(None, map(_closing, orders)))
        if closed:
            statement = update(request).where(request.c.id == bindparam("this"))
            connection.execute(
                statement.values(state=bindparam("to"), kind=bindparam("why"), settled_at=_stamp(now)), closed
            )
        released = sum(isinstance(order, Release) for order in orders)
        if released:
            start, used = self._window(connection, now)
            self._put_window(connection, start, max(0, used - released))


def _closing(order: Order) -> dict[str, object] | None:
    match order:
        case SettleReply():
            return {"this": order.request_id, "to": "answered", "why": order.read.kind.value}
        case Refuse():
            return {"this": order.request_id, "to": "refused", "why": order.kind.value}
        case Release():
            return {"this": order.request_id, "to": "released", "why": ""}
    return None


def _stamp(instant: datetime) -> str:
    return instant.astimezone(UTC).isoformat(timespec="milliseconds")
