"""Reserving and settling requests: many at a time, each group in one durable transaction.

The guarantees live here. A request is in the database, with its place in the pace and the window raised,
before it may leave; its reply is kept in the transaction that settles it.
"""

import json
import math
import zlib
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from functools import lru_cache
from operator import attrgetter
from typing import Literal, TypeVar

from sqlalchemy import func, select

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Budget
from yellowtor.allowance.windows import Left, Window
from yellowtor.answers.ledger_rows import AlreadyKnown, Elsewhere, Reservation, Reserved, Ticket
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.ledger.accounts.account import Accounts
from yellowtor.ledger.accounts.in_flight import asked_elsewhere, others_in_flight
from yellowtor.ledger.accounts.orders import (
    OF_REQUEST,
    KeepTickets,
    LeaveQuestion,
    Order,
    Postpone,
    Refuse,
    Release,
    Reserve,
    RespectLimits,
    SettleReply,
    Shut,
    outcome_of,
)
from yellowtor.ledger.accounts.service_account import AccountTerms, ServiceAccount
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import reply, request, ticket
from yellowtor.ledger.storage.store import ManyRows, Store, TextsOf, batched

T = TypeVar("T")
Again = Literal["nothing", "failed", "everything"]  # which replies don't count: they are asked for again


REQUESTS = ManyRows(
    request,
    ["id", "run_id", "question_key", "account", "attempt", "state", "kind", "units", "cost", "reserved_at"],
    again="",  # a number that exists already would be an uncounted request
)
REPLIES = ManyRows(
    reply,
    ["question_key", "service", "request_id", "run_id", "kind", "status", "message", "body", "received_at", "headers"],
)
CLOSE = """UPDATE request SET state = ?, kind = ?, settled_at = ?, took_ms = CAST(done.column2 AS integer)
    FROM (VALUES {}) AS done WHERE request.id = done.column1"""
PUT_TICKET = "INSERT INTO ticket (question_key, ticket, place, questions) VALUES (?, ?, ?, ?)"
LEAVE = "UPDATE question SET left_open = ? WHERE key = ?"
AT_ONCE = 1_000
LATELY = 200  # requests that tell how long a reply takes


def kept_reply_to(store: Store, question_key: str) -> tuple[Reply, str] | None:
    """The kept reply to a question and when it came (ISO 8601, UTC), if there is one."""
    row = store.connection.execute(select(reply).where(reply.c.question_key == question_key)).first()
    return row and (Reply(row.status, json.loads(row.headers), zlib.decompress(row.body)), row.received_at)


class SqlRequestBook:
    """The requests of one run to one service."""

    def __init__(
        self, store: Store, accounts: Accounts, run_id: int, terms: AccountTerms, again: Again, budget: Budget
    ) -> None:
        self._store = store
        self._run = run_id
        self._clock = store.clock
        self._terms = terms
        self._differences: dict[str, str] = {}
        self._slowest = math.inf
        self._tickets = False
        self._again = again
        self._budget = budget
        self._account = ServiceAccount(terms, accounts, store, budget)
        self._begun_at = store.changes()
        self._shared = others_in_flight(store, run_id)  # or another process has written since this run began
        self._newest_before = store.connection.execute(select(func.max(reply.c.id))).scalar_one() or 0

    @property
    def is_far(self) -> bool:
        """Every statement is a way over the network."""
        return self._store.shareable

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """What is carried out in the body happens whole and durably, or not at all."""
        left = self._budget.left
        try:
            own = self._terms.is_local and not self._terms.windows  # nothing is counted that others count too
            with self._store.transaction([f"run {self._run}"] if own else self._account.locks):
                yield
        except BaseException:
            self._account.forget()
            self._budget.left = left  # what was not committed is not known
            raise

    def carry_out(self, orders: Sequence[Order]) -> list[Sequence[Reservation]]:
        """Execute the orders in a transaction; the reservations of each order."""
        now = self._clock.now()
        account = self._account_now()
        self._settle([o for o in orders if isinstance(o, SettleReply)], now)
        closed = self._close(orders, now)
        self._store.run_many(
            LEAVE,
            [(json.dumps([o.why], ensure_ascii=False), o.question_key) for o in orders if isinstance(o, LeaveQuestion)],
        )
        for order in orders:
            if isinstance(order, KeepTickets):
                self._keep_tickets(order.tickets)
        learned = self._learn(orders, account, now)
        released = [o for o in orders if isinstance(o, Release)]
        account.released({o.request_id: o.units for o in released}, sum(o.cost for o in released))
        account.closed(closed, now)
        made: dict[int, Sequence[Reservation]] = {
            id(o): [Reserved(o.request_id, account.another(o.units), o.units)]
            for o in orders
            if isinstance(o, Postpone)
        }
        reserves = [o for o in orders if isinstance(o, Reserve)]
        made |= zip(map(id, reserves), self._reserve(reserves, account, now), strict=True)
        if released or made or learned:
            account.put()
        return [made.get(id(o), ()) for o in orders]

    def _learn(self, orders: Sequence[Order], account: ServiceAccount, now: datetime) -> bool:
        """Apply what the service stated about its limits; whether it stated anything."""
        learned = False
        for order in orders:
            if isinstance(order, Refuse) and order.kind is Kind.TOO_FAST and order.tried:
                account.too_fast(order.tried)
                kept = account.pace(self._clock.boot()).per_second
                self._slowest = min(self._slowest, kept or self._slowest)
                self._differences["learned"] = (
                    f"{self._terms.service} said that requests are too fast and did not state its limit: the pace fell "
                    f"to {self._slowest:.3g} a second, and rises again"
                )
            elif isinstance(order, Shut):
                account.shut(now + timedelta(seconds=order.seconds))
            elif isinstance(order, RespectLimits):
                self._differences |= account.respect_limits(order.limits, order.uncounted, now)
            else:
                continue
            learned = True
        return learned

    @property
    def differences(self) -> Sequence[str]:
        """Where the service said something else of its limits than the description does."""
        return list(self._differences.values())

    @property
    def windows(self) -> Sequence[Window]:
        """What is counted: the account's windows, and caps."""
        return self._terms.windows

    def left(self) -> Sequence[Left]:
        """What each window still allows."""
        return self._looked_at().lefts(self._clock.now())

    def month_used(self) -> int:
        """How many requests of this month count for the price."""
        return self._looked_at().month_used(self._clock.now())

    def pace(self) -> Pace:
        """The pace that is kept."""
        return self._looked_at().pace(self._clock.boot())

    def pause_s(self) -> float:
        """Seconds until the service may be asked again, by what it said itself."""
        return self._looked_at().shut_s(self._clock.now())

    def reply_s(self) -> float | None:
        """How many seconds a reply has taken lately, on the average."""
        mine = request.c.account == self._terms.account, request.c.settled_at.is_not(None)
        lately = select(request.c.took_ms).where(*mine).order_by(request.c.settled_at.desc()).limit(LATELY).subquery()
        took_ms = self._store.connection.execute(select(func.avg(lately.c.took_ms))).scalar_one()
        return None if took_ms is None else float(took_ms) / 1000

    def cost(self, requests: int) -> int:
        """The cost of this many more requests this month, in millionths."""
        return self._looked_at().cost(requests, self._clock.now())

    def kept(self, question_key: str) -> tuple[Reply, str] | None:
        """The kept reply to this question and when it came, if there is one."""
        return kept_reply_to(self._store, question_key)

    def tickets(self, question_keys: Sequence[str]) -> dict[str, Ticket]:
        """The tickets that these questions have from earlier."""
        columns = (ticket.c.question_key, ticket.c.ticket, ticket.c.place, ticket.c.questions)
        mine = ticket.c.question_key.op("IN")(TextsOf(json.dumps(question_keys)))
        found = {row[0]: Ticket(*row[1:]) for row in self._store.connection.execute(select(*columns).where(mine))}
        self._tickets = self._tickets or bool(found)
        return found

    def _keep_tickets(self, tickets: Mapping[str, Ticket | None]) -> None:
        self._tickets = True
        self._store.run_many("DELETE FROM ticket WHERE question_key = ?", [(key,) for key in tickets])
        self._store.run_many(PUT_TICKET, [(key, *given) for key, given in tickets.items() if given])

    def _looked_at(self) -> ServiceAccount:
        """The account as it is now, outside of a transaction."""
        self._account.renew(anew=True)
        return self._account

    def reopen(self) -> None:
        """Open a ledger that was gone anew. Raises LedgerTrouble."""
        self._store.reopen()

    def persist(self, work: Callable[[], T]) -> T:
        """Do something with the ledger, once more if it was gone meanwhile."""
        return self._store.persist(work)

    def _account_now(self) -> ServiceAccount:
        """The account as it is now, in a transaction; read again only if another connection has written since."""
        self._shared = (self._account.renew() != self._begun_at) or self._shared
        return self._account

    def _reserve(self, orders: list[Reserve], account: ServiceAccount, now: datetime) -> list[list[Reservation]]:
        known = self._known(orders) if self._shared and orders else {}
        rows = list[dict[str, object]]()
        made = list[list[Reservation]]()
        for order in orders:
            made.append([known.get(key, AlreadyKnown()) for key in order.question_keys])
            wanted = [at for at, key in enumerate(order.question_keys) if key not in known]
            covered = len(wanted) if order.free else account.covers(len(wanted), now, counts_each=order.counts_each)
            units = [0 if order.free or (at and not order.counts_each) else 1 for at in range(covered)]
            for at, reserved in zip(wanted, account.grant(units, now) if covered else (), strict=False):
                made[-1][at] = reserved
                rows.append(self._row(reserved, order.question_keys[at], order.attempt, now))
            for at in wanted[covered:]:
                made[-1][at] = account.why_not(now)
        REQUESTS.insert(self._store, rows)
        return made

    def _known(self, orders: list[Reserve]) -> dict[str, Reservation]:
        """The questions that someone has put a final reply to since they were counted as open, or is asking now."""
        keys = [key for order in orders for key in order.question_keys]
        query = select(reply.c.question_key).where(reply.c.question_key.op("IN")(TextsOf(json.dumps(keys))))
        if self._again != "nothing":
            new = reply.c.id > self._newest_before  # those before had failed, by rules that their kind does not know
            query = query.where(new if self._again == "failed" else reply.c.run_id == self._run)
        known: dict[str, Reservation] = dict.fromkeys(asked_elsewhere(self._store, self._run, keys), Elsewhere())
        return known | dict.fromkeys(self._store.connection.execute(query).scalars(), AlreadyKnown())

    def _row(self, reserved: Reserved, key: str, attempt: int, now: datetime) -> dict[str, object]:
        return {
            "id": reserved.request_id,
            "run_id": self._run,
            "question_key": key,
            "account": self._terms.account,
            "attempt": attempt,
            "state": "reserved",
            "kind": "",
            "units": reserved.units,
            "cost": reserved.cost,
            "reserved_at": _stamp(now),
        }

    def _settle(self, orders: list[SettleReply], now: datetime) -> None:
        if self.is_far:  # others may keep replies to the same questions at this moment: all of them in one order
            orders = sorted(orders, key=attrgetter("question_key"))
        rows = [self._kept(order, now) for order in orders]
        if self._tickets and orders:
            self._keep_tickets(dict.fromkeys((order.question_key for order in orders), None))
        if self._again != "nothing" or self._shared:  # the new reply takes the place of the one before
            keys = [order.question_key for order in orders]
            self._store.connection.execute(reply.delete().where(reply.c.question_key.in_(keys)))
        REPLIES.insert(self._store, rows)

    def _kept(self, order: SettleReply, now: datetime) -> dict[str, object]:
        return {
            "question_key": order.question_key,
            "service": self._terms.service,
            "request_id": order.request_id,
            "run_id": self._run,
            "kind": order.read.kind.value,
            "status": 0 if order.reply.kind else order.reply.status,
            "message": order.read.message,
            "body": packed(order.reply.body),
            "received_at": _stamp(now),
            "headers": json.dumps(dict(order.reply.headers)),
        }

    def _close(self, orders: Sequence[Order], now: datetime) -> list[int]:
        """Store the state of requests, with one statement for each state; the numbers of those that were sent."""
        closed = defaultdict[tuple[str, str], list[tuple[int, int | None]]](list)
        for order in orders:
            if isinstance(order, OF_REQUEST):
                took_s = None if isinstance(order, Release) else order.took_s
                closed[outcome_of(order)].append((order.request_id, None if took_s is None else round(took_s * 1000)))
        for became, done in closed.items():
            for page in batched(done, AT_ONCE):
                values = [value for one in page for value in one]
                self._store.run(CLOSE.format(", ".join(["(?, ?)"] * len(page))), (*became, _stamp(now), *values))
        return [number for (state, _), done in closed.items() if state != "released" for number, _ in done]


def packed(body: bytes) -> bytes:
    """The body in the format of RFC 1950; a window of 4 KiB costs a quarter of the time for so short a text."""
    packer = zlib.compressobj(1, zlib.DEFLATED, 12, 5)
    return packer.compress(body) + packer.flush()


_stamp = lru_cache(maxsize=8)(stamp)
