"""An index, open: its arrays are memory maps, shared by all processes of the machine."""

from collections.abc import Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from yellowtor.addresses.parsing.words import StreetName, Word, place_of, street_of, words_of
from yellowtor.contracts.position import Position
from yellowtor.reference.csr import ranges
from yellowtor.reference.index_files import TextList, read_index
from yellowtor.reference.lookup_keys import alternatives, postcode_text
from yellowtor.reference.spelling import Spelling
from yellowtor.reference.streets import UNIT

Ints = NDArray[Any]
MOST_TARGETS = 150  # of one key, the largest
REMEMBERED = 50_000  # streets, and places


class IndexedPlace(NamedTuple):
    """The texts of a place: its name, its alternative names, what it is within, its region, its country."""

    name: str
    others: tuple[str, ...]
    within: str
    region: str
    country: str


NOWHERE = IndexedPlace("", (), "", "", "")


class IndexedStreet(NamedTuple):
    """What is compared and shown of a street.

    words are those of its name, its town, its district and its region; postcodes as postcode_text() has them; code is
    that of the country.
    """

    text: str
    district: str
    town: IndexedPlace
    name: StreetName
    words: tuple[Word, ...]
    texts: frozenset[str]
    postcodes: frozenset[str]
    code: int


class ReferenceIndex:
    """An index to search in: its arrays, and what its head says."""

    def __init__(self, arrays: Mapping[str, Ints], head: Mapping[str, Any]) -> None:
        self.arrays = arrays
        self.head = head
        self.texts = TextList(arrays["text_letters"], arrays["text_starts"])
        words = TextList(arrays["word_letters"], arrays["word_starts"])
        self.spelling = Spelling(arrays["near_key"], arrays["near_word"], words)
        self.streets = len(arrays["street_name"])
        self.places = len(arrays["place_name"])
        codes = arrays["place_code"]
        town = arrays["street_town"]
        of_town = codes[np.maximum(town, 0)] if self.places else np.zeros(self.streets, np.uint16)
        self.codes = np.concatenate([np.where(town < 0, 0, of_town), codes]).astype(np.uint16)
        self.has_ids = len(arrays["house_id"]) > 0
        self.core = lru_cache(maxsize=REMEMBERED)(self._read_core)
        self.street = lru_cache(maxsize=REMEMBERED)(self._read_street)
        self.place = lru_cache(maxsize=REMEMBERED)(self._read_place)

    @classmethod
    def open(cls, folder: Path) -> "ReferenceIndex":
        """The index in a folder. Raises BadSource if it can't be read."""
        return cls(*read_index(folder))

    def targets(self, keys: Sequence[int] | Ints, most: int = MOST_TARGETS) -> tuple[Ints, Ints]:
        """For each key the streets and places that have it: the place of the key in the list, and the target."""
        wanted = np.asarray(keys, np.uint64)
        low = np.searchsorted(self.arrays["key"], wanted, "left")
        high = np.searchsorted(self.arrays["key"], wanted, "right")
        counts = np.minimum(high - low, most)
        at = np.repeat(np.arange(len(wanted)), counts)
        return at, self.arrays["target"][ranges(low, counts)]

    def text(self, name: str, at: int) -> str:
        """A text of a street, house or place, by the name of its array."""
        return self.texts.text(self.arrays[name].item(at))

    def position(self, kind: str, at: int) -> Position:
        """Where a `street`, a `house` or a `place` is."""
        return Position(self.arrays[f"{kind}_lat"].item(at) / UNIT, self.arrays[f"{kind}_lon"].item(at) / UNIT)

    def _read_core(self, name: int) -> str:
        """The words of a street's name, by the number of its text, as one: many towns have streets of one name."""
        return "".join(one.text for one in street_of(words_of(self.texts.text(name))).core)

    def _read_place(self, place: int) -> IndexedPlace:
        others = tuple(alternatives(self.text("place_alternatives", place)))
        name, *parts = (self.text(f"place_{part}", place) for part in ("name", "within", "region", "country"))
        return IndexedPlace(name, others, *parts)

    def _read_street(self, street: int) -> IndexedStreet:
        text = self.text("street_name", street)
        name = street_of(words_of(text))
        place = self.arrays["street_town"].item(street)
        town = self.place(place) if place >= 0 else NOWHERE
        district = self.text("street_district", street)
        names = [district, town.name, town.region, *town.others]
        words = (*name.core, *(one for text in names if text for one in place_of(words_of(text))))
        begin, end = self.arrays["house_starts"][street : street + 2].tolist()
        codes = set(self.arrays["house_postcode"][begin:end].tolist()) - {0}
        postcodes = frozenset(postcode_text(self.texts.text(code)) for code in codes)
        texts = frozenset([one.text for one in words])
        return IndexedStreet(text, district, town, name, words, texts, postcodes, self.codes.item(street))
