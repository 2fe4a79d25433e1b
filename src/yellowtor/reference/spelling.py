"""The words of an index, found in spite of errors: typing errors, abbreviations, compounds cut off.

Two words with one error between them share the word itself or one without one of its letters; of long words with two
errors, most share their first or their last letters. Whatever is found is then compared as judging compares it.
"""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowtor.addresses.parsing.words import Word, word
from yellowtor.addresses.similarity import alike
from yellowtor.reference.hashing import text_key

LEAST = 4  # letters of a word in which an error is looked for
LONG = 11  # letters from which a word may have two errors
ENDS = 5  # letters at each end of a long word
LIKE = 0.6  # a word that is less alike is another one
SURE = 0.8  # a word so alike is the one: abbreviations and compounds are not looked for
LONGEST_SHORT = 7  # letters of an abbreviation
MOST = 6  # words for one that is not known
BUCKET = 400  # words with one key that are compared


def misspelled(text: str) -> Iterator[str]:
    """The texts by which a word with an error is found: each is hashed."""
    yield text
    if len(text) < LEAST or not text.isalpha():
        return
    for at in range(len(text)):
        if not at or text[at] != text[at - 1]:
            yield text[:at] + text[at + 1 :]
    if len(text) >= LONG:
        yield f"{text[:ENDS]}…"
        yield f"…{text[-ENDS:]}"


def word_table(words: Sequence[str]) -> tuple[NDArray[Any], NDArray[Any]]:
    """The keys of these words (sorted) and the number of the word of each."""
    keys = []
    numbers = []
    key_of = text_key.__wrapped__
    for number, text in enumerate(words):
        for one in misspelled(text):
            keys.append(key_of("w", one))
            numbers.append(number)
    key = np.array(keys, np.uint64)
    order = np.argsort(key, kind="stable")
    return key[order], np.array(numbers, np.int32)[order]


class Spelling:
    """Finds words. texts is the sorted list of all of them."""

    def __init__(self, keys: NDArray[Any], numbers: NDArray[Any], texts: Sequence[str]) -> None:
        self._keys = keys
        self._numbers = numbers
        self._texts = texts
        self._known: dict[str, tuple[tuple[str, float], ...]] = {}

    def like(self, text: str) -> tuple[tuple[str, float], ...]:
        """Words of the index like this one, the likest first, each with how alike they are, 0 to 1."""
        found = self._known.get(text)
        if found is None:
            if len(self._known) > 200_000:
                self._known.clear()
            found = self._known[text] = tuple(self._find(text))
        return found

    def _find(self, text: str) -> list[tuple[str, float]]:
        asked = word(text)
        found = _scored(asked, self._with_keys(misspelled(text)))
        if not found or found[0][1] < SURE:
            beginnings = {text[:length] for length in range(LEAST, len(text) - 1)} if text.isalpha() else set()
            near = {*self._longer(text), *(beginnings & self._with_keys(sorted(beginnings)))}
            found = sorted({*found, *_scored(asked, near)}, key=_first)
        return found[:MOST]

    def _with_keys(self, texts: Iterable[str]) -> set[str]:
        """The words that have the keys of these texts."""
        keys = np.array([text_key.__wrapped__("w", one) for one in texts], np.uint64)
        low = self._keys.searchsorted(keys, "left").tolist()
        high = self._keys.searchsorted(keys, "right").tolist()
        spans = [(a, min(b, a + BUCKET)) for a, b in zip(low, high, strict=True) if b > a]
        return {self._texts[number] for a, b in spans for number in self._numbers[a:b].tolist()}

    def _longer(self, text: str) -> Iterator[str]:
        """Words that begin with this one, which may abbreviate them."""
        if not 3 <= len(text) <= LONGEST_SHORT or not text.isalpha():
            return
        at = self._place(text)
        for one in range(at, min(at + 2 * MOST, len(self._texts))):
            if not (longer := self._texts[one]).startswith(text):
                return
            yield longer

    def _place(self, text: str) -> int:
        low, high = 0, len(self._texts)
        while low < high:
            middle = (low + high) // 2
            if self._texts[middle] < text:
                low = middle + 1
            else:
                high = middle
        return low


def _scored(asked: Word, words: Iterable[str]) -> list[tuple[str, float]]:
    """Those of the words that are like the one that is asked, the likest first."""
    found = [(one, value) for one in words if (value := alike(asked, word(one))) >= LIKE]
    return sorted(found, key=_first)


def _first(found: tuple[str, float]) -> tuple[float, str]:
    return -found[1], found[0]
