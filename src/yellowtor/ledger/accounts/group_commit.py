"""Group commit.

The thread that writes to the ledger while asking. Orders that arrive during a commit share the next.
"""

import asyncio
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, asynccontextmanager
from functools import partial
from typing import Self, TypeVar

from yellowtor.allowance.rate_limit_headers import StatedLimit
from yellowtor.answers.ledger_rows import Reservation, Reserved, Ticket
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.errors import LedgerTrouble
from yellowtor.ledger.accounts.orders import (
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
)
from yellowtor.ledger.accounts.requests import SqlRequestBook
from yellowtor.ledger.storage.store import LedgerGone

T = TypeVar("T")
_Answer = asyncio.Future[Sequence[Reservation]]
LINGER_S = 0.003  # orders within this time share a commit, which costs more than the wait


class GroupWriter:
    """Executes orders in groups, one commit after the other."""

    def __init__(self, book: SqlRequestBook) -> None:
        self._book = book
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="ledger")
        self._pending: list[tuple[Order, _Answer | None]] = []
        self._failure: Exception | None = None  # of an order that is not awaited
        self._turn = asyncio.Lock()  # one at a time has the ledger
        self._busy: asyncio.Task[None] | None = None

    async def reserve(
        self, question_keys: Sequence[str], attempt: int, *, counts_each: bool = True, free: bool = False
    ) -> Sequence[Reservation]:
        """One for each question of a request; each counts in the window, or all of them as one, or none (free)."""
        self._raise_failure()  # before more is spent
        return await self._order(Reserve(question_keys, attempt, counts_each, free))

    async def tickets(self, question_keys: Sequence[str]) -> Mapping[str, Ticket]:
        """The tickets that these questions have from earlier."""
        return await self.call(lambda: self._book.tickets(question_keys))

    async def keep_tickets(self, tickets: Mapping[str, Ticket | None]) -> None:
        """Store the tickets of these questions; None deletes one."""
        await self._order(KeepTickets(tickets))

    def settle(self, request_id: int, question_key: str, reply: Reply, read: Read, took_s: float | None = None) -> None:
        """Keep a reply: no later than with the next reservation, or when flush() returns."""
        self._put(SettleReply(request_id, question_key, reply, read, took_s), None)

    async def flush(self) -> None:
        """Wait until all orders are executed. Raises the error of an order that is not awaited."""
        if self._busy is not None:
            await self._busy
        self._raise_failure()

    async def refuse(self, request_id: int, kind: Kind, took_s: float | None = None, tried: float = 0.0) -> None:
        await self._order(Refuse(request_id, kind, took_s, tried))

    def respect_limits(self, limits: Sequence[StatedLimit], uncounted: int) -> None:
        """Apply the limits that the service states, no later than with the next reservation."""
        self._put(RespectLimits(limits, uncounted), None)

    def shut(self, seconds: float) -> None:
        """Pause the account for this time, at the latest with the next reservation."""
        self._put(Shut(seconds), None)

    def leave_open(self, question_key: str, why: str) -> None:
        """Store why a question got no reply, at the latest with the next reservation."""
        self._put(LeaveQuestion(question_key, why), None)

    async def release(self, reserved: Reserved) -> None:
        await self._order(Release(reserved.request_id, reserved.units, reserved.cost))

    async def postpone(self, reserved: Reserved, units: int) -> Reserved:
        """Another place in the pace, for a request that missed its own."""
        (another,) = await self._order(Postpone(reserved.request_id, units))
        assert isinstance(another, Reserved)
        return another

    async def call(self, work: Callable[[], T]) -> T:
        """Do something else with the ledger, in its thread."""
        async with self._turn:
            return await self._in_thread(lambda: self._book.persist(work))

    async def _in_thread(self, work: Callable[[], T]) -> T:
        return await asyncio.get_running_loop().run_in_executor(self._thread, work)

    def _order(self, order: Order) -> _Answer:
        answer = asyncio.get_running_loop().create_future()
        self._put(order, answer)
        return answer

    def _put(self, order: Order, answer: _Answer | None) -> None:
        self._pending.append((order, answer))
        if self._busy is None:
            self._busy = asyncio.create_task(self._drain())

    async def _drain(self) -> None:
        while self._pending:
            await asyncio.sleep(LINGER_S)
            group: list[tuple[Order, _Answer | None]] = []
            try:
                async with self._turn, self._elsewhere(self._book.transaction()):
                    group = self._pending
                    self._pending = []
                    work = partial(self._book.carry_out, [order for order, _ in group])
                    results = await self._in_thread(work) if self._book.is_far else work()
            except LedgerGone:
                await self._take_up(group)
                continue
            except Exception as error:  # noqa: BLE001 - raised where the order was given
                self._fail(group or self._pending, error)
                continue
            for (_, answer), result in zip(group, results, strict=True):
                if answer and not answer.done():
                    answer.set_result(result)
        self._busy = None

    async def _take_up(self, group: list[tuple[Order, _Answer | None]]) -> None:
        """The ledger was gone: wait for it, and carry all of the group out once more.

        It may have been committed: twice does no harm, but to what is given back.
        """
        again = [(Release(o.request_id, 0) if isinstance(o, Release) else o, answer) for o, answer in group]
        self._pending = again + self._pending
        try:
            await self._in_thread(self._book.reopen)
        except LedgerTrouble as error:
            self._fail(self._pending, error)

    def _fail(self, group: list[tuple[Order, _Answer | None]], error: Exception) -> None:
        for _, answer in group:
            if answer is None:
                self._failure = error
            elif not answer.done():
                answer.set_exception(error)
        if group is self._pending:  # the transaction could not even begin
            self._pending = []

    def _raise_failure(self) -> None:
        failure = self._failure
        self._failure = None
        if failure is not None:
            raise failure

    @asynccontextmanager
    async def _elsewhere(self, transaction: AbstractContextManager[None]) -> AsyncIterator[None]:
        """Begin and commit in the ledger's thread: the one may wait for another process, the other for the disk.

        What is done in between in a file is quick, and quicker still in the thread of the event loop: two that share
        an interpreter hold each other up.
        """
        await self._in_thread(transaction.__enter__)
        try:
            yield
        except BaseException as error:
            await self._in_thread(partial(transaction.__exit__, type(error), error, error.__traceback__))
            raise
        await self._in_thread(partial(transaction.__exit__, None, None, None))

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._busy is not None:
            await self._busy
        self._thread.shutdown()
