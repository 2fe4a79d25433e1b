"""What a service says of its limits: RateLimit fields (IETF draft-ietf-httpapi-ratelimit-headers) of both drafts.

The newest names its policies: `RateLimit-Policy: "day";q=1000;w=86400` and `RateLimit: "day";r=80;t=4000`. Older ones
have `RateLimit: limit=1000, remaining=80, reset=4000`, or the three fields `RateLimit-Limit: 1000, 1000;w=86400`,
`RateLimit-Remaining: 80` and `RateLimit-Reset: 4000`.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass

from yellowtor.allowance.windows import Window

_OLDER = re.compile(r"\b(limit|remaining|reset)\s*=\s*([0-9]{1,15})(?![0-9])")
LONGEST = 2_000  # characters of a field that are looked at
MOST_DIGITS = 15  # of a number
SHORT_S = 10  # what holds for so short a time is a pace
NEAR_S = 120.0  # so near to each other two ends are the same


@dataclass(frozen=True, slots=True)
class StatedLimit:
    """One limit: so many requests in so many seconds, so many left, the rest again in so many; None: not said."""

    quota: int | None = None
    window_s: int | None = None
    left: int | None = None
    resets_in_s: int | None = None

    @property
    def per_second(self) -> float | None:
        """As a pace, where it is for so short a time."""
        if self.quota and self.window_s and self.window_s <= SHORT_S:
            return self.quota / self.window_s
        return None

    def is_of(self, window: Window, ends_in_s: float) -> bool:
        """Whether this is what the description calls this window, which ends in so many seconds."""
        if window.money or window.cap:
            return False
        if self.window_s is not None:
            return self.window_s == window.span.seconds
        ahead = self.resets_in_s
        return not window.rolling and ahead is not None and ahead > SHORT_S and abs(ahead - ends_in_s) <= NEAR_S


def stated_limits(headers: Mapping[str, str]) -> list[StatedLimit]:
    """Every limit that the fields (by lower-case name) speak of."""
    found: dict[str, dict[str, int]] = {}
    headers = {name: text[:LONGEST] for name, text in headers.items() if name.startswith("ratelimit")}
    if not headers:
        return []
    one_field = dict(_OLDER.findall(headers.get("ratelimit", "")))
    if one_field:
        rest = ("limit", "remaining", "reset")
        headers = {**headers, "ratelimit": "", **{f"ratelimit-{n}": one_field[n] for n in rest if n in one_field}}
    policies = headers.get("ratelimit-policy") or headers.get("ratelimit-limit", "").partition(",")[2]
    for field, names in ((policies, "qw"), (headers.get("ratelimit", ""), "rt")):
        for item in filter(None, map(str.strip, field.split(","))):
            name = item.partition(";")[0]
            numbers = dict(re.findall(rf";\s*([{names}])=([0-9]{{1,15}})(?![0-9])", item))
            if (
                name.isascii() and name.isdigit() and len(name) <= MOST_DIGITS
            ):  # the older draft: the quota itself stands there
                numbers = {"q": name, **numbers}
                name = ""
            found.setdefault(name, {}).update((key, int(number)) for key, number in numbers.items())
    limit, left, reset = (_number(headers.get(f"ratelimit-{part}", "")) for part in ("limit", "remaining", "reset"))
    if left is not None or limit is not None:
        one = found.setdefault("", {})
        one |= {key: n for key, n in (("q", limit), ("r", left), ("t", reset)) if n is not None}
    return [StatedLimit(one.get("q"), one.get("w"), one.get("r"), one.get("t")) for one in found.values()]


def _number(text: str) -> int | None:
    first = text.partition(",")[0].strip()
    return int(first) if first.isascii() and first.isdigit() and len(first) <= MOST_DIGITS else None
