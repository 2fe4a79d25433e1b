"""The one thread that reaches the ledger while asking: orders pile up while a commit lasts, and go together."""

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Self, TypeVar

from yellowtor.answers.kinds import Kind
from yellowtor.answers.reading import Read
from yellowtor.answers.work import Reservation, Reserved
from yellowtor.ledger.requests import Order, Postpone, Refuse, Release, RequestBook, Reserve, SettleReply

T = TypeVar("T")
LINGER_S = 0.003  # what comes within it joins the group: a commit costs more than the wait


class GroupWriter:
    """Carries orders out in groups, a commit after the other as long as there are any."""

    def __init__(self, book: RequestBook) -> None:
        self._book = book
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="ledger")
        self._pending: list[tuple[Order, asyncio.Future[Reservation | None]]] = []
        self._busy: asyncio.Task[None] | None = None

    async def reserve(self, question_key: str, attempt: int) -> Reservation:
        reservation = await self._order(Reserve(question_key, attempt))
        assert reservation is not None
        return reservation

    def settle(
        self, request_id: int, question_key: str, status: int, body: bytes, read: Read
    ) -> "asyncio.Future[Reservation | None]":
        """Keep a reply. Whoever has no need to wait for it may go on: it is kept before the next reservation."""
        return self._order(SettleReply(request_id, question_key, status, body, read))

    async def refuse(self, request_id: int, kind: Kind) -> None:
        await self._order(Refuse(request_id, kind))

    async def release(self, request_id: int) -> None:
        await self._order(Release(request_id))

    async def postpone(self, request_id: int) -> Reserved:
        """Another place in the pace for a request that is late for its own."""
        reserved = await self._order(Postpone(request_id))
        assert isinstance(reserved, Reserved)
        return reserved

    async def call(self, work: Callable[[], T]) -> T:
        """Do something else with the ledger, in its thread."""
        return await asyncio.get_running_loop().run_in_executor(self._thread, work)

    def _order(self, order: Order) -> "asyncio.Future[Reservation | None]":
        future = asyncio.get_running_loop().create_future()
        self._pending.append((order, future))
        if self._busy is None:
            self._busy = asyncio.create_task(self._drain())
        return future

    async def _drain(self) -> None:
        while self._pending:
            await asyncio.sleep(LINGER_S)
            group, self._pending = self._pending, []
            try:
                results = await self.call(partial(self._book.carry_out, [order for order, _ in group]))
            except Exception as error:  # noqa: BLE001 - whoever gave the order gets it
                for _, future in group:
                    if not future.done():
                        future.set_exception(error)
                continue
            for (_, future), result in zip(group, results, strict=True):
                if not future.done():
                    future.set_result(result)
        self._busy = None

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._busy is not None:
            await self._busy
        self._thread.shutdown()
