"""A question with its reservation, and a reply with what was decided about it. Plain values."""

from typing import NamedTuple

from yellowtor.allowance.retry import Decision, Retry
from yellowtor.answers.ledger_rows import Question, Reserved
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply


class ReservedQuestion(NamedTuple):
    """A question, and the reservation for it."""

    question: Question
    reserved: Reserved


class Taken(NamedTuple):
    """A reply to one question, what was read from it, and what is to be done."""

    reply: Reply
    read: Read
    decision: Decision
    took_s: float = 0.0
    left: bool = True  # the request has left this machine


def request_facts(service: str, held: ReservedQuestion, taken: Taken) -> dict[str, object]:
    """What a log says about a request."""
    return {
        "service": service,
        "id": held.reserved.request_id,
        "address": held.question.subject.line(),
        "status": taken.reply.status or None,
        "kind": taken.read.kind.value,
        "message": taken.read.message,
        "took_ms": round(taken.took_s * 1000) if taken.left else None,
        "decision": taken.decision.word,
        "after_s": round(taken.decision.after_s, 1) if isinstance(taken.decision, Retry) else None,
    }
