"""Whether a reply is asked for again, given up, or ends the asking: a typed value, decided here only."""

import email.utils
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

from yellowtor.answers.kinds import Kind

FIRST_S = 0.5
LONGEST_S = 60.0
PATIENCE_S = 300.0  # a service that wants us gone for longer than this is asked in another run


@dataclass(frozen=True, slots=True)
class Again:
    """Ask once more, not before after_s seconds from now."""

    after_s: float


@dataclass(frozen=True, slots=True)
class Settle:
    """The reply stands, whatever it says."""


@dataclass(frozen=True, slots=True)
class StopAsking:
    """Nothing else need be asked of this service in this run; the question stays open."""

    why: Kind


Decision = Again | Settle | StopAsking


def decide(kind: Kind, headers: Mapping[str, str], attempt: int, tries: int, now: datetime, jitter: float) -> Decision:
    """What to do about the reply to the attempt-th try (from 1) of tries.

    headers by lower-case name; jitter from 0 to 1. Retry-After is honoured (RFC 9110 section 10.2.3), else what
    RateLimit fields say (IETF draft-ietf-httpapi-ratelimit-headers) of a service that was asked too fast, else the
    wait doubles from half a second, with full jitter above half of it.
    """
    if kind.stops_service:
        return StopAsking(kind)
    if not kind.may_pass or (attempt >= tries and kind is not Kind.TOO_FAST):
        return Settle()
    told = told_wait_s(kind, headers, now)
    if (told or 0) > PATIENCE_S or attempt >= tries:
        return StopAsking(kind) if kind is Kind.TOO_FAST else Settle()
    if told is not None:
        return Again(told + jitter * 0.2)
    return Again(min(LONGEST_S, FIRST_S * 2 ** (attempt - 1)) * (0.5 + jitter / 2))


def told_wait_s(kind: Kind, headers: Mapping[str, str], now: datetime) -> float | None:
    """Seconds that the service wants us to wait: by Retry-After, or by RateLimit fields of a spent allowance."""
    told = retry_after_s(headers.get("retry-after", ""), now)
    return rate_limit_s(headers) if told is None and kind in {Kind.TOO_FAST, Kind.WINDOW_SPENT} else told


def retry_after_s(value: str, now: datetime) -> float | None:
    """Seconds that a Retry-After field asks for, in either of its two forms; None when it says nothing."""
    text = value.strip()
    if text.isascii() and text.isdigit():
        return float(text)
    try:
        date = email.utils.parsedate_to_datetime(text)
    except (ValueError, IndexError):
        return None
    if date.tzinfo is None:
        date = date.replace(tzinfo=UTC)
    return max(0.0, (date - now).total_seconds())


def rate_limit_s(headers: Mapping[str, str]) -> float | None:
    """Seconds until RateLimit fields, of the newer or the older draft, allow more; None when they don't say."""
    text, left = headers.get("ratelimit", ""), headers.get("ratelimit-remaining", "").strip()
    waits = []
    for policy in text.split(","):  # "burst";r=0;t=12, "day";r=80;t=4000
        told = dict(re.findall(r";\s*([rt])=(\d+)", policy))
        if told.get("r") == "0" and "t" in told:
            waits.append(float(told["t"]))
    reset = headers.get("ratelimit-reset", "").strip()
    if left == "0" and reset.isascii() and reset.isdigit():
        waits.append(float(reset))
    return max(waits, default=None)
