"""The keys by which streets and places are found, and the table of all of them.

A street has a key for each word of its name together with each word of its town, and with each of its postcodes: an
error in any one part leaves others. Streets and places have their numbers in one row: places follow streets.
"""

from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowtor.addresses.latin import latin
from yellowtor.addresses.parsing.words import place_of, street_of, words_of
from yellowtor.reference.csr import Lists, lists_of
from yellowtor.reference.hashing import Keys, pair_key, pair_keys, text_key
from yellowtor.reference.lookup_words import place_texts, street_texts
from yellowtor.reference.places import NO_STREETS, PlaceKind, PlaceRow

Ints = NDArray[Any]
STREET, TOWN, POSTCODE, COUNTRY = "street", "town", "postcode", "country"
NAME, FULL, WHOLE, PLACE, PLACE_WORD = "name", "full name", "whole", "place", "place word"
IN_POSTCODE = "in postcode"


class KeyTable:
    """Keys with their targets, gathered in arrays."""

    def __init__(self) -> None:
        self._keys: list[Keys] = []
        self._targets: list[Ints] = []

    def add(self, keys: Keys, targets: Ints) -> None:
        self._keys.append(keys)
        self._targets.append(targets.astype(np.int32))

    def arrays(self, sizes: NDArray[Any]) -> tuple[Keys, Ints]:
        """All keys in order, and their targets: those of one key by size, the largest first; each once."""
        keys, targets = np.concatenate(self._keys), np.concatenate(self._targets)
        order = np.lexsort((targets, -sizes[targets], keys))
        keys, targets = keys[order], targets[order]
        kept = np.ones(len(keys), bool)
        kept[1:] = (keys[1:] != keys[:-1]) | (targets[1:] != targets[:-1])
        return keys[kept], targets[kept]


@lru_cache(maxsize=50_000)
def postcode_text(text: str) -> str:
    """A postcode as it is found: without blanks, dashes and leading zeros, which spreadsheets drop."""
    plain = latin(text).replace(" ", "").replace("-", "")
    return plain.lstrip("0") or plain


def names_of(place: PlaceRow, texts: Sequence[str]) -> Iterator[tuple[str, ...]]:
    """The names of a place as words: its own and the alternative ones."""
    yield words_of(texts[place.name])
    for one in alternatives(texts[place.alternatives]):
        yield words_of(one)


def alternatives(text: str) -> list[str]:
    """The names in a cell."""
    return [one.strip() for one in text.replace("|", ";").split(";") if one.strip()]


def whole_key(street: tuple[str, ...], town: tuple[str, ...]) -> int:
    """The key of a street's whole name in a town's whole name."""
    return pair_key(text_key(FULL, full_name(street)), text_key(WHOLE, " ".join(town)))


def postcode_key(street: tuple[str, ...], postcode: str) -> int:
    """The key of a street's whole name with a postcode."""
    return pair_key(text_key(FULL, full_name(street)), text_key(POSTCODE, postcode_text(postcode)))


@lru_cache(maxsize=50_000)
def full_name(street: tuple[str, ...]) -> str:
    """A street's name with its kinds and its direction: one for Kelp St and Kelp Street."""
    name = street_of(street)
    return " ".join([*(one.text for one in name.core), "/", *sorted(name.kinds), name.direction])


def street_keys(
    table: KeyTable, texts: Sequence[str], arrays: Mapping[str, Ints], places: Sequence[PlaceRow]
) -> set[str]:
    """Add the keys of all streets; give back all words."""
    names, name_of = np.unique(arrays["street_name"], return_inverse=True)
    words = [words_of(texts[number]) for number in names.tolist()]
    found = [sorted(street_texts(one)) for one in words]
    streets = np.arange(len(name_of), dtype=np.int64)
    of_name = _keys(STREET, found)
    town_of = arrays["street_town"]
    town_names = [set(names_of(place, texts)) if place.streets != NO_STREETS else set() for place in places]
    in_town = [sorted({text for name in own for text in place_texts(name)}) for own in town_names]
    in_town.append([])  # of a street without a town: number -1
    of_town = _keys(TOWN, in_town)
    _add_pairs(table, streets, of_name, name_of, of_town, np.where(town_of < 0, len(places), town_of))
    districts, district_of = np.unique(arrays["street_district"], return_inverse=True)
    in_district = [sorted(place_texts(words_of(texts[number]))) for number in districts.tolist()]
    _add_pairs(table, streets, of_name, name_of, _keys(TOWN, in_district), district_of)
    street, postcode = _postcodes(arrays)
    codes, code_of = np.unique(postcode, return_inverse=True)
    of_code = _keys(POSTCODE, [[code] if (code := postcode_text(texts[number])) else [] for number in codes.tolist()])
    _add_pairs(table, street, of_name, name_of[street], of_code, code_of)
    inside = np.array([text_key(IN_POSTCODE, postcode_text(texts[number])) for number in codes.tolist()], np.uint64)
    table.add(inside[code_of], street)
    cores = [" ".join(core.text for core in street_of(one).core) for one in words]
    table.add(np.array([text_key(NAME, core) for core in cores], np.uint64)[name_of], streets)
    name_keys = np.array([text_key(FULL, full_name(one)) for one in words], np.uint64)
    own, code_keys = of_code.of(code_of)
    table.add(pair_keys(name_keys[name_of[street[own]]], code_keys), street[own])
    whole = [[text_key(WHOLE, " ".join(name)) for name in own] for own in town_names] + [[]]
    whole_of = lists_of(whole, np.uint64)
    own, keys = whole_of.of(np.where(town_of < 0, len(places), town_of))
    table.add(pair_keys(name_keys[name_of[own]], keys), own)
    return {text for own in (*found, *in_town, *in_district) for text in own}


def place_keys(table: KeyTable, texts: Sequence[str], places: Sequence[PlaceRow], streets: int) -> set[str]:
    """Add the keys of all places; give back all words."""
    keys: list[int] = []
    targets: list[int] = []
    words: set[str] = set()
    for at, place in enumerate(places):
        own = set()
        if place.kind is PlaceKind.POSTCODE:
            own.add(text_key(POSTCODE, postcode_text(texts[place.name])))
        else:
            for name in names_of(place, texts):
                core = place_of(name)
                own.add(text_key(PLACE, " ".join(one.text for one in core)))
                own |= {text_key(PLACE_WORD, text) for text in place_texts(name)}
                words |= place_texts(name)
        if place.kind is PlaceKind.TOWN and (code := postcode_text(texts[place.postcode])):
            own.add(text_key(POSTCODE, code))
        keys += own
        targets += [streets + at] * len(own)
    table.add(np.array(keys, np.uint64), np.array(targets, np.int64))
    return words


def _keys(kind: str, lists: Sequence[Sequence[str]]) -> Lists:
    return lists_of([[text_key(kind, text) for text in own] for own in lists], np.uint64)


def _postcodes(arrays: Mapping[str, Ints]) -> tuple[Ints, Ints]:
    """Each street with each of its postcodes."""
    pairs = np.unique((arrays["house_key"] >> 24 << 32) + arrays["house_postcode"])
    street, postcode = pairs >> 32, pairs & 0xFFFFFFFF
    return street[postcode > 0], postcode[postcode > 0]


def _add_pairs(table: KeyTable, streets: Ints, ones: Lists, one_of: Ints, others: Lists, other_of: Ints) -> None:
    """Add the pairs of each street: of each key in its one list with each in its other list."""
    own, left = ones.of(one_of)
    again, right = others.of(other_of[own])
    table.add(pair_keys(left[again], right), streets[own[again]])
