"""The verb `try`: ask about one address, once, and tell all that came of it.

It is charged and kept like any other request: a reply that the ledger has is shown without asking.
"""

import asyncio
from dataclasses import dataclass

from yellowtor.addresses.address import Address
from yellowtor.answers.outcome import Judgement, Thresholds, judge
from yellowtor.answers.reading import Read
from yellowtor.answers.reply import Reply
from yellowtor.answers.work import Reserved, Spent
from yellowtor.errors import YellowtorError
from yellowtor.run.gate import Gate
from yellowtor.run.ports import Book, Clock, Service


@dataclass(frozen=True)
class Trial:
    """One reply, what was read from it, and how it would be judged. kept_since: when the ledger got it."""

    shown: str
    reply: Reply
    read: Read
    judgement: Judgement
    kept_since: str


def try_address(
    address: Address, service: Service, book: Book, clock: Clock, thresholds: Thresholds, *, anew: bool
) -> Trial:
    """Ask about this address, or show the kept reply. Raises YellowtorError when the allowance is spent."""
    question = service.asking.question_key(address.key())
    kept = None if anew else book.requests.kept(question)
    reply = kept[0] if kept else asyncio.run(_ask(address, question, service, book, clock))
    read = service.read(reply)
    judgement = judge(address, frozenset(), read.kind, read.message, read.candidates, thresholds)
    return Trial(service.shown(address), reply, read, judgement, kept[1] if kept else "")


async def _ask(address: Address, question: str, service: Service, book: Book, clock: Clock) -> Reply:
    async with service, book.writer() as writer:
        reserved = await writer.reserve(question, 1)
        if isinstance(reserved, Spent):
            raise YellowtorError(
                f"The allowance of {service.account} is spent until {reserved.resets_at}. Nothing was sent."
            )
        assert isinstance(reserved, Reserved)
        await Gate(service.pace, clock).passed(reserved.send_at)
        reply = await service.send(service.request(address))
        assert reply is not None, "nothing held the request back"
        read = service.meaning(reply)
        if read.kind.is_answer:
            writer.settle(reserved.request_id, question, reply.status, reply.body, read)
            await writer.flush()
        else:
            await writer.refuse(reserved.request_id, read.kind)
        return reply
