"""Phase two: ask the open questions, in the job's order, at the service's pace, and keep every reply.

A request is reserved durably before it leaves; a reply is kept before the next question is taken. Stopping
at any moment loses nothing that was paid for, but for what was in flight.
"""

import asyncio
import random
from collections import deque
from collections.abc import Iterator
from itertools import islice
from typing import NamedTuple

from yellowtor.allowance.breaker import Breaker
from yellowtor.allowance.retry import Again, Decision, Settle, StopAsking, decide
from yellowtor.answers.kinds import Kind
from yellowtor.answers.reading import Read
from yellowtor.answers.reply import Reply
from yellowtor.answers.spots import Subject, subject_of
from yellowtor.answers.work import AlreadyKnown, Question, Reserved, Spent
from yellowtor.run.asked import AskResult
from yellowtor.run.gate import Gate
from yellowtor.run.ports import Clock, Service, Watcher, Writer
from yellowtor.run.stop import StopWish

AHEAD_S = 0.5  # so long before its instant a request goes to the door, to have its connection by then
PAGE = 500  # so many questions are brought out of the ledger at a time
PLACES = 5  # so often a request that is late for its place in the pace takes another


class _Taken(NamedTuple):
    """A reply, what was read from it, and what is to be done."""

    reply: Reply
    read: Read
    decision: Decision


class _Leaving:
    """One request at the door. Called, it waits for its place in the pace; False when it must not leave.

    left_at is the instant at which it left (seconds of the boot clock); 0 when it did not.
    """

    def __init__(self, gate: Gate, writer: Writer, reserved: Reserved) -> None:
        self._gate, self._writer, self._reserved = gate, writer, reserved
        self.left_at = 0.0

    async def __call__(self) -> bool:
        for chance in range(1, PLACES + 1):
            left_at = await self._gate.passed(self._reserved.send_at, late_or_not=chance == PLACES)
            if left_at is not None:
                self.left_at = left_at
                break
            self._reserved = await self._writer.postpone(self._reserved.request_id)
        return self.left_at > 0


class Asker:
    """Asks questions of one service. Use once."""

    def __init__(self, service: Service, writer: Writer, clock: Clock, watch: Watcher) -> None:
        self._service, self._writer, self._clock, self._watch = service, writer, clock, watch
        self._gate = Gate(service.pace, clock)
        # Without a pace, the next question has its reservation by the time that a connection is free.
        self._workers = service.parallel if service.pace.per_second else 2 * service.parallel
        self._connections = asyncio.Semaphore(service.parallel)
        self._no_more = False  # nothing else is to be reserved; what is, may leave
        self._ahead: deque[Question] = deque()  # brought out of the ledger, and not taken by a worker yet
        self._bringing = asyncio.Lock()
        self._random = random.Random()
        self._breaker = Breaker(service.parallel)
        self.result = AskResult(service.name)

    async def ask(self, questions: Iterator[Question], stop: StopWish) -> AskResult:
        """Ask them all, or until the allowance is spent, the service is of no use, or stop is wished."""
        started = self._clock.boot()
        loop, whole = asyncio.get_running_loop(), asyncio.current_task()
        assert whole is not None
        try:
            with stop.heard_by(lambda: loop.call_soon_threadsafe(self._interrupt, stop, whole)):
                async with asyncio.TaskGroup() as group:
                    for _ in range(self._workers):
                        group.create_task(self._work(questions))
                await self._writer.flush()
        except asyncio.CancelledError:
            if stop.times < 2:
                raise
            whole.uncancel()
            self.result.interrupted = True
        except ExceptionGroup as errors:
            raise errors.exceptions[0] from errors
        self.result.seconds = self._clock.boot() - started
        return self.result

    def _interrupt(self, stop: StopWish, whole: "asyncio.Task[object]") -> None:
        self.result.interrupted = True
        self._stop()
        if stop.times > 1:
            whole.cancel()

    async def _work(self, questions: Iterator[Question]) -> None:
        while (question := await self._next(questions)) is not None:
            await self._settle(question)

    async def _next(self, questions: Iterator[Question]) -> Question | None:
        """The question that a worker is to take up; None when there is none, or none is to be asked."""
        if not self._ahead:
            async with self._bringing:
                if not self._ahead and not self._no_more:
                    self._ahead.extend(await self._writer.call(lambda: list(islice(questions, PAGE))))
        return self._ahead.popleft() if self._ahead and not self._no_more else None

    async def _settle(self, question: Question) -> None:
        """Ask one question, as often as it takes and is allowed."""
        asked = subject_of(question.address)
        for attempt in range(1, self._service.tries + 1):
            reserved = await self._writer.reserve(question.key, attempt)
            if isinstance(reserved, AlreadyKnown):
                return
            if isinstance(reserved, Spent):
                self._no_more = True
                self._note_stop(Kind.WINDOW_SPENT, "the allowance of the day is spent", reserved.resets_at)
                return
            taken = await self._send(reserved, asked, attempt)
            if taken is None or not await self._act(reserved, question, taken):
                return

    async def _send(self, reserved: Reserved, asked: Subject, attempt: int) -> _Taken | None:
        """Send at the reserved instant and take the reply in; None when the run was stopped before.

        The last wait is at the door itself, when the connection stands: a handshake takes longer than the
        pace's slack, and would let the next request catch up.
        """
        taken = None
        if await self._gate.comes(reserved.send_at - AHEAD_S):
            leave = _Leaving(self._gate, self._writer, reserved)
            async with self._connections:
                reply = await self._service.send(self._service.request(asked), leave)
                if leave.left_at:
                    self._gate.heard(leave.left_at)
                taken = self._take(reply, attempt) if reply else None
            self.result.sent += leave.left_at > 0
            self._watch.sent(leave.left_at > 0)
        if taken is None:
            await self._writer.release(reserved.request_id)
        return taken

    def _take(self, reply: Reply, attempt: int) -> _Taken:
        """What a reply means and what is to be done about it. If it ends the asking, nothing leaves after it."""
        read = self._service.meaning(reply)
        self.result.kinds[read.kind] = self.result.kinds.get(read.kind, 0) + 1
        tries, now = self._service.tries, self._clock.now()
        decision = decide(read.kind, reply.headers, attempt, tries, now, self._random.random())
        message = read.message
        if self._breaker.keeps_failing(read.kind):
            decision = StopAsking(read.kind)
            message = f"{self._breaker.failures} requests in a row brought no answer; the last: {message}"
        if isinstance(decision, StopAsking):
            self._note_stop(decision.why, message)
            self._stop()
        elif isinstance(decision, Again) and read.kind is Kind.TOO_FAST:
            self._gate.close_for(decision.after_s)
        return _Taken(reply, read, decision)

    async def _act(self, reserved: Reserved, question: Question, taken: _Taken) -> bool:
        """Do what was decided about a reply; True when the question is to be asked again."""
        reply, read, decision = taken
        if isinstance(decision, Settle):
            self._writer.settle(reserved.request_id, question.key, reply, read)
            self.result.settled += 1
            self._watch.advanced(1)
            return False
        await self._writer.refuse(reserved.request_id, read.kind)
        if isinstance(decision, StopAsking):
            return False
        self.result.retried += 1
        return not await self._gate.wait(decision.after_s)

    def _note_stop(self, why: Kind, message: str, resets_at: str = "") -> None:
        if self.result.stopped_by is None:
            self.result.stopped_by, self.result.message, self.result.resets_at = why, message, resets_at

    def _stop(self) -> None:
        """From now on nothing leaves."""
        self._no_more = True
        self._gate.stopped.set()
        for _ in range(self._workers):
            self._connections.release()  # whoever waits for one goes to the gate, and is turned away there
