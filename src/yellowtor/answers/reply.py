"""What is sent and what comes back, as plain values."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from yellowtor.answers.kinds import Kind


@dataclass(frozen=True, slots=True)
class Request:
    """One request, ready to be sent. It may hold a secret: it is never printed, logged or kept."""

    url: str = field(repr=False)
    headers: Mapping[str, str] = field(repr=False)
    method: str = "GET"
    body: bytes | None = field(default=None, repr=False)


@dataclass(frozen=True, slots=True)
class Reply:
    """One reply, secrets masked; when none came, status is 0 and `trouble` says why, `kind` what it means.

    headers are those fields, by lower-case name, that something is read from.
    """

    status: int
    headers: Mapping[str, str]
    body: bytes
    trouble: str = ""
    kind: Kind | None = None
