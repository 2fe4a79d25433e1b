"""House numbers: 12, 12a, 12 bis, 12-14, 14/3, and how two of them agree."""

import re
from functools import lru_cache
from typing import NamedTuple

from yellowtor.addresses.latin import latin

_PARTS = re.compile(
    r"(\d+)(?:\s*[-/]?\s*([a-z]{1,4})(?![a-z]))?(?:\s*([-/])\s*(\d+)\s*([a-z]{0,3}))?(?: ([a-z0-9/]{1,4}))?"
)


class HouseNumber(NamedTuple):
    """low is the number, high the end of a range (the same for a single one); the rest is as it was written."""

    low: int
    high: int
    suffix: str = ""  # a letter or `bis`
    extra: str = ""  # what follows a stroke: an entrance, a flat or a second number


@lru_cache(maxsize=50_000)
def house_number(text: str) -> HouseNumber | None:
    """The parsed number; None for a text that does not begin with one.

    >>> house_number("12-14"), house_number("14/3"), house_number("12 bis")
    (HouseNumber(low=12, high=14, suffix='', extra=''), HouseNumber(low=14, high=14, suffix='', extra='3'), \
HouseNumber(low=12, high=12, suffix='bis', extra=''))
    """
    found = _PARTS.match(latin(text))
    if not found:
        return None
    first, letter, sign, second, other, rest = found.groups()
    low = int(first[:9])
    suffix = letter or ""
    if rest and not suffix:
        suffix = rest
    if sign == "-" and second and low < int(second[:9]) <= low + 200:
        return HouseNumber(low, int(second[:9]), suffix or other or "")
    return HouseNumber(low, low, suffix, f"{second or ''}{other or ''}")


class NumberMatch(NamedTuple):
    """agreement is 1 for equal numbers, 0 for different ones; gap is the difference of the numbers."""

    agreement: float
    gap: int
    reason: str


@lru_cache(maxsize=50_000)
def match_numbers(asked: str, answered: str) -> NumberMatch | None:
    """How an answered number agrees with the asked one; None if either is missing."""
    one = house_number(asked)
    other = house_number(answered)
    if one is None or other is None:
        if not asked or not answered:
            return None
        same = latin(asked) == latin(answered)
        return NumberMatch(float(same), 0 if same else 99, "house number agrees" if same else "another house number")
    if one == other:
        return NumberMatch(1.0, 0, "house number agrees")
    if (one.low, one.high) == (other.low, other.high):
        if one.suffix == other.suffix or {one.suffix, other.suffix} == {one.extra, other.extra}:
            return NumberMatch(0.95, 0, "house number agrees; what follows it differs")
        if not one.suffix or not other.suffix:
            return NumberMatch(0.85, 0, "house number agrees without its letter")
        return NumberMatch(0.5, 0, "house number with another letter")
    if one.low <= other.low <= other.high <= one.high or other.low <= one.low <= one.high <= other.high:
        return NumberMatch(0.9, 0, "house number is in the range")
    if one.extra == str(other.low) or other.extra == str(one.low):
        return NumberMatch(0.8, 0, "house number is one of the two that are answered")
    if one.low == other.low:
        return NumberMatch(0.85, 0, "house number begins the range")
    gap = min(abs(one.low - other.low), abs(one.high - other.high))
    return NumberMatch(0.0, gap, f"another house number ({answered})")
