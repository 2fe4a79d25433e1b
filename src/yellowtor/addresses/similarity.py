"""How alike two names are: word by word, with abbreviations, words of one meaning, and typing errors."""

from functools import lru_cache

from rapidfuzz.distance import OSA

from yellowtor.addresses.parsing.words import Word, is_nearly_attached

AGREES = 0.97  # names that are at least so alike are one: the rest is spelling
SHORTENED = 0.9  # a short word may abbreviate a longer one (hbr), or be a word of its own
INITIAL = 0.75  # a first letter with a dot; alone it says nothing
OTHER_BEGINNING = 0.1  # few typing errors are in the first letter
BEGINNING = 0.85  # so may a long beginning of a word
CUT_OFF = 0.6  # but people abbreviate, and services do not: Holmby is hardly Holm
BEGINNING_OF_PLACE = 0.6  # which is mostly another place: Holm, Holmby


@lru_cache(maxsize=50_000)
def similar(
    asked: tuple[Word, ...],
    answered: tuple[Word, ...],
    answer_words: tuple[Word, ...] = (),
    asked_words: tuple[Word, ...] = (),
    beginning: float = BEGINNING,
) -> float:
    """Agreement of two names: half that of the whole, half that of the worst word that found a partner.

    A word without a partner is left out if it is explained by another part of the other side.
    """
    if not asked or not answered:
        return 0.0
    if asked == answered:
        return 1.0
    if "".join(one.text for one in asked) == "".join(one.text for one in answered):
        return AGREES
    pairs = sorted(
        (
            (alike(one, other, beginning), -abs(i - j), i, j)
            for i, one in enumerate(asked)
            for j, other in enumerate(answered)
        ),
        reverse=True,
    )
    left: dict[int, float] = {}
    right: dict[int, float] = {}
    for value, _, i, j in pairs:
        if value > 0 and i not in left and j not in right:
            left[i] = right[j] = value
    if not left or max(left.values()) <= INITIAL:
        return 0.0
    total = matched = 0.0
    for words, found, elsewhere in ((asked, left, answer_words), (answered, right, asked_words)):
        for at, one in enumerate(words):
            if at in found or not any(alike(one, other) > 0.9 for other in elsewhere):
                total += weight_of(one.text)
                matched += weight_of(one.text) * found.get(at, 0.0)
    mean = matched / total if total else 0.0
    return round((mean + min(*left.values(), mean)) / 2, 3)


def weight_of(text: str) -> float:
    """How much a word counts: a long one says more than a short one."""
    return min(len(text), 8) + 1.0


@lru_cache(maxsize=100_000)
def alike(one: Word, other: Word, beginning: float = BEGINNING) -> float:
    """How far two words are one: equal, of one meaning, abbreviated, or with a typing error; else 0."""
    if one.text == other.text:
        return 1.0
    if one.meanings & other.meanings:
        return 0.99
    short, long = sorted((one.text, other.text), key=len)
    if any(map(str.isdigit, short + long)):
        return 0.0
    if len(short) == 1 and len(long) > 2 and long[0] == short:
        return INITIAL
    if len(short) >= 2 and len(long) >= len(short) + 2 and abbreviates(short, long):
        if len(short) >= 4 and other.text == short and not is_nearly_attached(long[len(short) :]):
            return min(beginning, CUT_OFF)
        return SHORTENED if len(short) < 4 else beginning
    allowed = 0 if len(long) < 4 else 1 if len(long) < 11 else 2 if len(long) < 17 else 3
    distance = OSA.distance(short, long, score_cutoff=allowed)
    if distance > allowed:
        return 0.0
    return 1 - distance / len(long) - (OTHER_BEGINNING if short[0] != long[0] else 0.0)


def abbreviates(short: str, long: str) -> bool:
    """Whether short is long cut off (str, street), its consonants (ln, lane), or contracted (rd, road)."""
    if long.startswith(short):
        return True
    if len(short) > 4:
        return False
    consonants = long[0] + "".join(letter for letter in long[1:] if letter not in "aeiou")
    if short[0] != long[0] or (short[-1] != long[-1] and short != consonants):
        return False
    letters = iter(long)
    return all(letter in letters for letter in short)
