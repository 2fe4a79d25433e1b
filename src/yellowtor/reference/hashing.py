"""64-bit keys of texts and of pairs of texts: what the index is sorted by.

The text itself is not kept with its key. Two texts of one key (about 1 in 10^19) would be two candidates to compare.
"""

import hashlib
from collections.abc import Iterable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yellowtor.addresses.parsing.countries import country_code

Keys = NDArray[np.uint64]
_ODD = 0x9E3779B97F4A7C15  # 2^64 divided by the golden ratio: multiplying spreads neighbours apart
_MASK = (1 << 64) - 1


@lru_cache(maxsize=500_000)
def text_key(kind: str, text: str) -> int:
    """The key of a text of this kind: `street`, `town`, `postcode` …"""
    return int.from_bytes(hashlib.blake2b(f"{kind}\x1f{text}".encode(), digest_size=8).digest(), "little")


def text_keys(kind: str, texts: Iterable[str]) -> Keys:
    """The keys of many texts."""
    return np.fromiter((text_key.__wrapped__(kind, text) for text in texts), np.uint64)


def pair_key(one: int, other: int) -> int:
    """The key of two keys in this order."""
    return (one * _ODD + other) & _MASK


def pair_keys(one: Keys, other: Keys) -> Keys:
    """The keys of pairs of keys: the same numbers as pair_key()."""
    return one * np.uint64(_ODD) + other


@lru_cache(maxsize=4_096)
def code_number(country: str) -> int:
    """A country, by name or code (ISO 3166-1 alpha-2 or one of the user's own), as a number of 16 bits; 0: unknown."""
    code = country_code(country) or country.strip().upper()
    return (ord(code[0]) - 64) * 32 + ord(code[1]) - 64 if len(code) == 2 and code.isascii() and code.isalpha() else 0
