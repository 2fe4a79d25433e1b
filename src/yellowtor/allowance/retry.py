"""Whether a reply is asked for again, given up, or ends the asking: a typed value, decided here only."""

import email.utils
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import ClassVar

from yellowtor.allowance.rate_limit_headers import stated_limits
from yellowtor.answers.replies.reply_kind import Kind

FIRST_S = 0.5
LONGEST_S = 60.0
PATIENCE_S = 300.0  # a service that wants us gone for longer than this is asked in another run
FARTHEST_S = 31 * 86_400.0  # no window is longer: what asks for more is taken for this
NO_REPLY = {0, 408, 425, 502, 503, 504}  # the service itself has not said anything about the question (RFC 9110)


@dataclass(frozen=True, slots=True)
class Retry:
    """Ask once more, not before after_s seconds from now."""

    word: ClassVar[str] = "ask again"

    after_s: float


@dataclass(frozen=True, slots=True)
class Settle:
    """Keep the reply."""

    word: ClassVar[str] = "keep"


@dataclass(frozen=True, slots=True)
class LeaveOpen:
    """Nothing came that says anything about the question: it stays open, and another run asks it."""

    word: ClassVar[str] = "leave open"


@dataclass(frozen=True, slots=True)
class StopAsking:
    """Nothing else need be asked of this service in this run; the question stays open."""

    word: ClassVar[str] = "stop"

    why: Kind


Decision = Retry | Settle | LeaveOpen | StopAsking


@dataclass(frozen=True, slots=True)
class Attempt:
    """A try by its number (from 1), and the number of allowed tries; jitter from 0 to 1."""

    number: int
    tries: int
    jitter: float


def decide(kind: Kind, status: int, headers: Mapping[str, str], attempt: Attempt, now: datetime) -> Decision:
    """What to do about a reply of this kind and HTTP status (0: none came).

    headers by lower-case name. Retry-After is honoured (RFC 9110 section 10.2.3), else what RateLimit fields say (IETF
    draft-ietf-httpapi-ratelimit-headers) of a service that was asked too fast, else the wait doubles from half a
    second, with full jitter above half of it. When all tries are used, a reply of the service settles the question;
    without one it stays open.
    """
    if kind.stops_service:
        return StopAsking(kind)
    over = attempt.number >= attempt.tries
    if not kind.may_pass or (over and kind is not Kind.TOO_FAST):
        return LeaveOpen() if status in NO_REPLY and kind.may_pass else Settle()
    wait_s = requested_wait_s(kind, headers, now)
    if (wait_s or 0) > PATIENCE_S or over:
        return StopAsking(kind) if kind is Kind.TOO_FAST else LeaveOpen() if status in NO_REPLY else Settle()
    if wait_s is not None:
        return Retry(wait_s + attempt.jitter * 0.2)
    return Retry(min(LONGEST_S, FIRST_S * 2 ** (min(attempt.number, 60) - 1)) * (0.5 + attempt.jitter / 2))


def requested_wait_s(kind: Kind, headers: Mapping[str, str], now: datetime) -> float | None:
    """Seconds that the service wants us to wait: by Retry-After, or by RateLimit fields of a spent allowance."""
    wait_s = retry_after_s(headers.get("retry-after", ""), now)
    return rate_limit_s(headers) if wait_s is None and kind in {Kind.TOO_FAST, Kind.WINDOW_SPENT} else wait_s


def retry_after_s(value: str, now: datetime) -> float | None:
    """Seconds that a Retry-After field asks for, in either of its two forms; None when it says nothing."""
    text = value.strip()
    if text.isascii() and text.isdigit():
        return _seconds(text)
    try:
        date = email.utils.parsedate_to_datetime(text)
        if date.tzinfo is None:
            date = date.replace(tzinfo=UTC)
        return min(FARTHEST_S, max(0.0, (date - now).total_seconds()))
    except (ValueError, IndexError, TypeError, OverflowError):
        return None


def _seconds(digits: str) -> float:
    return FARTHEST_S if len(digits.lstrip("0")) > 8 else min(FARTHEST_S, float(digits))


def rate_limit_s(headers: Mapping[str, str]) -> float | None:
    """Seconds until RateLimit fields, of any draft, allow more; None when they don't say."""
    waits = [
        wait_s.resets_in_s for wait_s in stated_limits(headers) if wait_s.left == 0 and wait_s.resets_in_s is not None
    ]
    return min(FARTHEST_S, float(max(waits))) if waits else None
