"""How postcodes and countries agree: 1 is equal, 0 another one, None if they cannot be compared."""

from functools import lru_cache

from rapidfuzz.distance import OSA

from yellowtor.addresses.latin import latin
from yellowtor.addresses.parsing.countries import country_code, region_codes
from yellowtor.addresses.parsing.words import place_of, words_of
from yellowtor.addresses.similarity import AGREES, similar


@lru_cache(maxsize=50_000)
def postcodes_agree(asked: str, answered: str) -> float | None:
    left, right = (latin(text).replace(" ", "").replace("-", "") for text in (asked, answered))
    if not left or not right:
        return None
    if left == right:
        return 1.0
    if left.lstrip("0") == right.lstrip("0"):  # a spreadsheet ate the leading zeros
        return AGREES
    if min(len(left), len(right)) >= 3 and (left.startswith(right) or right.startswith(left)):
        return 0.9
    if OSA.distance(left, right, score_cutoff=1) == 1:
        return 0.6
    return 0.3 if left[:2] == right[:2] else 0.0


@lru_cache(maxsize=5_000)
def countries_agree(asked: str, answered: str) -> float | None:
    if not asked or not answered:
        return None
    if asked == answered or latin(asked) == latin(answered):
        return 1.0
    one = country_code(asked)
    other = country_code(answered)
    if one and other:
        if one != other and f"{other}-{one}" in region_codes(one):
            return None  # CA may be Canada or California
        return float(one == other)
    if len(asked) == len(answered) == 2:
        return 0.0
    if len(asked) == 2 or len(answered) == 2:
        return None  # a code against an unknown name cannot be compared
    return 1.0 if similar(place_of(words_of(asked)), place_of(words_of(answered))) > 0.9 else 0.0
