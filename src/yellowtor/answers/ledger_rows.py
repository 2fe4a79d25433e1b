"""Plain values that pass between a run and its ledger."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, NamedTuple

from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome, Reason
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject


class Addresses(NamedTuple):
    """The addresses whose numbers are above one, and up to the other."""

    above: int = 0
    up_to: int = 2**31 - 1


ALL_ADDRESSES = Addresses()


class WorkState(StrEnum):
    """What the scan decided about a record."""

    ASK = "ask"
    KEPT = "kept"
    INCOMPLETE = "incomplete"
    PINNED = "pinned"  # a person decided the position; never stored
    DISMISSED = "dismissed"  # a person decided that no answer fits; never stored
    VANISHED = "vanished"  # no longer in the source


class Known(NamedTuple):
    """A record as the source has it now, and what the ledger stores of it (None for a new record).

    `place` is its row number in the source, from 1. `held` is the source's own position (None: it has none, or the one
    that we wrote last), `written` the position that we wrote last, `answered` the one that was judged last.
    """

    place: int
    key: str
    raw_hash: str
    held: Position | None
    known_hash: str | None
    known_held: Position | None
    held_hash: str | None
    written: Position | None
    answered: Position | None

    @property
    def is_new(self) -> bool:
        return self.known_hash is None


class Composed(NamedTuple):
    """What the same cells become: the subject, as subject_text() has it, and its key; why nothing is asked about it
    (empty: something is).

    questions are the keys of its questions by the service's name, of the services that can be asked.
    """

    subject: str
    address_key: str
    why: str
    questions: Mapping[str, str]


class Work(NamedTuple):
    """What the scan decided about a record.

    held_hash is the address that the record had when its position was first seen. was_known: an earlier scan has met
    the record.
    """

    place: int
    key: str
    raw_hash: str
    held: Position | None
    held_hash: str
    state: WorkState
    reasons: tuple[Reason, ...]
    composed: Composed
    was_known: bool = False


@dataclass(slots=True, eq=False)
class MetCells:
    """The address cells that new records have: their fingerprint, and what a record with them becomes.

    stored is what the ledger makes of them, once for all records that have them; then composed is no longer needed.
    """

    raw_hash: str
    state: WorkState
    reasons: tuple[Reason, ...]
    composed: Composed | None
    stored: tuple[Any, ...] | None = None


class MetRecords(NamedTuple):
    """Records as a scan meets them, column by column: held are the positions that they have already."""

    keys: Sequence[str]
    raw_hashes: Sequence[str]
    held: Sequence[Position | None]


class NewRecords(NamedTuple):
    """Records that no scan has met, column by column. which are the indexes of their cells in `cells`."""

    keys: Sequence[str]
    held: Sequence[Position | None]
    which: Sequence[int]
    cells: Sequence[MetCells]


class Written(NamedTuple):
    """A position that is new in the target, for a record of the ledger.

    sent is the position that the table was given, if it returns another one. raw_hash is the new fingerprint of the
    record's address, if the writing itself changed it (a trigger).
    """

    id: int
    position: Position
    sent: Position | None = None
    raw_hash: str | None = None


class Question(NamedTuple):
    """One open question: its key, what it is about, and how many records wait for it."""

    key: str
    subject: Subject
    records: int


class Ticket(NamedTuple):
    """The ticket for a reply that comes later, with the index of the question (from 0) in its request."""

    ticket: str
    place: int
    questions: int


class Turn(NamedTuple):
    """Whose turn it is to be asked.

    after are the services that must have replied to an address before; judged_by is the judgement by which it may have
    an answer that is good enough (empty: none can); reading is the key of the rules by which replies are read today.
    """

    service: str
    reading: str
    after: Sequence[str] = ()
    judged_by: str = ""


class ReadAs(NamedTuple):
    """What the reading rules with this key found in a stored reply."""

    reply: int
    reading_key: str
    candidates: Sequence[Candidate]
    kind: Kind
    message: str


class KeptReply(NamedTuple):
    """A stored reply. candidates are None if today's rules have not read it yet.

    If they have, kind and message are by these rules too, and body and headers are left out.
    """

    id: int
    kind: Kind
    status: int
    message: str
    candidates: Sequence[Candidate] | None
    body: bytes
    headers: Mapping[str, str]


class Unjudged(NamedTuple):
    """A subject that today's thresholds have not judged. `address` is the ledger's number of it.

    replies are by the service's name, one for each service that can be asked; None if it has not replied yet. streets
    and away_m are what the other records say of its answer.
    """

    address: int
    subject: Subject
    replies: Mapping[str, KeptReply | None]
    streets: int = 0
    away_m: float = 0.0


class Judged(NamedTuple):
    """The judgement of a subject, as the ledger stores it.

    parts are those of the matched address, and the description's own fields. reply_id is the reply behind the
    judgement, newest the newest reply that was considered; enough: no other service need be asked. cause is the
    heaviest reason for doubt, by its name; town is a key that the records of one town share.
    """

    address: int
    reply_id: int | None
    newest: int
    enough: bool
    outcome: Outcome
    lat: float | None
    lon: float | None
    confidence: float | None
    basis: str
    level: str
    matched: str
    parts: Mapping[str, str]
    reasons: Sequence[Reason]
    cause: str
    town: str


class CauseCount(NamedTuple):
    """How many doubtful records have this cause, and the key and the address of one of them."""

    cause: str
    records: int
    key: str
    subject: Subject


class RequestMade(NamedTuple):
    """A request about a question: when it was reserved (ISO 8601, UTC), which try, and its end."""

    reserved_at: str
    attempt: int
    state: str
    kind: str
    took_ms: int | None


@dataclass(frozen=True, slots=True)
class Reserved:
    """A durable reservation: the request may be sent at send_at (seconds of the boot clock).

    units is what it counts in the windows: 0 for a question that shares a counted request. cost is in millionths of the
    account's currency.
    """

    request_id: int
    send_at: float
    units: int = 1
    cost: int = 0


@dataclass(frozen=True, slots=True)
class Spent:
    """The allowance is spent until resets_at (ISO 8601, UTC; empty: for this run), and why."""

    resets_at: str
    why: str = ""


@dataclass(frozen=True, slots=True)
class AlreadyKnown:
    """Another run has put this question's reply into the ledger; nothing need be sent."""


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """Another run has this question in flight: its reply is to be waited for."""


Reservation = Reserved | Spent | AlreadyKnown | Elsewhere


class Used(NamedTuple):
    """The requests of a day (UTC) for a job (its path) with one kind of reply; their cost in millionths."""

    day: str
    job: str
    kind: str
    requests: int
    cost: int


class Charged(NamedTuple):
    """One request, for accounting. Instants are ISO 8601, UTC; cost is in millionths of the currency."""

    reserved_at: str
    settled_at: str | None
    account: str
    service: str | None
    job: str
    who: str
    host: str
    attempt: int
    state: str
    kind: str
    units: int
    cost: int
    took_ms: int | None
