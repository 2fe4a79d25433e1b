"""What a run may order of its account: reserve, settle, refuse, release and the like. Plain values."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellowtor.allowance.rate_limit_headers import StatedLimit
from yellowtor.answers.ledger_rows import Ticket
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind


@dataclass(frozen=True, slots=True)
class Reserve:
    """Wants the right to send one request about these questions; each counts, or all of them as one."""

    question_keys: Sequence[str]
    attempt: int
    counts_each: bool = True
    free: bool = False  # the allowance does not count it


@dataclass(frozen=True, slots=True)
class SettleReply:
    """A reply that stands: it is kept, and its question is closed."""

    request_id: int
    question_key: str
    reply: Reply
    read: Read
    took_s: float | None = None  # from its leaving to the end of the reply


@dataclass(frozen=True, slots=True)
class Refuse:
    """A request that brought no reply worth keeping; it counts as spent."""

    request_id: int
    kind: Kind
    took_s: float | None = None
    tried: float = 0.0  # recent requests a second, for one that was too fast without a stated limit


@dataclass(frozen=True, slots=True)
class Release:
    """A request that was not sent: its units and its cost are returned."""

    request_id: int
    units: int = 1
    cost: int = 0


@dataclass(frozen=True, slots=True)
class Postpone:
    """A reserved request that missed its place in the pace and needs another."""

    request_id: int
    units: int = 1


@dataclass(frozen=True, slots=True)
class RespectLimits:
    """Limits that the service states; uncounted is the number of reserved requests that it has not counted yet."""

    limits: Sequence[StatedLimit]
    uncounted: int


@dataclass(frozen=True, slots=True)
class Shut:
    """The service asks for a pause of this many seconds."""

    seconds: float


@dataclass(frozen=True, slots=True)
class LeaveQuestion:
    """A question without a reply, and why; it stays open."""

    question_key: str
    why: str


@dataclass(frozen=True, slots=True)
class KeepTickets:
    """The tickets of questions by their keys; None deletes one."""

    tickets: Mapping[str, Ticket | None]


Order = Reserve | SettleReply | Refuse | Release | Postpone | RespectLimits | Shut | LeaveQuestion | KeepTickets
OF_REQUEST = SettleReply | Refuse | Release


def outcome_of(order: SettleReply | Refuse | Release) -> tuple[str, str]:
    """The state of the request behind an order, and the kind of its reply."""
    match order:
        case SettleReply():
            return "answered", order.read.kind.value
        case Refuse():
            return "refused", order.kind.value
    return "released", ""
