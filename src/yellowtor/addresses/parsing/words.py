"""Words of names with their meanings, and names of streets and places as words."""

import re
from functools import cache, lru_cache
from typing import NamedTuple

from rapidfuzz.distance import OSA

from yellowtor.addresses.latin import latin
from yellowtor.addresses.parsing.vocabulary import vocabulary

_ORDINAL = re.compile(r"(\d+)(?:st|nd|rd|th|er|ere|re|eme|e|a|o|ª|º)")
_DOTTED = re.compile(r"\b(?:[a-z]\.){2,}")
_CONTRACTED = re.compile(r"(?<=\b[a-z])\.(?=[a-z]{2,3}\b)")  # v.le, c.so
LEAST = 5  # letters of a kind of street in which a typing error is looked for
LEAST_ATTACHED = 6  # letters of a kind at the end of a compound, likewise
LONGEST = 300  # characters of a part that are compared


class Word(NamedTuple):
    """A word in plain Latin letters; meanings are what it may stand for (an ordinal, `saint`, a kind of street)."""

    text: str
    meanings: frozenset[str]


class StreetName(NamedTuple):
    """core are the words that name the street; kinds what sort it is; direction a point of the compass."""

    core: tuple[Word, ...]
    kinds: frozenset[str]
    direction: str


NOTHING: frozenset[str] = frozenset()
NO_STREET = StreetName((), NOTHING, "")


@lru_cache(maxsize=50_000)
def word(text: str) -> Word:
    """A word with its meanings.

    >>> sorted(word("1st").meanings), sorted(word("st").meanings)
    (['1'], ['saint', 'street'])
    """
    known = vocabulary()
    meanings = set(known.kinds.get(text, NOTHING)) | set(known.short.get(text, NOTHING))
    if text in known.saint:
        meanings.add("saint")
    if number := known.ordinals.get(text):
        meanings.add(number)
    if direction := known.directions.get(text):
        meanings.add(f"toward {direction}")
    if found := _ORDINAL.fullmatch(text):
        meanings.add(found[1])
    return Word(text, frozenset(meanings))


@lru_cache(maxsize=50_000)
def words_of(text: str) -> tuple[str, ...]:
    """The words of a name in plain Latin letters, abbreviations with dots in one: N.E. is ne."""
    folded = text[:LONGEST]
    if "." in folded:
        folded = _DOTTED.sub(lambda found: found[0].replace(".", ""), folded.casefold())
        folded = _CONTRACTED.sub("", folded)
    return tuple(latin(folded).split())


@lru_cache(maxsize=50_000)
def street_of(texts: tuple[str, ...]) -> StreetName:
    """The parts of a street's name that is these words.

    >>> name = street_of(("n", "kelpstr"))
    >>> [one.text for one in name.core], name.kinds, name.direction
    (['kelp'], frozenset({'street'}), 'n')
    """
    known = vocabulary()
    words = [one for text in texts for one in _split_attached(text)]
    direction = ""
    if len(words) > 1 and (words[-1] in known.directions) and len(_names(words[:-1])):
        direction = known.directions[words.pop()]
    if len(words) > 2 and words[0] in known.directions:
        direction = direction or known.directions[words[0]]
        words = words[1:]
    kinds = NOTHING
    if len(words) > 1:
        first = kinds_of(words[0])
        last = kinds_of(words[-1])
        if last and not (first and len(words) > 2 and words[1] in known.connecting):
            kinds = last
            words.pop()
        elif first:
            kinds = first
            words = words[1:]
    core = [one for one in words if one not in known.connecting] or words
    return StreetName(tuple(word(one) for one in core), kinds, direction)


@lru_cache(maxsize=50_000)
def kinds_of(text: str) -> frozenset[str]:
    """The kinds of street that a word means, with a typing error in a longer word."""
    known = vocabulary().kinds
    if text in known or len(text) < LEAST:
        return known.get(text, NOTHING)
    near = {kind for shorter in _shortened(text) for kind in _kinds_near().get(shorter, ())}
    found = min((kind for kind in near if OSA.distance(text, kind, score_cutoff=1) <= 1), default="")
    return known[found] if found else NOTHING


def _shortened(text: str) -> set[str]:
    """The text, and the text without one of its letters: two words with one typing error between them share one."""
    return {text, *(text[:at] + text[at + 1 :] for at in range(len(text)))}


@cache
def _kinds_near() -> dict[str, list[str]]:
    """The longer kinds of streets by each of their shortened texts."""
    found: dict[str, list[str]] = {}
    for kind in vocabulary().kinds:
        for shorter in _shortened(kind) if len(kind) >= LEAST else ():
            found.setdefault(shorter, []).append(kind)
    return found


def _names(words: list[str]) -> list[str]:
    return [one for one in words if one not in vocabulary().kinds]


@lru_cache(maxsize=50_000)
def _split_attached(text: str) -> tuple[str, ...]:
    """A compound as its name and its kind of street: kelpstrasse."""
    if len(text) < 6 or text in vocabulary().kinds:
        return (text,)
    if not text.endswith(vocabulary().endings):
        return _split_misspelled(text)
    for ending, kind in vocabulary().attached.items():
        if text.endswith(ending) and len(text) >= len(ending) + 3:
            return text[: -len(ending)], kind
    return (text,)


def is_nearly_attached(text: str) -> bool:
    """Whether this may be a kind of street at the end of a compound, with an error in it.

    >>> is_nearly_attached("wge"), is_nearly_attached("by")
    (True, False)
    """
    return any(OSA.distance(text, one, score_cutoff=1) <= 1 for one in vocabulary().attached if len(one) > 2)


def _split_misspelled(text: str) -> tuple[str, ...]:
    """A compound whose kind of street has a typing error: kelpstrase. Only long kinds are certain enough."""
    for ending, kind in vocabulary().attached.items():
        if len(ending) < LEAST_ATTACHED:
            break  # they are sorted by length
        for size in (len(ending), len(ending) - 1, len(ending) + 1):
            if len(text) >= size + 3 and OSA.distance(text[-size:], ending, score_cutoff=1) <= 1:
                return text[:-size], kind
    return (text,)


@lru_cache(maxsize=50_000)
def place_of(texts: tuple[str, ...]) -> tuple[Word, ...]:
    """The words that name a town, district or region; words such as `city of` are left out if others remain."""
    known = vocabulary()
    kept = [
        one for one in texts if not (one in known.connecting or one in known.place_kind or any(map(str.isdigit, one)))
    ]
    return tuple(word(one) for one in kept or texts)
