"""The words by which a name of the index is found, from the same parsing that judges answers.

A word is found by its text and by its meanings: 1st and first by 1, st by saint. A name of several words is found as
one word too (Sea View, Seaview), and a compound with its kind of street unsplit (kelpstrasse, for its misspellings).
"""

from functools import lru_cache
from typing import NamedTuple

from yellowtor.addresses.parsing.vocabulary import vocabulary
from yellowtor.addresses.parsing.words import NO_STREET, Word, place_of, street_of
from yellowtor.addresses.similarity import weight_of


class LookupWord(NamedTuple):
    """A word of a question: the texts that it is found by, and how much it counts."""

    texts: tuple[str, ...]
    weight: float


@lru_cache(maxsize=100_000)
def meant_by(one: Word) -> tuple[str, ...]:
    """The texts that a word is found by."""
    kinds = vocabulary().kinds
    return (one.text, *(meaning for meaning in sorted(one.meanings) if meaning not in kinds and meaning != one.text))


@lru_cache(maxsize=50_000)
def street_texts(words: tuple[str, ...]) -> frozenset[str]:
    """All texts by which a street of the index is found."""
    core = street_of(words).core if words else NO_STREET.core
    unsplit = {text for text in words if len(core) == 1 and text != core[0].text and text.startswith(core[0].text)}
    return frozenset([text for one in core for text in meant_by(one)]) | unsplit | joined(core)


@lru_cache(maxsize=50_000)
def place_texts(words: tuple[str, ...]) -> frozenset[str]:
    """All texts by which a town, district or region of the index is found."""
    core = place_of(words)
    return frozenset([text for one in core for text in meant_by(one)]) | joined(core)


def joined(core: tuple[Word, ...]) -> frozenset[str]:
    """A name of several words as one."""
    return frozenset(["".join(one.text for one in core)]) if len(core) > 1 else frozenset()


@lru_cache(maxsize=50_000)
def asked_words(core: tuple[Word, ...]) -> tuple[LookupWord, ...]:
    """The words of a question's name, and the name as one word."""
    words = [LookupWord(meant_by(one), weight_of(one.text)) for one in core]
    whole = [LookupWord((text,), sum(one.weight for one in words)) for text in joined(core)]
    return (*words, *whole)
