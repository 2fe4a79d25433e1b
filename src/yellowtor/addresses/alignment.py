"""Aligns a question's address with the place that was answered: each word is explained, contradicts, or stays open.

Agreement of a part is from 0 (contradiction) to 1 (equal), or None if one side lacks the part. Parts, addresses in one
line, misplaced parts and answers that are only a label go through the same code: words whose part is not certain are
compared with every part of the other side.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import NamedTuple

from yellowtor.addresses.answered_place import AnsweredPlace, answered_place, words_beside
from yellowtor.addresses.codes import countries_agree, postcodes_agree
from yellowtor.addresses.parsing.countries import region_codes, regions_agree
from yellowtor.addresses.parsing.house_number import NumberMatch, match_numbers
from yellowtor.addresses.parsing.parse import ParsedAddress
from yellowtor.addresses.parsing.words import (
    NO_STREET,
    NOTHING,
    StreetName,
    Word,
    place_of,
    street_of,
    word,
    words_of,
)
from yellowtor.addresses.similarity import AGREES, BEGINNING_OF_PLACE, alike, similar, weight_of

EXPLAINED = 0.7  # a word that is less alike is unexplained
IN_REGION = 0.7  # a town's name that is only the answered region's
GOOD = 0.85  # a name that is less alike is another one
ELSEWHERE = 0.9  # a name that is confirmed by another part of the answer


class WordMark(NamedTuple):
    """A word of the question: its part (empty if it is uncertain), and how far the answer explains it, 0 to 1."""

    part: str
    text: str
    explained: float


@dataclass(frozen=True, slots=True)
class Alignment:
    """Agreement of each part, 0 to 1; None if it is unknown.

    asked names the parts that the question has. kind and direction are those of the street: False for another one.
    unexplained is the share of the question's words that nothing in the answer explains; marks are all of them.
    """

    number: float | None = None
    street: float | None = None
    town: float | None = None
    postcode: float | None = None
    region: float | None = None
    country: float | None = None
    kind: bool | None = None
    direction: bool | None = None
    unexplained: float = 0.0
    asked: frozenset[str] = NOTHING
    answered_number: bool = False
    answered_street: bool = False
    number_gap: int = 0
    number_reason: str = ""
    marks: tuple[WordMark, ...] = ()


def align(asked: ParsedAddress, answered: Mapping[str, str]) -> Alignment:
    """Align a question with the parts of a place; answered may have `country_code` and `label`, too.

    The label of a place with parts is read only if the parts do not explain the whole question.
    """
    place = answered_place(answered, asked.country)
    found = _align(asked, place)
    if not place.label or (
        not found.unexplained and all(_agrees(part) for part in (found.street, found.town, found.region))
    ):
        return found
    others = words_beside(place.label, place.street.core + place.town + place_of(words_of(place.region)))
    return _align(asked, place._replace(others=others)) if others else found


def _agrees(value: float | None) -> bool:
    return value is None or value >= AGREES


def _marks(parts: Iterable[tuple[str, tuple[Word, ...]]], answer_words: tuple[Word, ...]) -> tuple[WordMark, ...]:
    """Each word with how far the answer explains it."""
    texts = {one.text for one in answer_words}
    return tuple(
        [
            WordMark(
                part,
                one.text,
                1.0 if one.text in texts else max((alike(one, other) for other in answer_words), default=0.0),
            )
            for part, words in parts
            for one in words
        ]
    )


def _unexplained(marks: Iterable[WordMark], differing: Mapping[str, bool]) -> float:
    """The share of the words that nothing explains, without those of parts that differ anyway."""
    total = unexplained = 0.0
    for mark in marks:
        weight = weight_of(mark.text)
        total += weight
        if mark.explained < EXPLAINED and not differing.get(mark.part):
            unexplained += weight
    return unexplained / total if total else 0.0


def _align(asked: ParsedAddress, place: AnsweredPlace) -> Alignment:
    street = street_of(asked.street) if asked.street else NO_STREET
    town = place_of(asked.town) if asked.town else ()
    region = place_of(asked.region) if asked.region else ()
    loose = [place_of(segment) for segment in asked.loose]
    if not street.core and asked.loose:
        street, loose = _street_among(asked, loose, place)
    elif loose and place.street.core and similar(street.core, place.street.core) < GOOD:
        street, loose = _other_street(street, asked, loose, place)
    if not town and loose:
        town, loose = _town_among(loose, place)
    region_value = _region(asked.region, place)
    if not region and loose:
        region_value, loose = _region_among(loose, place)
    region_words = place_of(words_of(place.region))
    answer_words = (*place.street.core, *place.town, *region_words, *place.others, *place.country_words)
    asked_words = tuple(chain(town, region, *loose))
    number, numbers_left = _number(asked.numbers, place)
    street_value, kind, direction = _street(street, place.street, answer_words, asked_words, numbers_left)
    town_value = _town(town, place, asked_words)
    marks = _marks((("street", street.core), ("town", town), *(("", one) for one in loose)), answer_words)
    differing = {"street": street_value is not None and street_value < GOOD}
    differing["town"] = bool(street.core) and town_value is not None and town_value < ELSEWHERE
    parts = {"number": asked.numbers, "street": street.core, "town": town, "postcode": asked.postcode,
             "region": region, "country": asked.country}  # fmt: skip
    return Alignment(
        number=number.agreement if number else None,
        street=street_value,
        town=town_value,
        postcode=postcodes_agree(asked.postcode, place.postcode),
        region=region_value,
        country=countries_agree(asked.country, place.country),
        kind=kind,
        direction=direction,
        unexplained=_unexplained(marks, differing),
        asked=frozenset([name for name, found in parts.items() if found]),
        answered_number=bool(place.number),
        answered_street=bool(place.street.core),
        number_gap=number.gap if number else 0,
        number_reason=number.reason if number else "",
        marks=marks,
    )


def _street_among(
    asked: ParsedAddress, loose: list[tuple[Word, ...]], place: AnsweredPlace
) -> tuple[StreetName, list[tuple[Word, ...]]]:
    """The segment that is most like the answered street; without one, the first if there is a house number."""
    streets = [street_of(segment) for segment in asked.loose]
    if place.street.core:
        likes = [similar(one.core, place.street.core) for one in streets]
        at = max(range(len(likes)), key=lambda i: (likes[i], -i))
        if likes[at] < 0.9 and (covering := _covering(asked, place)):
            used = {*covering.core, *(one for seg in loose for one in seg if one.meanings & covering.kinds)}
            return covering, [kept for seg in loose if (kept := tuple(one for one in seg if one not in used))]
        if likes[at] > 0.4:
            return streets[at], loose[:at] + loose[at + 1 :]
    known = set(place.town)
    first = next((i for i, seg in enumerate(loose) if not known & set(seg)), None)
    if asked.numbers and first is not None:
        return streets[first], loose[:first] + loose[first + 1 :]
    return NO_STREET, loose


def _other_street(
    street: StreetName, asked: ParsedAddress, loose: list[tuple[Word, ...]], place: AnsweredPlace
) -> tuple[StreetName, list[tuple[Word, ...]]]:
    """Another segment that is the answered street: the first one names a building."""
    for at, other in enumerate(map(street_of, asked.loose)):
        if similar(other.core, place.street.core) >= GOOD:
            return other, [street.core, *loose[:at], *loose[at + 1 :]]
    return street, loose


def _covering(asked: ParsedAddress, place: AnsweredPlace) -> StreetName | None:
    """The street's words among those of a line without commas."""
    texts = tuple(chain(*asked.loose))
    core = [one for one in map(word, texts) if any(alike(one, other) > 0.8 for other in place.street.core)]
    if len(core) < len(place.street.core):
        return None
    kinds = frozenset(chain.from_iterable(one.meanings & place.street.kinds for one in map(word, texts)))
    return StreetName(tuple(core), kinds, "")


def _town_among(loose: list[tuple[Word, ...]], place: AnsweredPlace) -> tuple[tuple[Word, ...], list[tuple[Word, ...]]]:
    """The segment that is most like the answered town; else the last one that is not the answered region."""
    region = place_of(words_of(place.region))
    likes = [
        (similar(segment, place.town), similar(segment, region) < ELSEWHERE, at) for at, segment in enumerate(loose)
    ]
    at = max(likes)[2]
    return loose[at], loose[:at] + loose[at + 1 :]


def _number(numbers: Sequence[str], place: AnsweredPlace) -> tuple[NumberMatch | None, Sequence[str]]:
    """The best agreement of the numbers that may be the house number, and those that are left."""
    in_street = {one.text for one in place.street.core}
    matches = [(match_numbers(one, place.number), at) for at, one in enumerate(numbers)]
    tried = [(found, at) for found, at in matches if found]
    if not tried:
        return None, ()
    found, at = max(tried, key=lambda pair: (pair[0].agreement, -pair[1]))
    others = [one for i, one in enumerate(numbers) if i != at]
    first = tried[0][0]
    if at and not (set(others) & in_street):  # the other number must be part of the street's name
        return first, numbers[1:]
    return found, others


def _street(
    asked: StreetName,
    answered: StreetName,
    answer_words: tuple[Word, ...],
    asked_words: tuple[Word, ...],
    numbers: Sequence[str],
) -> tuple[float | None, bool | None, bool | None]:
    """The agreement of two names of streets, of their kinds, and of their directions."""
    if not asked.core or not answered.core:
        return None, None, None
    own = asked.core + tuple(word(one) for one in numbers if any(one == other.text for other in answered.core))
    value = similar(own, answered.core, answer_words, asked_words)
    if value < 0.9:  # a kind of street may be a name: Park, Gardens
        whole = (
            tuple(chain(own, map(word, sorted(asked.kinds)))),
            tuple(chain(answered.core, map(word, sorted(answered.kinds)))),
        )
        value = max(value, similar(*whole, answer_words, asked_words) if asked.kinds != answered.kinds else 0.0)
    kind = bool(asked.kinds & answered.kinds) if asked.kinds and answered.kinds else None
    direction = asked.direction == answered.direction if asked.direction and answered.direction else None
    return value, kind, direction


def _town(town: tuple[Word, ...], place: AnsweredPlace, asked_words: tuple[Word, ...]) -> float | None:
    """The agreement of towns; a district or a suburb may be confirmed by other words of the answer."""
    if not town or not (place.town or place.others):
        return None
    value = similar(town, place.town, beginning=BEGINNING_OF_PLACE) if place.town else 0.0
    if value >= ELSEWHERE:
        return value
    if _among(town, place.others, place.town) or (place.town and _among(place.town, asked_words)):
        return max(value, ELSEWHERE)
    if _among(town, (*place.others, *place_of(words_of(place.region))), place.town):
        return max(value, IN_REGION)
    return value if place.town else None


def _among(name: tuple[Word, ...], words: Iterable[Word], whole: tuple[Word, ...] = ()) -> bool:
    """Whether some of the words are the name, alone or with all of another name (whole)."""
    found = tuple(one for one in words if any(alike(one, other) > 0.8 for other in name))
    return bool(found) and max(similar(name, found), similar(name, (*found, *whole)) if whole else 0.0) > 0.9


def _region_among(loose: list[tuple[Word, ...]], place: AnsweredPlace) -> tuple[float | None, list[tuple[Word, ...]]]:
    """The agreement of the segment that names a region of the answered country; and the other segments."""
    for at, segment in enumerate(loose):
        codes = region_codes(" ".join(one.text for one in segment))
        mine = frozenset(code for code in codes if not place.country or code.startswith(f"{place.country}-"))
        if mine and place.region:
            there = region_codes(place.region)
            return float(regions_agree(mine, there)) if there else None, loose[:at] + loose[at + 1 :]
    return None, loose


def _region(asked: tuple[str, ...], place: AnsweredPlace) -> float | None:
    if not asked or not (place.region or place.others):
        return None
    text = " ".join(asked)
    if place.region:
        if (codes := region_codes(text)) and regions_agree(codes, region_codes(place.region)):
            return 1.0
        value = similar(place_of(asked), place_of(words_of(place.region)))
        if value > 0.7:
            return value
    rest = (*place.others, *place.town)
    if _among(place_of(asked), rest):
        return ELSEWHERE
    return value if place.region else None
