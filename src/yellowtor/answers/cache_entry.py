"""What a ledger knows of one address, as plain values between the verb `cache` and the ledger."""

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Any, NamedTuple

from yellowtor.answers.decisions import Correction, Pin
from yellowtor.answers.ledger_rows import Charged
from yellowtor.contracts.subject import Subject


class KnownReply(NamedTuple):
    """A stored reply: service, kind, time (ISO 8601, UTC), body, and the candidates read from it."""

    service: str
    kind: str
    status: int
    message: str
    received_at: str
    body: bytes
    candidates: Sequence[Mapping[str, Any]]


class Standing(NamedTuple):
    """How an address stands by the thresholds of one job."""

    job: str
    outcome: str
    lat: float | None
    lon: float | None
    confidence: float | None
    basis: str
    level: str
    matched: str


class Entry(NamedTuple):
    """Everything stored about one subject; records as (job, key, state), pins with the record's key.

    corrections are of this address, and those that lead to it.
    """

    number: int
    subject: Subject
    replies: Sequence[KnownReply]
    requests: Sequence[Charged]
    standings: Sequence[Standing]
    pins: Sequence[tuple[str, Pin]]
    records: Sequence[tuple[str, str, str]]
    corrections: Sequence[Correction] = ()


class SizeOf(NamedTuple):
    """Replies of one service and kind: how many, their bytes, the oldest and the newest."""

    service: str
    kind: str
    replies: int
    bytes: int
    oldest: str
    newest: str


class Sizes(NamedTuple):
    addresses: int
    requests: int
    pins: int
    jobs: int
    replies: Sequence[SizeOf]


class Exported(NamedTuple):
    """A reply, or a decision about an address, with all of its provenance, as it leaves one ledger for another.

    A decision without a position and without a corrected address says that no answer fits.
    """

    subject: Subject
    address_key: str
    lat: float | None
    lon: float | None
    question_key: str = ""
    asking: str = ""
    service: str = ""
    kind: str = ""
    status: int = 0
    message: str = ""
    headers: Mapping[str, str] = MappingProxyType({})
    body: bytes = b""
    received_at: str = ""
    cost: int = 0
    attempt: int = 1
    job: str = ""
    who: str = ""
    host: str = ""
    why: str = ""  # of a decision
    corrected: Subject | None = None
