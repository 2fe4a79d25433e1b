"""Plain values that pass between a run and its ledger."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, NamedTuple, Protocol

from yellowtor.answers.replies.kinds import Kind

EXTRA = "extra:"  # begins the names of fields that a description adds of its own


class Known(NamedTuple):
    """A record as the source has it now, beside what the ledger remembers of it (None for a new one).

    `place` is its place in the source, from 1. `held` are the source's own coordinates as they would be written (None:
    there are none, or they are ours as we wrote them last), `written` those, `answered` ours as they were judged last.
    """

    place: int
    key: str
    raw_hash: str
    held: str | None
    known_hash: str | None
    known_held: str | None
    held_hash: str | None
    written: str | None
    answered: str | None

    @property
    def is_new(self) -> bool:
        return self.known_hash is None


class Work(NamedTuple):
    """What a record has become after composing: `state` is kept, incomplete or ask; address and reasons are JSON.

    questions are the keys of what is asked about it, by the service's name: of those that can be.
    """

    place: int
    key: str
    raw_hash: str
    held: str | None
    held_hash: str
    state: str
    reasons: str
    address: str
    address_key: str
    questions: Mapping[str, str]


class PageWritten(NamedTuple):
    """What has become of a page's rows, by their places in it (from 0), where they do not hold just what was answered.

    left were edited, or have gone, since they were read; refused were not written, and why; of others the table gives
    back other texts than it was given, or than it had: returned has those, by column. changed is how many rows are
    other than before.
    """

    left: Sequence[int] = ()
    refused: Mapping[int, str] = MappingProxyType({})
    returned: Mapping[int, Mapping[str, str]] = MappingProxyType({})
    changed: int = 0


ALL_WRITTEN = PageWritten()


class Kept(Protocol):
    """Called when what was answered for rows is in its place: for all of them, or (in a database) a page at a time."""

    def __call__(self, page: PageWritten = ALL_WRITTEN) -> None: ...


class Written(NamedTuple):
    """Coordinates that are new in the target, in the form in which they are written, for a record of the ledger.

    sent is what the table was given, where that gives back something else. raw_hash is the fingerprint that the
    record's address has got by the writing itself (a trigger), if it has.
    """

    id: int
    coordinates: str
    sent: str | None = None
    raw_hash: str | None = None


class Question(NamedTuple):
    """One open question: its key, the address (JSON) and how many records wait for it."""

    key: str
    address: str
    records: int


class Ticket(NamedTuple):
    """What a service gave for a request that it took and has its reply to later.

    The question was the one in this place (from 0) of so many.
    """

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
    """What a kept reply was found to say by the reading rules with a key; candidates as JSON."""

    reply: int
    reading_key: str
    candidates: str
    kind: str
    message: str


class KeptReply(NamedTuple):
    """A reply as the ledger has it; candidates (JSON) are those that were read by today's rules, if they were.

    Then kind and message are by these rules as well, and its body and headers are left out.
    """

    id: int
    kind: Kind
    status: int
    message: str
    candidates: str | None
    body: bytes
    headers: str  # JSON


class Unjudged(NamedTuple):
    """An address that has not been judged by today's thresholds. `address` is the ledger's number of it, `parts` JSON.

    replies are by the service's name: of each that can be asked about it, None where it has not replied yet.
    """

    address: int
    parts: str
    replies: Mapping[str, KeptReply | None]


class Judged(NamedTuple):
    """The judgement of an address, as the ledger keeps it. parts (of the matched one) and reasons are JSON.

    Among the parts are the fields that the description adds of its own. reply_id is the reply that it rests on, newest
    the newest of all that it was made from; enough: no other service need be asked.
    """

    address: int
    reply_id: int | None
    newest: int
    enough: bool
    outcome: str
    lat: float | None
    lon: float | None
    confidence: float | None
    basis: str
    level: str
    matched: str
    parts: str
    reasons: str


class Answer(NamedTuple):
    """How one record stands now: what is written back and drawn. `id` is the ledger's number of the record."""

    id: int
    key: str
    raw_hash: str
    held: str | None
    written: str | None
    sent: str | None  # what the table was given when it gave back `written`, if that is something else
    address: str
    outcome: str
    lat: float | None
    lon: float | None
    confidence: float | None
    basis: str
    level: str
    matched: str
    parts: str
    reasons: str
    service: str | None
    asked_at: str | None  # ISO 8601, UTC
    pin: int | None  # the ledger's number of the position that a person has decided


UNKNOWN = Answer(0, "", "", None, None, None, "{}", "", None, None, None, "", "", "", "{}", "[]", None, None, None)


class Answers:
    """How so many records stand now, column by column; whole Answers are made when one is looked at.

    What nobody wanted of them is None. A record that can't be told about is UNKNOWN.
    """

    def __init__(self, columns: Mapping[str, Sequence[Any]], count: int) -> None:
        self._columns = columns
        self._count = count

    @classmethod
    def of(cls, rows: Sequence[Answer]) -> "Answers":
        return cls(dict(zip(Answer._fields, zip(*rows, strict=True), strict=True)) if rows else {}, len(rows))

    def column(self, name: str) -> Sequence[Any]:
        """One field of all of them."""
        return self._columns.get(name) or (None,) * self._count

    def without(self, places: Collection[int]) -> "Answers":
        """The same, with nothing known about the records in these places."""
        return self.of([UNKNOWN if at in places else row for at, row in enumerate(self)]) if places else self

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[Answer]:
        return map(Answer, *map(self.column, Answer._fields))


@dataclass(frozen=True, slots=True)
class Reserved:
    """A reservation that is durable: the request may leave at send_at (seconds of the boot clock).

    units is what the window was raised by: 0 for a question that goes along with another in one counted request; cost
    is in millionths of the account's currency.
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
    """So many requests of a day (UTC), for a job (its path), with replies of a kind; their cost in millionths."""

    day: str
    job: str
    kind: str
    requests: int
    cost: int


class Charged(NamedTuple):
    """One request, for whoever pays the bill: instants are ISO 8601, UTC; cost in millionths of the currency."""

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


class Pin(NamedTuple):
    """A position that a person has decided, in degrees: who did, why, when (ISO 8601, UTC)."""

    lat: float
    lon: float
    who: str
    why: str
    pinned_at: str

    @property
    def said(self) -> str:
        return f"pinned by {self.who} on {self.pinned_at[:10]}: {self.why}"
