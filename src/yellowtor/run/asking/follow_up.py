"""Sending what a reply asks for: a redirect's target, a token, a further page, a look whether the reply is ready.

Each of these is reserved in the ledger and leaves through the gate, as the question itself does.
"""

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import replace

from yellowtor.allowance.retry import NO_REPLY
from yellowtor.answers.ledger_rows import Question, Reserved, Spent, Ticket
from yellowtor.answers.replies.reply import Reply, Request
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.run.asking.departure import Leaving
from yellowtor.run.asking.gate import Gate
from yellowtor.run.ports import Service, Writer

STOPPED = Reply(0, {}, b"", "the run was stopped before the reply was there", Kind.UNAVAILABLE, lasting=True)
BUSY = {*NO_REPLY, 429}


class FollowUpSender:
    """Sends on for one service. sent is called with the reservation of each request that left, and its attempt."""

    def __init__(self, service: Service, writer: Writer, gate: Gate, sent: Callable[[Reserved], None]) -> None:
        self._service = service
        self._writer = writer
        self._gate = gate
        self._sent = sent
        self._fetching = asyncio.Lock()

    async def reply(
        self, questions: Sequence[Question], reply: Reply, leaving: Leaving, *, has_ticket: bool = False
    ) -> Reply:
        """The whole reply to a request about these questions, where this one asks for more; leaving is its own.

        has_ticket: the request looks for a reply that was promised before, also to questions that are not among these.
        """
        question = questions[0]
        while (further := reply.follow_up) is not None:
            if further.ticket and not has_ticket and leaving.left_at:  # the next run continues from here
                has_ticket = True
                count = len(questions)
                await self._writer.keep_tickets(
                    {one.key: Ticket(further.ticket, place, count) for place, one in enumerate(questions)}
                )
            if further.before is not None:
                reply = await self._with_token(question, further)
            elif not leaving.left_at:  # the question itself, which waited for a token
                reply = await self._service.send(further, leaving) or STOPPED
            else:
                reply = await self._looked(question, further, reply.pause_s)
        return reply

    async def _with_token(self, question: Question, request: Request) -> Reply:
        """One fetches it, and the others wait."""
        assert request.before is not None, "the caller looked"
        async with self._fetching:
            if not self._service.needs_token(request.before):
                return Reply(0, {}, b"", follow_up=request.before)
            return await self._reserved(question, request)

    async def _looked(self, question: Question, request: Request, pause_s: float) -> Reply:
        """Poll again if a poll fails: the question is paid for already."""
        if await self._gate.wait(pause_s):
            return STOPPED
        reply = await self._reserved(question, request)
        came_to_nothing = reply.follow_up is None and reply.status in BUSY and not reply.lasting
        if request.ticket and came_to_nothing and reply.kind is not Kind.WINDOW_SPENT:
            if request.looks >= self._service.looks:
                return replace(reply, status=0, kind=Kind.UNAVAILABLE, trouble="the reply was not ready", lasting=True)
            return replace(reply, follow_up=replace(request, looks=request.looks + 1), pause_s=max(1.0, pause_s))
        return reply

    async def _reserved(self, question: Question, request: Request) -> Reply:
        """Send a follow-up with its own reservation."""
        (reserved,) = await self._writer.reserve([question.key], 1, counts_each=True, free=not request.counts)
        if isinstance(reserved, Spent):
            return Reply(0, {}, b"", reserved.why, Kind.WINDOW_SPENT)
        if not isinstance(reserved, Reserved):
            return STOPPED
        leaving = Leaving(self._gate, self._writer, reserved, reserved.units)
        reply = None
        if await self._gate.comes(reserved.send_at):
            reply = await self._service.send(request, leaving)
        if not leaving.left_at:
            await self._writer.release(reserved)
            return reply or STOPPED
        assert reply is not None, "it has left"
        self._sent(reserved)
        await self._writer.refuse(
            reserved.request_id, reply.kind or (Kind.ACCEPTED if reply.follow_up else Kind.ANSWERED)
        )
        return reply
