"""Requests and replies as plain values."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from yellowtor.answers.replies.reply_kind import Kind


@dataclass(frozen=True, slots=True)
class Request:
    """One request, ready to be sent. It may hold a secret: it is never printed, logged or kept."""

    url: str = field(repr=False)
    headers: Mapping[str, str] = field(repr=False)
    method: str = "GET"
    body: bytes | None = field(default=None, repr=False)
    counts: bool = True  # the allowance counts it
    redirects: int = 0  # that led here
    before: "Request | None" = field(default=None, repr=False)  # what is sent after this one, which fetches a token
    token: str = field(default="", repr=False)
    renewed: bool = False  # with credentials that were fetched anew, for the others were refused
    ticket: str = ""  # of what it looks for
    looks: int = 0  # whether that is ready
    again: "Callable[[], Request] | None" = field(default=None, repr=False)  # makes it once more
    pages: tuple[bytes, ...] = field(default=(), repr=False)  # that came before this one


@dataclass(frozen=True, slots=True)
class Reply:
    """One reply, secrets masked; when none came, status is 0 and `trouble` says why, `kind` what it means.

    headers are those fields, by lower-case name, that something is read from, and our own notes (yellowtor-…).
    follow_up is a further request that the reply asks for, to be sent not before pause_s seconds from now.
    """

    status: int
    headers: Mapping[str, str]
    body: bytes
    trouble: str = ""
    kind: Kind | None = None
    lasting: bool = False  # the same request would bring the same
    follow_up: Request | None = field(default=None, repr=False)
    pause_s: float = 0.0
