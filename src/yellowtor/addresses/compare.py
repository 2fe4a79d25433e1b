"""Compares the address of an answer with the one that was asked, part by part.

Agreement is from 0 (contradiction) to 1 (equal), or None if one of them lacks the part. No language is built in: an
abbreviation is recognised by its letters, and scripts are compared in Latin letters.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import combinations

from anyascii import anyascii
from rapidfuzz.distance import OSA, Levenshtein

from yellowtor.addresses.canonical import canonical
from yellowtor.contracts.address import Address

_NUMBER = re.compile(r"(?<!\S)\d+[²³¹¼-¾]*(?:\s?[a-z](?![a-z]))?(?:[/-]\d+[a-z]?)*(?!\S)")
CACHE = 8_192  # towns, streets and countries come again and again
LONGEST = 1_000  # characters of a part that are compared: no name is longer, and what people paste may be
ABBREVIATED = 0.97  # an abbreviation is nearly as good as the word in full


@dataclass(frozen=True, slots=True)
class Agreement:
    """The agreement of each part, 0 to 1; None if it is unknown."""

    number: float | None = None
    street: float | None = None
    town: float | None = None
    postcode: float | None = None
    region: float | None = None
    country: float | None = None


def compare(asked: Address, answered: Mapping[str, str]) -> Agreement:
    """Compare an asked address with the parts of a candidate.

    answered may also have `country_code` (ISO 3166-1 alpha-2): a country agrees if its name or its code does. If a
    candidate only has a `label`, the parts are looked for in it.
    """
    asked = _cut(asked)
    answered = {part: text[:LONGEST] for part, text in answered.items()}
    if answered.keys() == {"label"}:
        answered = _in_label(answered["label"], asked)
    if asked.whole:
        asked = take_apart(asked, answered)
    asked_number, asked_street = split_number(asked.number, asked.street)
    number, street = split_number(answered.get("number", ""), answered.get("street", ""))
    return Agreement(
        number=_exact(asked_number, number),
        street=words_agree(asked_street, street),
        town=words_agree(asked.town, answered.get("town", "")),
        postcode=_postcode(asked.postcode, answered.get("postcode", "")),
        region=words_agree(asked.region, answered.get("region", "")),
        country=_country(asked.country, answered),
    )


@lru_cache(maxsize=CACHE)
def split_number(number: str, street: str) -> tuple[str, str]:
    """The house number and the bare street, out of a number and a street that may carry one.

    >>> split_number("", "Kelp Lane 14 B")
    ('14b', 'kelp lane')
    """
    plain = latin(street)
    if number:
        return latin(number).replace(" ", ""), plain
    found = [m for m in _NUMBER.finditer(plain) if m.start() == 0 or m.end() == len(plain)]
    if not found:
        return "", plain
    best = found[0]
    return best[0].replace(" ", ""), " ".join((plain[: best.start()] + " " + plain[best.end() :]).split())


def _cut(asked: Address) -> Address:
    long = {part: text[:LONGEST] for part, text in asked.as_dict().items() if len(text) > LONGEST}
    return replace(asked, **long) if long else asked


def _in_label(label: str, asked: Address) -> dict[str, str]:
    """The parts of a label that are like what was asked about, and its house number."""
    number, street = split_number(asked.number, asked.street)
    found = take_apart(Address(whole=label), {**asked.as_dict(), "street": street})
    parts = {part: text for part, text in found.as_dict().items() if text}
    if number and number in latin(label).split():
        parts["number"] = number
    return parts


def take_apart(asked: Address, answered: Mapping[str, str]) -> Address:
    """An address in one line, taken apart where its words meet the parts of an answered place."""
    words = latin(asked.whole).split()
    parts = {}
    for part in ("street", "town", "postcode", "region", "country"):
        length = len(latin(answered.get(part, "")).split())
        runs = [" ".join(words[i : i + length]) for i in range(len(words) - length + 1)] if length else []
        best = max(runs, key=lambda run: words_agree(run, answered[part]) or 0, default="")
        if (words_agree(best, answered.get(part, "")) or 0) > 0.6:
            parts[part] = best
    number, _ = split_number("", asked.whole.split(",")[0])
    return replace(asked, whole="", number=number, **parts)


@lru_cache(maxsize=CACHE)
def latin(text: str) -> str:
    """The canonical form in plain Latin letters: Ørlvík and Orlvik are one."""
    plain = canonical(text)
    if plain.isascii():
        return plain
    kept = (c if c.isnumeric() and not c.isdecimal() else anyascii(c) for c in plain)  # 12² stays no 122
    return canonical("".join(kept))


@lru_cache(maxsize=CACHE)
def words_agree(asked: str, answered: str) -> float | None:
    """Agreement of two names of one or more words: half that of the whole, half that of the worst word.

    Abbreviations cost hardly anything; Mill Road and Hill Road are not taken for one.
    """
    if asked == answered:
        return 1.0 if asked else None
    left = latin(asked).split()
    right = latin(answered).split()
    if not left or not right:
        return None
    if left == right:
        return 1.0
    if "".join(left) == "".join(right):
        return ABBREVIATED
    short, long = sorted((left, right), key=lambda words: (len(words), sum(map(len, words)), words))
    weights = [len(word) for word in long]
    best = max(_aligned(short, chosen, weights, long) for chosen in _alignments(len(short), len(long)))
    return round(best, 3)


def _alignments(short: int, long: int) -> list[tuple[int, ...]]:
    """Which words of the longer name the words of the shorter one may stand for, in order."""
    if long > 8:
        return [tuple(range(short))]
    return list(combinations(range(long), short))


def _aligned(short: list[str], chosen: tuple[int, ...], weights: list[int], long: list[str]) -> float:
    scores = [_word(word, long[at]) for word, at in zip(short, chosen, strict=True)]
    mean = sum(score * weights[at] for score, at in zip(scores, chosen, strict=True)) / sum(weights)
    return (mean + min(*scores, mean)) / 2


def _word(one: str, other: str) -> float:
    if one == other:
        return 1.0
    short, long = sorted((one, other), key=len)
    if len(short) >= 2 and len(long) >= len(short) + 2 and _abbreviates(short, long):
        return ABBREVIATED
    return float(OSA.normalized_similarity(one, other))


def _abbreviates(short: str, long: str) -> bool:
    """Whether short is long cut off (str, street), its consonants (ln, lane), or contracted (rd, road)."""
    if long.startswith(short):
        return True
    if short[0] != long[0] or (short[-1] != long[-1] and short != re.sub("(?<!^)[aeiou]", "", long)):
        return False
    letters = iter(long)
    return all(letter in letters for letter in short)


def _exact(asked: str, answered: str) -> float | None:
    if not asked or not answered:
        return None
    return 1.0 if asked == answered else 0.0


def _postcode(asked: str, answered: str) -> float | None:
    if asked == answered:
        return 1.0 if asked else None
    left, right = (latin(text).replace(" ", "").replace("-", "") for text in (asked, answered))
    if not left or not right:
        return None
    if left == right:
        return 1.0
    if left.lstrip("0") == right.lstrip("0"):  # a spreadsheet ate the leading zeros
        return ABBREVIATED
    return 0.5 if Levenshtein.distance(left, right) == 1 else 0.0


def _country(asked: str, answered: Mapping[str, str]) -> float | None:
    names = [answered[part] for part in ("country_code", "country") if answered.get(part)]
    if not asked or not names:
        return None
    if asked in names or latin(asked) in map(latin, names):
        return 1.0
    if len(asked) == 2 and "country_code" not in answered:
        return None  # a code against a name: cannot be compared
    return 1.0 if (words_agree(asked, answered.get("country", "")) or 0) > 0.9 else 0.0
