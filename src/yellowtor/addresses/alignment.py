"""Aligns a question's address with the place that was answered: each word is explained, contradicts, or stays open.

Agreement of a part is from 0 (contradiction) to 1 (equal), or None if one side lacks the part. Parts, addresses in one
line, misplaced parts and answers that are only a label go through the same code: words whose part is not certain are
compared with every part of the other side.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import chain
from typing import NamedTuple

from rapidfuzz.distance import OSA

from yellowtor.addresses.latin import latin
from yellowtor.addresses.parsing.countries import country_code, region_codes
from yellowtor.addresses.parsing.house_number import NumberMatch, match_numbers
from yellowtor.addresses.parsing.parse import ParsedAddress, parse
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
from yellowtor.addresses.similarity import AGREES, alike, similar, weight_of
from yellowtor.contracts.address import Address

EXPLAINED = 0.7  # a word that is less alike is unexplained
IN_REGION = 0.7  # a town's name that is only the answered region's
ELSEWHERE = 0.9  # a name that is confirmed by another part of the answer


class Place(NamedTuple):
    """An answered place, parsed. others are the words of its label that no part has."""

    number: str
    street: StreetName
    town: tuple[Word, ...]
    postcode: str
    region: str
    country: str
    others: tuple[Word, ...]
    label: str = ""  # its readable line, if it has parts too


class Mark(NamedTuple):
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
    marks: tuple[Mark, ...] = ()


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
    others = _beside(place.label, place.street.core + place.town + place_of(words_of(place.region)))
    return _align(asked, place._replace(others=others)) if others else found


def _agrees(value: float | None) -> bool:
    return value is None or value >= AGREES


def _marks(
    parts: Iterable[tuple[str, tuple[Word, ...]]], answer_words: tuple[Word, ...]
) -> tuple[tuple[Mark, ...], float]:
    """Each word with how far the answer explains it, and the share of the words that it does not."""
    texts = {one.text for one in answer_words}
    marks = []
    total = unexplained = 0.0
    for part, words in parts:
        for one in words:
            explained = 1.0 if one.text in texts else max((alike(one, other) for other in answer_words), default=0.0)
            marks.append(Mark(part, one.text, explained))
            weight = weight_of(one.text)
            total += weight
            unexplained += weight if explained < EXPLAINED else 0.0
    return tuple(marks), unexplained / total if total else 0.0


@lru_cache(maxsize=20_000)
def _beside(label: str, parts: tuple[Word, ...]) -> tuple[Word, ...]:
    """The words of a label that no part has."""
    known = {one.text for one in parts}
    return tuple(word(one) for one in words_of(label) if one not in known and not one.isdigit())


def _align(asked: ParsedAddress, place: Place) -> Alignment:
    street = street_of(asked.street) if asked.street else NO_STREET
    town = place_of(asked.town) if asked.town else ()
    region = place_of(asked.region) if asked.region else ()
    loose = [place_of(segment) for segment in asked.loose]
    if not street.core and asked.loose:
        street, loose = _street_among(asked, loose, place)
    if not town and loose:
        town, loose = _town_among(loose, place)
    answer_words = tuple(chain(place.street.core, place.town, place_of(words_of(place.region)), place.others))
    asked_words = tuple(chain(town, region, *loose))
    number, numbers_left = _number(asked.numbers, place)
    street_value, kind, direction = _street(street, place.street, answer_words, asked_words, numbers_left)
    marks, unexplained = _marks((("street", street.core), ("town", town), *(("", one) for one in loose)), answer_words)
    parts = {"number": asked.numbers, "street": street.core, "town": town, "postcode": asked.postcode,
             "region": region, "country": asked.country}  # fmt: skip
    return Alignment(
        number=number.agreement if number else None,
        street=street_value,
        town=_town(town, place, asked_words),
        postcode=_postcode(asked.postcode, place.postcode),
        region=_region(asked.region, place),
        country=_country(asked.country, place.country),
        kind=kind,
        direction=direction,
        unexplained=unexplained,
        asked=frozenset([name for name, found in parts.items() if found]),
        answered_number=bool(place.number),
        answered_street=bool(place.street.core),
        number_gap=number.gap if number else 0,
        number_reason=number.reason if number else "",
        marks=marks,
    )


def answered_place(parts: Mapping[str, str], country: str) -> Place:
    """An answer's parts as a place; of a label alone, parsed. country is that of the question."""
    label = parts.get("label", "")
    code = parts.get("country_code") or parts.get("country", "")
    known = country_code(code) or country_code(parts.get("country", "")) or latin(code)
    if label and len(parts) == 1:
        return _from_label(label, country)
    number = parts.get("number", "")
    street = parts.get("street", "")
    if street and not number:
        split = parse(Address(street=street, country=known))
        words = split.street
        number = split.number
    else:
        words = words_of(street)
    town = parts.get("town", "")
    region = parts.get("region", "")
    return Place(
        number,
        street_of(words) if words else NO_STREET,
        place_of(words_of(town)),
        parts.get("postcode", ""),
        region,
        known,
        (),
        label,
    )


@lru_cache(maxsize=2_000)
def _from_label(label: str, country: str) -> Place:
    """A place of which only a readable line is known."""
    line = parse(Address(whole=label, country=""))
    if not line.country and country and country_code(label.rpartition(",")[2]) == country:
        line = parse(Address(whole=label.rpartition(",")[0]))
    segments = [one for one in line.loose if one]
    street = NO_STREET
    if segments and (line.numbers or street_of(segments[0]).kinds):
        street = street_of(segments[0])
        segments = segments[1:]
    town = place_of(segments[0]) if segments else ()
    others = tuple(one for segment in segments[1:] for one in place_of(segment))
    found = line.country or (country if not line.country and not segments else "")
    return Place(line.number, street, town, line.postcode, "", found, others)


def _street_among(
    asked: ParsedAddress, loose: list[tuple[Word, ...]], place: Place
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


def _covering(asked: ParsedAddress, place: Place) -> StreetName | None:
    """The street's words among those of a line without commas."""
    texts = tuple(chain(*asked.loose))
    core = [one for one in map(word, texts) if any(alike(one, other) > 0.8 for other in place.street.core)]
    if len(core) < len(place.street.core):
        return None
    kinds = frozenset(chain.from_iterable(one.meanings & place.street.kinds for one in map(word, texts)))
    return StreetName(tuple(core), kinds, "")


def _town_among(loose: list[tuple[Word, ...]], place: Place) -> tuple[tuple[Word, ...], list[tuple[Word, ...]]]:
    """The segment that is most like the answered town; else the last one that is not the answered region."""
    region = place_of(words_of(place.region))
    likes = [
        (similar(segment, place.town), similar(segment, region) < ELSEWHERE, at) for at, segment in enumerate(loose)
    ]
    at = max(likes)[2]
    return loose[at], loose[:at] + loose[at + 1 :]


def _number(numbers: Sequence[str], place: Place) -> tuple[NumberMatch | None, Sequence[str]]:
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


def _town(town: tuple[Word, ...], place: Place, asked_words: tuple[Word, ...]) -> float | None:
    """The agreement of towns; a district or a suburb may be confirmed by other words of the answer."""
    if not town or not (place.town or place.others):
        return None
    value = similar(town, place.town) if place.town else 0.0
    if value >= ELSEWHERE:
        return value
    if _among(town, (*place.others, *place.town)) or (place.town and _among(place.town, asked_words)):
        return max(value, ELSEWHERE)
    if _among(town, (*place.others, *place_of(words_of(place.region)), *place.town)):
        return max(value, IN_REGION)
    return value if place.town else None


def _among(name: tuple[Word, ...], words: Iterable[Word]) -> bool:
    """Whether some of the words are the name."""
    return similar(name, tuple(one for one in words if any(alike(one, other) > 0.8 for other in name))) > 0.9


@lru_cache(maxsize=50_000)
def _postcode(asked: str, answered: str) -> float | None:
    left, right = (latin(text).replace(" ", "").replace("-", "") for text in (asked, answered))
    if not left or not right:
        return None
    if left == right:
        return 1.0
    if left.lstrip("0") == right.lstrip("0"):  # a spreadsheet ate the leading zeros
        return AGREES
    if min(len(left), len(right)) >= 3 and (left.startswith(right) or right.startswith(left)):
        return 0.9
    if OSA.distance(left, right, score_cutoff=1) == 1:
        return 0.6
    return 0.3 if left[:2] == right[:2] else 0.0


def _region(asked: tuple[str, ...], place: Place) -> float | None:
    if not asked or not (place.region or place.others):
        return None
    text = " ".join(asked)
    if place.region:
        if (codes := region_codes(text)) and codes & region_codes(place.region):
            return 1.0
        value = similar(place_of(asked), place_of(words_of(place.region)))
        if value > 0.7:
            return value
    rest = (*place.others, *place.town)
    if _among(place_of(asked), rest):
        return ELSEWHERE
    return value if place.region else None


def _country(asked: str, answered: str) -> float | None:
    if not asked or not answered:
        return None
    if asked == answered or latin(asked) == latin(answered):
        return 1.0
    one = country_code(asked)
    other = country_code(answered)
    if one and other:
        if one != other and f"{other}-{one}" in region_codes(one):
            return None  # CA may be Canada or California
        return float(one == other)
    if len(asked) == len(answered) == 2:
        return 0.0
    if len(asked) == 2 or len(answered) == 2:
        return None  # a code against an unknown name cannot be compared
    return 1.0 if similar(place_of(words_of(asked)), place_of(words_of(answered))) > 0.9 else 0.0
