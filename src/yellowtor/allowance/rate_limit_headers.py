"""The limits that a service states in RateLimit fields (IETF draft-ietf-httpapi-ratelimit-headers, both drafts).

They are structured fields (RFC 9651); a field that does not parse is ignored as a whole, as that RFC demands.

The newest names its policies: `RateLimit-Policy: "day";q=1000;w=86400` and `RateLimit: "day";r=80;t=4000`. Older ones
have `RateLimit: limit=1000, remaining=80, reset=4000`, or the three fields `RateLimit-Limit: 1000, 1000;w=86400`,
`RateLimit-Remaining: 80` and `RateLimit-Reset: 4000`.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal, TypeGuard

from yellowtor.allowance.windows import Window

OLDER = {"limit": "q", "remaining": "r", "reset": "t"}  # the older drafts' names for the parameters
PARAMETERS = {"q", "w", "r", "t"}  # quota, window, remaining, seconds until the reset
LONGEST = 2_000  # characters of a field that are read
SHORT_S = 10  # a window of at most this many seconds is a pace
NEAR_S = 120.0  # two ends that differ by at most this many seconds are the same


@dataclass(frozen=True, slots=True)
class StatedLimit:
    """One limit: quota requests in window_s seconds, of which `left` are left until it resets; None: not stated."""

    quota: int | None = None
    window_s: int | None = None
    left: int | None = None
    resets_in_s: int | None = None

    @property
    def per_second(self) -> float | None:
        """The pace in requests a second, if the window is short; a long window is not a pace."""
        if self.quota and self.window_s and self.window_s <= SHORT_S:
            return self.quota / self.window_s
        return None

    def is_of(self, window: Window, ends_in_s: float) -> bool:
        """Whether this limit belongs to a window of the description that ends in ends_in_s seconds."""
        if window.money or window.cap:
            return False
        if self.window_s is not None:
            return self.window_s == window.span.seconds
        ahead = self.resets_in_s
        return not window.rolling and ahead is not None and ahead > SHORT_S and abs(ahead - ends_in_s) <= NEAR_S


def stated_limits(headers: Mapping[str, str]) -> list[StatedLimit]:
    """The limits that the RateLimit fields state. headers is by lower-case name; a malformed field is ignored."""
    fields = {name: text[:LONGEST] for name, text in headers.items() if name.startswith("ratelimit")}
    if not fields:
        return []
    found: dict[str, dict[str, int]] = {}
    dictionary = {key: value for key, value in _dictionary(fields.get("ratelimit", "")).items() if key in OLDER}
    policies = _items(fields.get("ratelimit-policy", ""))
    older_policies = _items(fields.get("ratelimit-limit", ""))
    for name, numbers in policies or older_policies[1:]:
        found.setdefault(name, {}).update(numbers)
    for name, numbers in [] if dictionary else _items(fields.get("ratelimit", "")):
        found.setdefault(name, {}).update(numbers)
    single = {key: _single(fields.get(f"ratelimit-{name}", "")) for name, key in OLDER.items()}
    single |= {OLDER[name]: number for name, number in dictionary.items()}
    if single["q"] is not None or single["r"] is not None:
        found.setdefault("", {}).update({key: number for key, number in single.items() if number is not None})
    return [StatedLimit(one.get("q"), one.get("w"), one.get("r"), one.get("t")) for one in found.values()]


def _items(text: str) -> list[tuple[str, dict[str, int]]]:
    """The members of a list: the name of each policy with its numbers; the older draft has the quota for a name."""
    read = []
    for value, parameters in _parsed(text, "list"):
        numbers = {key: number for key, number in parameters.items() if key in PARAMETERS and _is_count(number)}
        if _is_count(value):
            read.append(("", {"q": value, **numbers}))
        elif numbers:
            read.append((str(value), numbers))
    return read


def _dictionary(text: str) -> dict[str, int]:
    """The whole numbers of a dictionary, by key."""
    members = _parsed(text, "dictionary")
    return {key: value for key, (value, _) in members.items() if _is_count(value)} if members else {}


def _single(text: str) -> int | None:
    """The number that a field states first, if it is a whole one."""
    members = _parsed(text, "list")
    return members[0][0] if members and _is_count(members[0][0]) else None


def _parsed(text: str, type_: Literal["list", "dictionary"]) -> Any:
    """A structured field (RFC 9651), read by the library; empty where it is malformed."""
    if not text.strip():
        return []
    import http_sf

    try:
        return http_sf.parse(text.encode("ascii"), tltype=type_)
    except ValueError:
        return []


def _is_count(value: object) -> TypeGuard[int]:
    """Whether it is a whole number, not below 0; a boolean is none."""
    return type(value) is int and value >= 0
