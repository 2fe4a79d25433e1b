"""Phase two: ask the open questions in the job's order, at the service's pace, and store every reply.

A request is reserved durably before it is sent. A reply is stored before the next question is taken. If the run
stops, only the requests in flight are lost.
"""

import asyncio
import random
from collections import deque
from collections.abc import Iterator, Sequence
from datetime import timedelta
from itertools import islice

from yellowtor.allowance.breaker import Breaker
from yellowtor.allowance.rate_limit_headers import StatedLimit, stated_limits
from yellowtor.allowance.retry import (
    NO_REPLY,
    Attempt,
    LeaveOpen,
    Retry,
    Settle,
    StopAsking,
    decide,
    requested_wait_s,
)
from yellowtor.answers.ledger_rows import AlreadyKnown, Elsewhere, Question, Reserved, Spent, Ticket
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply, Request
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.clock import Clock
from yellowtor.errors import YellowtorError
from yellowtor.run.asking.ask_result import AskResult
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.asking.departure import Leaving
from yellowtor.run.asking.follow_up import FollowUpSender
from yellowtor.run.asking.gate import Gate
from yellowtor.run.asking.reserved_question import ReservedQuestion, Taken, request_facts
from yellowtor.run.ports import Service, Watcher, Writer

AHEAD_S = 0.5  # a request asks for its connection this long before its instant
PAGE = 500  # questions that are read from the ledger at a time
NO_TICKET = (Kind.UNREADABLE, Kind.QUESTION_REFUSED)  # what a service says that does not know a ticket any more
LOOK_S = 0.5  # between two looks at what another run has in flight


class Asker:
    """Asks questions of one service. Use once."""

    def __init__(self, service: Service, writer: Writer, clock: Clock, watch: Watcher) -> None:
        self._service = service
        self._writer = writer
        self._clock = clock
        self._watch = watch
        self._gate = Gate(service.pace, clock)
        # Without a pace, the next question has its reservation by the time that a connection is free.
        self._workers = service.parallel if service.pace.per_second else 2 * service.parallel
        self._connections = asyncio.Semaphore(service.parallel)
        self._stated: list[StatedLimit] = []  # what the service said last of its limits
        self._reserved = 0  # units that were reserved, less those given back
        self._no_more = False  # nothing else is to be reserved; what is, may leave
        self._ahead: deque[Question] = deque()  # brought out of the ledger, and not taken by a worker yet
        self._elsewhere: list[Question] = []  # another run has them in flight
        self._bringing = asyncio.Lock()
        self._random = random.Random()
        self._breaker = Breaker(service.parallel)
        self._follow_ups = FollowUpSender(service, writer, self._gate, lambda sent: self._count(sent.units, sent.cost))
        self.result = AskResult(service.name)

    async def ask(self, questions: Iterator[Question], stop: Cancellation) -> AskResult:
        """Ask all questions, or until the quota is spent, the service fails, or the run is stopped."""
        started = self._clock.boot()
        loop = asyncio.get_running_loop()
        whole = asyncio.current_task()
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

    def _interrupt(self, stop: Cancellation, whole: "asyncio.Task[object]") -> None:
        self.result.interrupted = True
        self._stop()
        if stop.times > 1:
            whole.cancel()

    async def _work(self, questions: Iterator[Question]) -> None:
        while group := await self._next(questions):
            for question in await self._settle(group, 1):
                if not self._gate.stopped.is_set():
                    await self._settle([question], 2)

    async def _next(self, questions: Iterator[Question]) -> list[Question]:
        """What a worker is to ask about in one request; nothing when there is nothing, or none is to be asked."""
        most = self._service.most
        if len(self._ahead) < most:
            async with self._bringing:
                if len(self._ahead) < most and not self._no_more:
                    wanted = max(PAGE, most)
                    self._ahead.extend(await self._writer.call(lambda: list(islice(questions, wanted))))
                while self._elsewhere and not self._ahead and not self._no_more and not await self._gate.wait(LOOK_S):
                    self._ahead.extend(self._elsewhere)
                    self._elsewhere = []
        if self._no_more:
            return []
        return [self._ahead.popleft() for _ in range(min(most, len(self._ahead)))]

    async def _settle(self, group: Sequence[Question], attempt: int) -> Sequence[Question]:
        """Ask these questions in one request, as often as it takes and is allowed.

        What a good reply left open of a few of them only is given back, to be asked about alone.
        """
        if self._service.looks and attempt == 1:
            group = await self._taken_up(group)
        while held := await self._reserve(group, attempt):
            taken = await self._send(held, attempt)
            again = await self._act(held, taken) if taken else {}
            if not taken or not again or await self._gate.wait(max(again.values())):
                return []
            group = list(again)
            if len(again) < len(held) or any(one.reply is not taken[0].reply for one in taken):
                return group  # the whole request was answered: it would get the same reply again
            attempt += 1
        return []

    async def _taken_up(self, group: Sequence[Question]) -> Sequence[Question]:
        """Look for what an earlier run was promised; the questions of which nothing is known."""
        tickets = await self._writer.tickets([question.key for question in group])
        rest = [question for question in group if question.key not in tickets]
        for promised in dict.fromkeys(ticket.ticket for ticket in tickets.values()):
            mine = [one for one in group if one.key in tickets and tickets[one.key].ticket == promised]
            free = not self._service.request_reply(promised).counts
            if not (held := await self._reserve(mine, 1, each=False, free=free)):
                continue
            taken = await self._send(held, 1, [tickets[one.question.key] for one in held])
            if taken and all(one.read.kind in NO_TICKET and one.reply.status not in NO_REPLY for one in taken):
                for one in held:
                    await self._writer.refuse(one.reserved.request_id, taken[0].read.kind)
                await self._writer.keep_tickets({question.key: None for question in mine})
                rest += mine  # the service does not know the ticket any more
            elif taken:
                kept = [one._replace(decision=LeaveOpen()) if isinstance(one.decision, Retry) else one for one in taken]
                await self._act(held, kept)
        return rest

    async def _reserve(
        self, group: Sequence[Question], attempt: int, *, each: bool = True, free: bool = False
    ) -> list[ReservedQuestion]:
        """The right to ask about them, or about those of them that are not known yet and that the window allows."""
        if not group:
            return []
        keys = [question.key for question in group]
        each = each and self._service.counts_each
        reservations = await self._writer.reserve(keys, attempt, counts_each=each, free=free)
        spent = next((reservation for reservation in reservations if isinstance(reservation, Spent)), None)
        if spent is not None:
            self._no_more = True
            self._note_stop(Kind.WINDOW_SPENT, spent.why, spent.resets_at)
            self.result.for_good = not spent.resets_at
        pairs = list(zip(group, reservations, strict=True))
        self._elsewhere += [question for question, reserved in pairs if isinstance(reserved, Elsewhere)]
        self._reserved += sum(reserved.units for reserved in reservations if isinstance(reserved, Reserved))
        self._watch.advanced(sum(isinstance(reserved, AlreadyKnown) for reserved in reservations))
        return [ReservedQuestion(question, reserved) for question, reserved in pairs if isinstance(reserved, Reserved)]

    async def _send(
        self, held: Sequence[ReservedQuestion], attempt: int, tickets: Sequence[Ticket] = ()
    ) -> Sequence[Taken] | None:
        """Send at the reserved instant and read the reply; None if the run was stopped before.

        The last wait is after the connection is open: a handshake takes longer than the slack of the pace.
        """
        units = sum(one.reserved.units for one in held)
        taken = None
        took_s = 0.0
        leave = Leaving(self._gate, self._writer, held[0].reserved, units)
        if await self._gate.comes(held[0].reserved.send_at - AHEAD_S):
            async with self._connections:
                taken = await self._sent(held, leave, attempt, tickets)
                if leave.left_at:
                    took_s = self._clock.boot() - leave.left_at
                    self._gate.heard(leave.left_at)
            if leave.left_at:
                self._count(leave.units, sum(one.reserved.cost for one in held))
                self.result.retried += attempt > 1
        if taken is None:
            for one in held:
                await self._give_back(one.reserved)
            return None
        return [one._replace(took_s=took_s, left=leave.left_at > 0) for one in taken]

    async def _sent(
        self, held: Sequence[ReservedQuestion], leave: Leaving, attempt: int, tickets: Sequence[Ticket]
    ) -> Sequence[Taken] | None:
        """Send one request about them, and take the whole reply in; None when it did not leave."""
        if self._gate.stopped.is_set():
            return None
        try:
            reply = await self._service.send(self._request(held, tickets), leave)
            if reply is None:
                return None
            self._heed(reply, leave.number)
            questions = [one.question for one in held]
            reply = await self._follow_ups.reply(questions, reply, leave, has_ticket=bool(tickets))
            replies = self._service.apart(reply, tickets[0].questions if tickets else len(held))
            return self._take([replies[ticket.place] for ticket in tickets] or replies, attempt)
        except YellowtorError:
            raise
        except Exception as error:  # noqa: BLE001 - one reply must not end the run, whatever is wrong with it
            return self._failed(held, error)

    def _request(self, held: Sequence[ReservedQuestion], tickets: Sequence[Ticket]) -> Request:
        if tickets:
            return self._service.request_reply(tickets[0].ticket)
        asked = [one.question.subject for one in held]
        return self._service.request_many(asked) if len(asked) > 1 else self._service.request(asked[0])

    def _count(self, units: int, cost: int) -> None:
        """A request has left."""
        if self._service.is_local:
            self.result.searched += units
        else:
            self.result.sent += 1
            self.result.counted += units
            self.result.cost += cost
        self._watch.sent(units if self._service.is_local else 1, units)

    async def _give_back(self, reserved: Reserved) -> None:
        """Nothing left for this reservation."""
        self._reserved -= reserved.units
        await self._writer.release(reserved)

    def _failed(self, held: Sequence[ReservedQuestion], error: Exception) -> Sequence[Taken]:
        """The result of questions that met an unexpected fault: failed, with the reason."""
        self._watch.fault(error)
        why = f"an unexpected fault ({type(error).__name__}): --debug shows where"  # its own text may hold a key
        self.result.kinds[Kind.UNREADABLE] = self.result.kinds.get(Kind.UNREADABLE, 0) + 1
        reply = Reply(0, {}, b"", why, Kind.UNREADABLE)
        read = Read(Kind.UNREADABLE, message=why, lasting=True)
        return [Taken(reply, read, Settle())] * len(held)

    def _heed(self, reply: Reply, number: int) -> None:
        """Apply the limits that the service states; requests reserved after `number` had left are not counted yet."""
        if (limits := stated_limits(reply.headers)) and limits != self._stated:
            self._stated = limits
            self._writer.respect_limits(limits, self._reserved - number)

    def _take(self, replies: Sequence[Reply], attempt: int) -> Sequence[Taken]:
        """What each reply means, and what to do. A reply that is shared by all questions counts once."""
        if all(reply is replies[0] for reply in replies):
            taken = [self._take_one(replies[0], attempt)] * len(replies)
        else:
            taken = [self._take_one(reply, attempt) for reply in replies]
        kinds = [one.read.kind for one in taken]
        unreadable = [one.read.kind is Kind.UNREADABLE and isinstance(one.decision, Settle) for one in taken]
        if self._breaker.keeps_failing(kinds, unreadable=all(unreadable)):
            last = taken[0].read.message
            if self._breaker.reads_nothing:
                count = self._breaker.unreadable
                why = f"{count} replies in a row can't be read, and no candidate was read so far; the last one: {last}"
            else:
                why = f"{self._breaker.failures} requests in a row brought no answer; the last one: {last}"
                taken = [one._replace(decision=StopAsking(one.read.kind)) for one in taken]
            self._note_stop(kinds[0], why)
            self._stop()
        return taken

    def _take_one(self, reply: Reply, attempt: int) -> Taken:
        """What one reply means, and what to do. If it stops the asking, nothing is sent after it."""
        read = self._service.meaning(reply)
        self.result.kinds[read.kind] = self.result.kinds.get(read.kind, 0) + 1
        now = self._clock.now()
        this = Attempt(attempt, 1 if read.lasting else self._service.tries, self._random.random())
        decision = decide(read.kind, reply.status, reply.headers, this, now)
        wait_s = None if isinstance(decision, Settle) else requested_wait_s(read.kind, reply.headers, now)
        if wait_s and (read.kind is Kind.TOO_FAST or read.kind is Kind.WINDOW_SPENT):
            self._writer.shut(wait_s)
        if isinstance(decision, StopAsking):
            resets_at = (now + timedelta(seconds=wait_s)).isoformat(timespec="seconds") if wait_s else ""
            self._note_stop(decision.why, read.message, resets_at)
            self._stop()
        elif isinstance(decision, Retry) and read.kind is Kind.TOO_FAST:
            self._gate.close_for(decision.after_s)
        return Taken(reply, read, decision)

    async def _act(self, held: Sequence[ReservedQuestion], taken: Sequence[Taken]) -> dict[Question, float]:
        """Do what was decided about each reply; the questions to be asked again, and in how many seconds."""
        again = {}
        for one, answer in zip(held, taken, strict=True):
            question, reserved = one
            reply, read, decision, took_s, left = answer
            if isinstance(decision, Settle):
                self._writer.settle(reserved.request_id, question.key, reply, read, took_s)
                self.result.settled += 1
                self._watch.advanced(1)
            elif left:
                tried = (
                    self._gate.rate() if requested_wait_s(read.kind, reply.headers, self._clock.now()) is None else 0.0
                )
                await self._writer.refuse(reserved.request_id, read.kind, took_s, tried)
            if not left:
                await self._give_back(reserved)
            self._tell(one, answer)
            if isinstance(decision, LeaveOpen | StopAsking) and read.message:
                self._writer.leave_open(question.key, read.message)
            if isinstance(decision, Retry):
                again[question] = decision.after_s
                if self._service.looks and reply.status not in NO_REPLY:
                    await self._writer.keep_tickets({question.key: None})
            elif isinstance(decision, LeaveOpen):
                self.result.left_open[read.message] += 1
                self._watch.advanced(1)
        return again

    def _tell(self, held: ReservedQuestion, taken: Taken) -> None:
        """Tell the log of a request, and what was decided about its reply."""
        if self._watch.keeps_log:
            self._watch.event("request", request_facts(self._service.name, held, taken))

    def _note_stop(self, why: Kind, message: str, resets_at: str = "") -> None:
        if self.result.stopped_by is None:
            self._watch.event("stop", {"service": self._service.name, "why": why.value, "message": message})
            self.result.stopped_by = why
            self.result.message = message
            self.result.resets_at = resets_at

    def _stop(self) -> None:
        """Send nothing more."""
        self._no_more = True
        self._gate.stopped.set()
        for _ in range(self._workers):
            self._connections.release()  # requests that wait for a connection are refused by the gate
