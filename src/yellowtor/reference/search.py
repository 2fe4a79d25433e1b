"""The search: candidates for many questions at once, in rounds that ask for less and less agreement.

1. plain questions: the street in the very words of the index, in the town or with the postcode;
2. the whole names of street and town, after parsing;
3. pairs of words: each word of the street with each word of the town and with the postcode;
4. the same with the words of the index that are like those of the question;
5. the streets of the town or the postcode, each compared with the question; the street's name in any town;
6. places: the town, the district, the postcode, the region.

A question that an earlier round answers does not enter the next. The keys of all questions are looked up together.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache, partial
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from rapidfuzz import fuzz, process

from yellowtor.addresses.parsing.house_number import house_number
from yellowtor.addresses.parsing.plain import plain_street
from yellowtor.addresses.parsing.words import Word, street_of, words_of
from yellowtor.addresses.similarity import alike
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Position
from yellowtor.reference.candidates import of_place, of_plain, of_street
from yellowtor.reference.columns import MOST_NUMBER
from yellowtor.reference.field_names import LIST, NAME, PLACE, SPELLING, WHOLE_NAMES, WORDS
from yellowtor.reference.hashing import code_number, text_key
from yellowtor.reference.index import ReferenceIndex
from yellowtor.reference.lookup_keys import IN_POSTCODE, postcode_key, whole_key
from yellowtor.reference.nearby import near
from yellowtor.reference.question import (
    Hit,
    SearchedAddress,
    name_hits,
    place_hits,
    questions_of,
    street_hits,
    whole_hits,
)
from yellowtor.reference.spelling import Spelling

Ints = NDArray[Any]
ANOTHER_COUNTRY = 0.3  # what is left of the worth of a place in another country than asked
FOUND = 0.8  # explained of the question: below, a street is looked for more widely
BEHIND = 0.4  # in the rank: what is so far behind the best is no candidate
LEAST_WORTH = 0.4  # of that of the best: what is worth less is not compared
TOP = 8  # streets or places of a round that are compared
MOST = 5  # that are candidates
LEAST = 0.45  # explained of the question: a street that explains less is no candidate
LEAST_LIKE = 0.6  # two words that are less alike are different
COMPLETE = 0.985  # explained of the question: nothing else is looked for
POSTCODE_WEIGHT = 8.0  # beside words, which count their letters and one
LIKE = 72.0  # of 100: a street's name that is less alike is another one
MOST_STREETS = 20_000  # of a town, that are compared one by one
MOST_TOWNS = 3  # whose streets are compared


class Ranked(NamedTuple):
    """A street with its rank; explained is the share of the question's words that it explains, 0 to 1.

    whole: nothing of the names and the postcode differs; number: it has the house number.
    """

    rank: float
    explained: float
    whole: bool
    number: bool
    street: int
    by: str


@dataclass
class _Open:
    """A question, and the streets and places that were found for it so far, the best first."""

    question: SearchedAddress
    streets: list[Ranked] = field(default_factory=list)
    places: list[int] = field(default_factory=list)

    @property
    def is_whole(self) -> bool:
        return bool(self.streets) and self.streets[0].whole

    @property
    def rank(self) -> float:
        return self.streets[0].rank if self.streets else 0.0

    @property
    def explained(self) -> float:
        return self.streets[0].explained if self.streets else 0.0


class Search:
    """Searches an index. widely: also for what is alike, if something fits in everything.

    countries are the codes (ISO 3166-1 alpha-2) of those in which answers may be; empty: any.
    """

    def __init__(self, index: ReferenceIndex, countries: Sequence[str] = (), *, widely: bool = False) -> None:
        self._index = index
        self._widely = widely
        self._codes = np.array([0, *(code_number(code) for code in countries)], np.uint16)
        self._listed_in = lru_cache(maxsize=300)(self._listed)

    def find(self, asked: Sequence[Address]) -> list[list[Candidate]]:
        """The candidates for each address, the likeliest first; none if nothing of it is known."""
        found = [[] for _ in asked] if self._widely else self._plainly(asked)
        left = [at for at, candidates in enumerate(found) if not candidates]
        asked_about = [questions_of(asked[at]) for at in left]
        messy = [_Open(question) for questions in asked_about for question in questions]
        spelling = self._index.spelling
        self._round(messy, lambda one: whole_hits(one.question), WHOLE_NAMES)
        partly = [one for one in messy if self._widely or not one.is_whole]
        self._round(partly, lambda one: street_hits(one.question, None), WORDS)
        unknown = [one for one in messy if self._widely or not self._knows_words(one)]
        self._round(unknown, lambda one: street_hits(one.question, spelling, self._known_of(one)), SPELLING)
        self._compare_lists([one for one in messy if one.explained < FOUND])
        vague = [one for one in messy if one.explained < FOUND]
        self._round(vague, lambda one: name_hits(one.question, spelling), NAME)
        self._add_places([one for one in vague if one.explained < FOUND])
        begin = 0
        for at, questions in zip(left, asked_about, strict=True):
            one = max(messy[begin : begin + len(questions)], key=lambda read: read.rank)
            found[at] = self._candidates(one)
            begin += len(questions)
        return found

    def near(self, here: Position, within_m: float) -> list[Candidate]:
        """The nearest addresses, the nearest first; none farther than within_m."""
        return near(self._index, here, within_m)

    def _plainly(self, asked: Sequence[Address]) -> list[list[Candidate]]:
        """The candidates of the plain questions whose street is in the index as it is, in the town or the postcode."""
        keys: list[int] = []
        owners: list[tuple[int, bool]] = []
        plain = [plain_street(address) for address in asked]
        for at, (address, parts) in enumerate(zip(asked, plain, strict=True)):
            if parts and address.town:
                keys.append(whole_key(parts[0], words_of(address.town)))
                owners.append((at, True))
            if parts and address.postcode:
                keys.append(postcode_key(parts[0], address.postcode))
                owners.append((at, False))
        named: dict[int, tuple[list[int], list[int]]] = {}
        places, targets = self._within(*self._index.targets(keys))
        for place, street in zip(places.tolist(), targets.tolist(), strict=True):
            at, by_town = owners[place]
            named.setdefault(at, ([], []))[0 if by_town else 1].append(street)
        found: list[list[Candidate]] = [[] for _ in asked]
        for at, (in_town, in_postcode) in named.items():
            number = plain[at][1]  # type: ignore[index]
            found[at] = list(of_plain(self._index, asked[at], number, in_town, in_postcode))
        return found

    def _round(self, open_: Sequence[_Open], hits: Callable[[_Open], Iterable[Hit]], by: str) -> None:
        """Look the keys of these questions up, and rank what has them."""
        questions = [one.question for one in open_]
        targets = [[one for one in mine if one < self._index.streets] for mine in self._best_targets(open_, hits)]
        has_number = self._have_number(questions, targets)
        for at, (one, mine) in enumerate(zip(open_, targets, strict=True)):
            self._add(one, mine, by, frozenset(street for street in mine if (at, street) in has_number))

    def _knows_words(self, one: _Open) -> bool:
        """Whether the best street explains all words as they are, if not the postcode."""
        return bool(one.streets) and one.question.texts <= self._index.street(one.streets[0].street).texts

    def _known_of(self, one: _Open) -> frozenset[str]:
        """The words that the best street explains as they are."""
        if self._widely or not one.streets:
            return frozenset()
        return one.question.texts & self._index.street(one.streets[0].street).texts

    def _add(self, one: _Open, streets: Iterable[int], by: str, with_number: frozenset[int] | None = None) -> None:
        """Rank these streets among those that were found for a question."""
        known = {ranked.street for ranked in one.streets}
        mine = [street for street in streets if street not in known]
        if with_number is None:
            with_number = frozenset(street for _, street in self._have_number([one.question], [mine]))
        new: list[Ranked] = []
        for street in mine:  # the best first: after one that fits in everything, only such ones
            new.append(self._ranked(one.question, street, by, number=street in with_number))
            if new[0].whole and not new[-1].whole and not self._widely:
                break
        one.streets = sorted([*one.streets, *new], key=lambda ranked: (-ranked.rank, ranked.street))[:TOP]

    def _best_targets(self, open_: Sequence[_Open], hits: Callable[[_Open], Iterable[Hit]]) -> list[list[int]]:
        """For each question the targets that its keys are worth most, at most TOP of them."""
        keys: list[int] = []
        worths: list[float] = []
        owners: list[int] = []
        for at, one in enumerate(open_):
            if own := list(hits(one)):
                mine, worth = zip(*own, strict=True)
                keys += mine
                worths += worth
                owners += [at] * len(own)
        result: list[list[int]] = [[] for _ in open_]
        if not keys:
            return result
        place, target = self._within(*self._index.targets(np.array(keys, np.uint64)))
        if not len(place):
            return result
        owner = np.array(owners, np.int64)[place]
        worth_of = np.array(worths)[place]
        country = np.array([one.question.code for one in open_], np.uint16)[owner]
        there = self._index.codes[target]
        worth_of[(country > 0) & (there > 0) & (country != there)] *= ANOTHER_COUNTRY
        both, inverse = np.unique((owner << 32) + target, return_inverse=True)
        total = np.bincount(inverse, worth_of)
        owner = both >> 32
        size = self._index.arrays["size"][both & 0xFFFFFFFF]
        order = np.lexsort((-size, -np.round(total, 6), owner))
        owner = owner[order]
        starts = np.concatenate([[True], owner[1:] != owner[:-1]])
        first = np.maximum.accumulate(np.where(starts, np.arange(len(owner)), 0))
        total = total[order]
        kept = (np.arange(len(owner)) - first < TOP) & (total >= LEAST_WORTH * total[first])
        for at, found in zip(owner[kept].tolist(), (both[order][kept] & 0xFFFFFFFF).tolist(), strict=True):
            result[at].append(found)
        return result

    def _within(self, places: Ints, targets: Ints) -> tuple[Ints, Ints]:
        """Those targets that are in the countries that are allowed."""
        if len(self._codes) == 1:
            return places, targets
        kept = np.isin(self._index.codes[targets], self._codes)
        return places[kept], targets[kept]

    def _have_number(
        self, questions: Sequence[SearchedAddress], targets: Sequence[Sequence[int]]
    ) -> set[tuple[int, int]]:
        """The questions (by place) with the streets that have a house of the number."""
        wanted = [
            (at, target, number.low)
            for at, (question, mine) in enumerate(zip(questions, targets, strict=True))
            if question.number and (number := house_number(question.number)) and number.low <= MOST_NUMBER
            for target in mine
        ]
        if not wanted:
            return set()
        keys = np.array([(target << 24) + low + 1 for _, target, low in wanted], np.int64)
        held = self._index.arrays["house_key"]
        at = np.searchsorted(held, keys)
        before = np.maximum(at - 1, 0)  # a range of numbers begins below
        within = (held[before] >> 24 == keys >> 24) & (held[before] + self._index.arrays["house_range"][before] >= keys)
        there = (held[np.minimum(at, len(held) - 1)] == keys) | within
        return {(place, target) for (place, target, _), has in zip(wanted, there.tolist(), strict=True) if has}

    def _ranked(self, question: SearchedAddress, street: int, by: str, *, number: bool) -> Ranked:
        """How well a street fits: by its words and its postcode; then its kind, its number, and words not asked."""
        known = self._index.street(street)
        total = explained = 0.0
        for one, weight in question.words:
            total += weight
            explained += weight if one.text in known.texts else weight * _most_alike(one, known.words)
        if question.postcode and known.postcodes:
            total += POSTCODE_WEIGHT
            explained += POSTCODE_WEIGHT * (question.postcode in known.postcodes)
        share = explained / total if total else 0.0
        core = known.name.core
        open_ = sum(
            one.text not in question.texts and all(alike(asked, one) < LEAST_LIKE for asked, _ in question.words)
            for one in core
        )
        other_kind = bool(question.kinds and known.name.kinds and not question.kinds & known.name.kinds)
        abroad = bool(question.code and known.code and question.code != known.code)
        rank = share - 0.2 * open_ / max(1, len(core)) + 0.15 * number - 0.2 * other_kind - 0.5 * abroad
        whole = share >= COMPLETE and not (open_ or other_kind or abroad)
        return Ranked(rank, share, whole, number, street, by)

    def _compare_lists(self, open_: Sequence[_Open]) -> None:
        """Compare the names of the streets in the town and the postcode with the question's, one by one."""
        targets = self._best_targets(open_, partial(_place_hits, self._index.spelling))
        for one, mine in zip(open_, targets, strict=True):
            wanted = _street_text(one.question)
            if not wanted:
                continue
            towns = [place for place in self._of_places(mine) if self._index.arrays["place_last"][place]][:MOST_TOWNS]
            lists = [self._listed_in(place) for place in towns]
            if one.question.postcode:
                lists.append(self._listed_with(one.question.postcode))
            near = {
                streets[at]
                for texts, streets in lists
                for _, _, at in process.extract(wanted, texts, scorer=fuzz.ratio, score_cutoff=LIKE, limit=MOST)
            }
            within = self._within(np.zeros(len(near), np.int64), np.array(sorted(near), np.int64))[1].tolist()
            self._add(one, within, LIST)

    def _listed(self, place: int) -> tuple[list[str], list[int]]:
        """The names of a town's streets, and their numbers."""
        first, last = int(self._index.arrays["place_first"][place]), int(self._index.arrays["place_last"][place])
        return self._named(range(first, min(last, first + MOST_STREETS)))

    def _listed_with(self, postcode: str) -> tuple[list[str], list[int]]:
        """The names of a postcode's streets, and their numbers."""
        return self._named(self._index.targets([text_key(IN_POSTCODE, postcode)], MOST_STREETS)[1].tolist())

    def _named(self, streets: Iterable[int]) -> tuple[list[str], list[int]]:
        numbers = list(streets)
        names = self._index.arrays["street_name"][np.array(numbers, np.int64)].tolist()
        return [self._index.core(name) for name in names], numbers

    def _add_places(self, open_: Sequence[_Open]) -> None:
        """Look for the places that the questions name: as they are written, then with errors."""
        for spelling in (None, self._index.spelling):
            without = [one for one in open_ if not one.places]
            targets = self._best_targets(without, partial(_place_hits, spelling))
            for one, mine in zip(without, targets, strict=True):
                one.places = self._of_places(mine)[:MOST]

    def _of_places(self, targets: Sequence[int]) -> list[int]:
        return [target - self._index.streets for target in targets if target >= self._index.streets]

    def _candidates(self, one: _Open) -> list[Candidate]:
        behind = 0.0 if one.is_whole and one.streets[0].number and not self._widely else BEHIND
        kept = [best for best in one.streets if best.rank >= one.rank - behind and best.explained >= LEAST]
        found = [c for best in kept[:MOST] for c in of_street(self._index, best.street, one.question, best.by)]
        return found + [of_place(self._index, place, one.question, PLACE) for place in one.places]


def _place_hits(spelling: Spelling | None, one: _Open) -> Iterable[Hit]:
    return place_hits(one.question, spelling)


def _most_alike(asked: Word, words: Iterable[Word]) -> float:
    return max((alike(asked, one) for one in words), default=0.0)


def _street_text(question: SearchedAddress) -> str:
    """The words of the street's name as one text; of a line, those of its first part."""
    name = question.parsed.street or next(iter(question.parsed.loose), ())
    return "".join(one.text for one in street_of(name).core) if name else ""
