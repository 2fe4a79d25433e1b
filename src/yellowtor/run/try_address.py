"""The verb `try`: ask about one address or position, once, and tell all that came of it.

It is charged and kept like any other request: a reply that the ledger has is shown without asking, and one that was
saved in a file asks nothing at all.
"""

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yellowtor.addresses.keys import subject_key
from yellowtor.addresses.side_by_side import AlignedPart, side_by_side
from yellowtor.answers.judging.evidence import said
from yellowtor.answers.judging.judgement import Judgement
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.ledger_rows import Question, Reserved, Spent
from yellowtor.answers.replies.reading import Looked, Read
from yellowtor.answers.replies.reply import Reply
from yellowtor.contracts.address import Address
from yellowtor.contracts.clock import Clock
from yellowtor.contracts.subject import Subject
from yellowtor.contracts.table import Table
from yellowtor.errors import BadJob, BadSource, YellowtorError
from yellowtor.files import written_aside
from yellowtor.run.asking.departure import Leaving
from yellowtor.run.asking.follow_up import FollowUpSender
from yellowtor.run.asking.gate import Gate
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.judging import judge_reply
from yellowtor.run.phases.row_reader import find_record
from yellowtor.run.ports import Book, Service

TYPES = {".json": "application/json", ".xml": "application/xml", ".csv": "text/csv"}


@dataclass(frozen=True)
class Trial:
    """A reply, what was read from it, and its judgement. kept: where a reply comes from that was not requested now.

    empty are the variables of the service that the address leaves empty.
    """

    service: str
    shown: str
    reply: Reply
    read: Read
    judgement: Judgement
    looked: Sequence[Looked]
    empty: Sequence[str]
    kept: str
    judged: bool  # there was something to judge by
    aligned: Sequence[AlignedPart] = ()  # the question and the chosen candidate
    credit: str = ""  # that the service's terms require


def try_one(asked: Subject, service: Service, book: Book, clock: Clock, thresholds: Thresholds, *, anew: bool) -> Trial:
    """Ask about this, or show the kept reply. Raises YellowtorError when the allowance is spent."""
    if why := service.asking.lacks(asked):
        raise BadJob(f"{why[0].upper()}{why[1:]}: use --part street=… --part town=…. Nothing was sent.")
    question = service.asking.question_key(subject_key(asked))
    kept = None if anew else book.requests[service.name].kept(question)
    reply = kept[0] if kept else asyncio.run(_ask(asked, question, service, book, clock))
    since = f"the ledger has the reply of {kept[1][:19]} UTC" if kept else ""
    return read_trial(asked, service, reply, thresholds, kept=since)


def read_trial(asked: Subject, service: Service, reply: Reply, thresholds: Thresholds, *, kept: str) -> Trial:
    """What a reply to the question about this says. Nothing is sent."""
    read = service.read(reply)
    judged = any(asked.as_dict().values())
    judgement = judge_reply(asked if judged else Address(), frozenset(), read, thresholds)
    known = asked.variables()
    empty = [name for name in service.asking.wants if name != "q" and not known.get(name)]
    best = judgement.candidate
    aligned = side_by_side(asked, said(best)) if best and judged and isinstance(asked, Address) else ()
    looked = service.looked_up(reply)
    shown = service.shown(asked)
    return Trial(service.name, shown, reply, read, judgement, looked, empty, kept, judged, aligned, service.attribution)


def record_asked(job: Job, table: Table, key: str) -> Subject:
    """What would be asked about the record with this key. Raises BadSource when there is none, or nothing is."""
    _, _, subject, why = find_record(job, table, key)
    if why:
        raise BadSource(f"The record {key!r} of {table.name} would not be asked about: {why}. Nothing was sent.")
    return subject


def save_reply(reply: Reply, path: Path) -> None:
    """Keep a reply as an HTTP message (RFC 9112): its status, the fields that something is read from, its body."""
    fields = "".join(f"{name}: {text}\r\n" for name, text in reply.headers.items())
    if path.is_file() and not path.read_bytes().startswith(b"HTTP/"):
        raise BadJob(
            f"{path} already exists, and is not a reply that was saved. Name another file. Nothing was written."
        )
    with written_aside(path) as aside:
        aside.write_bytes(f"HTTP/1.1 {reply.status}\r\n{fields}\r\n".encode() + reply.body)


def saved_reply(path: Path) -> Reply:
    """A reply from a file: an HTTP message, or a body alone, which came with the status 200. Raises BadSource."""
    try:
        content = path.read_bytes()
    except OSError as error:
        raise BadSource(f"The reply {path} can't be read: {error.strerror or error}. Nothing was sent.") from error
    if not content.startswith(b"HTTP/"):
        return Reply(200, {"content-type": TYPES.get(path.suffix.lower(), "")}, content)
    ends = [(at, len(mark)) for mark in (b"\r\n\r\n", b"\n\n") if (at := content.find(mark)) >= 0]
    at, size = min(ends, default=(len(content), 0))
    first, *lines = content[:at].decode("latin-1").splitlines()
    status = first.split()[1] if len(first.split()) > 1 else ""
    if not (status.isascii() and status.isdigit() and len(status) == 3):
        raise BadSource(f"The reply {path} has no status in its first line ({first!r}). Nothing was sent.")
    fields = [line.partition(":") for line in lines]
    return Reply(int(status), {n.strip().lower(): text.strip() for n, _, text in fields}, content[at + size :])


async def _ask(asked: Subject, question: str, service: Service, book: Book, clock: Clock) -> Reply:
    async with service, book.writer(service.name) as writer:
        (reserved,) = await writer.reserve([question], 1)
        if isinstance(reserved, Spent):
            until = f" until {reserved.resets_at}" if reserved.resets_at else ""
            raise YellowtorError(f"{service.name} can't be asked{until}: {reserved.why}. Nothing was sent.")
        if not isinstance(reserved, Reserved):
            raise YellowtorError("Another run is asking this at the moment: try again. Nothing was sent.")
        gate = Gate(service.pace, clock)
        leaving = Leaving(gate, writer, reserved, reserved.units)
        reply = await service.send(service.request(asked), leaving)
        assert reply is not None, "nothing holds the request back"
        reply = await FollowUpSender(service, writer, gate, lambda _: None).reply(
            [Question(question, asked, 1)], reply, leaving
        )
        if not leaving.left_at:
            await writer.release(reserved)
            return reply
        read = service.meaning(reply)
        if read.kind.is_answer:
            writer.settle(reserved.request_id, question, reply, read)
            await writer.flush()
        else:
            await writer.refuse(reserved.request_id, read.kind)
        return reply
