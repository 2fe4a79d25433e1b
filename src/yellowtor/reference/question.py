"""A question as the index is searched for it: its keys, from the same parsing that judges answers."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

from yellowtor.addresses.parsing.parse import ParsedAddress
from yellowtor.addresses.parsing.vocabulary import vocabulary
from yellowtor.addresses.parsing.words import NO_STREET, NOTHING, Word, place_of, street_of
from yellowtor.addresses.readings import readings
from yellowtor.addresses.similarity import weight_of
from yellowtor.contracts.address import Address
from yellowtor.reference.hashing import code_number, pair_key, text_key
from yellowtor.reference.lookup_keys import NAME, PLACE, PLACE_WORD, POSTCODE, STREET, TOWN, postcode_text, whole_key
from yellowtor.reference.lookup_words import LookupWord, asked_words
from yellowtor.reference.spelling import Spelling

MOST_WORDS = 9  # of a line, the longest
MOST_SEGMENTS = 4  # of a line
MOST_JOINED = 4  # words of a name that may be written as one
Hit = tuple[int, float]  # a key, and what a street that has it is worth


@dataclass(frozen=True, slots=True)
class SearchedAddress:
    """An address to be found.

    streets and towns are the words that may be of a street's name and of a town's: those of a line may be of both.
    words (and their texts) are all of them, each with its weight, without those that are only a kind of street; kinds
    and postcode are compared apart. code is that of the country as code_number() has it; 0: it is unknown.
    """

    parsed: ParsedAddress
    streets: tuple[LookupWord, ...]
    towns: tuple[LookupWord, ...]
    words: tuple[tuple[Word, float], ...]
    texts: frozenset[str]
    kinds: frozenset[str]
    postcode: str
    code: int

    @property
    def number(self) -> str:
        """The likeliest house number."""
        return self.parsed.number


def questions_of(asked: Address) -> list[SearchedAddress]:
    """The questions about an address: one for each way to read it, the likeliest first."""
    return [_question(parsed) for parsed in readings(asked)]


def _question(parsed: ParsedAddress) -> SearchedAddress:
    named = _street_words(parsed.street)
    town = _town_words(parsed.town)
    streets, towns, kinds, words = named.lookup, town.lookup, named.kinds, {**named.words, **town.words}
    for segment in parsed.loose:
        one, other = _street_words(segment), _town_words(segment)
        streets += one.lookup + other.lookup
        towns += other.lookup
        kinds |= one.kinds
        words |= {**one.words, **{text: word for text, word in other.words.items() if text not in vocabulary().kinds}}
    return SearchedAddress(
        parsed,
        _longest(streets),
        _longest(towns),
        tuple((one, weight_of(text)) for text, one in words.items()),
        frozenset(words),
        kinds,
        postcode_text(parsed.postcode) if parsed.postcode else "",
        code_number(parsed.country),
    )


class _Name(NamedTuple):
    """A name of a question: what it is found by, its kinds of street, and its words by their texts."""

    lookup: tuple[LookupWord, ...]
    kinds: frozenset[str]
    words: Mapping[str, Word]


@lru_cache(maxsize=50_000)
def _street_words(texts: tuple[str, ...]) -> _Name:
    name = street_of(texts) if texts else NO_STREET
    return _Name(_lookup(name.core), name.kinds, {one.text: one for one in name.core})


@lru_cache(maxsize=50_000)
def _town_words(texts: tuple[str, ...]) -> _Name:
    core = place_of(texts) if texts else ()
    return _Name(_lookup(core), frozenset(), {one.text: one for one in core})


def _lookup(core: tuple[Word, ...]) -> tuple[LookupWord, ...]:
    return asked_words(core) if len(core) <= MOST_JOINED else asked_words(core)[: len(core)]


def _longest(words: tuple[LookupWord, ...]) -> tuple[LookupWord, ...]:
    found = tuple(dict.fromkeys(words))
    return found if len(found) <= MOST_WORDS else tuple(sorted(found, key=lambda one: -len(one.texts[0]))[:MOST_WORDS])


def whole_hits(question: SearchedAddress) -> list[Hit]:
    """The keys of a street's whole name in a town's whole name; in a line, of each pair of its segments."""
    parsed = question.parsed
    streets = [name for name in (parsed.street, *parsed.loose[:MOST_SEGMENTS]) if name]
    towns = [name for name in (parsed.town, *parsed.loose[:MOST_SEGMENTS]) if name]
    return [(whole_key(street, town), 1.0) for street in streets for town in towns if street is not town]


def street_hits(question: SearchedAddress, spelling: Spelling | None, known: frozenset[str] = NOTHING) -> list[Hit]:
    """The keys of streets: each word of the street with each of the town, and with the postcode.

    With spelling, the words of the index that are like those of the question, except for those that are known.
    """
    ones = _variants(STREET, question.streets, spelling, known)
    towns = _variants(TOWN, question.towns, spelling, known)
    whole = sum(one.weight for one in question.towns) or 1.0
    hits = []
    if question.postcode:
        code = text_key(POSTCODE, question.postcode)
        hits = [(pair_key(key, code), weight) for key, weight, _ in ones]
    for key, weight, text in ones:
        share = weight / whole
        hits += [(pair_key(key, other), share * own) for other, own, other_text in towns if text != other_text]
    return hits


def _variants(
    kind: str, words: Iterable[LookupWord], spelling: Spelling | None, known: frozenset[str] = NOTHING
) -> list[tuple[int, float, str]]:
    """The keys of words, with their weights and the words that they stand for."""
    if spelling is None:
        return [(text_key(kind, text), one.weight, one.texts[0]) for one in words for text in one.texts]
    found: dict[str, tuple[float, str]] = {}
    for one in words:
        for text in one.texts:
            near = ((text, 1.0),) if one.texts[0] in known else spelling.like(text)
            for other, value in near:
                if one.weight * value > found.get(other, (0.0, ""))[0]:
                    found[other] = (one.weight * value, one.texts[0])
    return [(text_key(kind, text), weight, own) for text, (weight, own) in found.items()]


def place_hits(question: SearchedAddress, spelling: Spelling | None) -> Iterator[Hit]:
    """The keys of places: the whole names, their words, and the postcode."""
    names = [question.parsed.town, *question.parsed.loose]
    if question.parsed.street and not question.parsed.number and not question.parsed.town:
        names.append(question.parsed.street)
    for name in names:
        if core := place_of(name) if name else ():
            yield text_key(PLACE, " ".join(one.text for one in core)), 40.0
    if question.postcode:
        yield text_key(POSTCODE, question.postcode), 15.0
    words = (*question.towns, *(question.streets if not question.towns else ()))
    yield from ((key, weight) for key, weight, _ in _variants(PLACE_WORD, words, spelling))


def name_hits(question: SearchedAddress, spelling: Spelling) -> Iterator[Hit]:
    """The key of the street's whole name in any town, if the question has a part that is the street."""
    for name in (question.parsed.street, *question.parsed.loose):
        core = street_of(name).core if name else ()
        texts = [(core[0].text, 1.0), *spelling.like(core[0].text)] if len(core) == 1 else []
        texts += [(" ".join(one.text for one in core), 1.0)] if core else []
        weight = sum(weight_of(one.text) for one in core)
        for text, value in texts:
            yield text_key(NAME, text), weight * value
