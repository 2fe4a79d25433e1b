"""Parses an address, in parts or in one line, into typed parts.

What never changes a position (units, care-of lines, notes) is taken out of the street, numbers and postcodes are found
wherever they are, and countries become codes. Words whose part is not certain are `loose`: the answer decides.
"""

import re
from dataclasses import dataclass, replace
from functools import lru_cache

from yellowtor.addresses.parsing.countries import country_code
from yellowtor.addresses.parsing.parts_finder import NUMBER, ORDINAL, PartsFinder
from yellowtor.addresses.parsing.plain import plain_address
from yellowtor.addresses.parsing.vocabulary import vocabulary
from yellowtor.addresses.parsing.words import street_of, words_of
from yellowtor.contracts.address import Address


@dataclass(frozen=True, slots=True)
class ParsedAddress:
    """Texts in plain Latin letters, empty when they are not there.

    street, town and region are words; loose are the words of segments whose part is not certain, each with its
    segment. numbers are all the numbers that may be the house number, the likeliest first.
    """

    numbers: tuple[str, ...] = ()
    street: tuple[str, ...] = ()
    town: tuple[str, ...] = ()
    postcode: str = ""
    region: tuple[str, ...] = ()
    country: str = ""
    loose: tuple[tuple[str, ...], ...] = ()
    unit: str = ""
    care_of: str = ""
    po_box: str = ""
    notes: str = ""

    @property
    def number(self) -> str:
        """The likeliest house number."""
        return self.numbers[0] if self.numbers else ""

    def named(self) -> dict[str, str]:
        """The parts that were found, by the names that people are shown."""
        words = {"street": self.street, "town": self.town, "region": self.region}
        texts = {
            "house number": self.number,
            **{name: " ".join(found) for name, found in words.items()},
            "part uncertain": ", ".join(" ".join(found) for found in self.loose),
            "postcode": self.postcode,
            "country": self.country,
            "unit": self.unit,
            "care of": self.care_of,
            "PO box": self.po_box,
            "notes": self.notes,
        }
        return {name: text for name, text in texts.items() if text}


LONGEST_NUMBER = 12  # letters of a house number at the end of a street: quater
_SIGN = r"(?:no|nr|num|numero|n|hnr|nro)\s*[.°ºo]?\s*"
_AT_START = re.compile(rf"(?:{_SIGN})?({NUMBER})(?![a-z0-9/])\s*")
_AT_END = re.compile(rf"(?:^|(?<=[\s]))(?:{_SIGN})?({NUMBER}|\d+\s[a-z])$")
_DIGIT = re.compile(r"\d")
_MIDDLE = re.compile(rf"(?<=[a-z.])\s({NUMBER})(?=\s[a-z])")


def parse(address: Address) -> ParsedAddress:
    """The typed parts of an address; never raises, whatever the texts are.

    >>> parsed = parse(Address(street="12 Wharf Lane Apt 4, c/o R. Pell", town="00412 Holm"))
    >>> parsed.number, parsed.street, parsed.unit, parsed.care_of, parsed.postcode, parsed.town
    ('12', ('wharf', 'lane'), 'apt 4', 'c/o r pell', '00412', ('holm',))
    """
    return _parse(address)


@lru_cache(maxsize=2_048)  # each service that has answered asks again
def _parse(address: Address) -> ParsedAddress:
    if (plain := plain_address(address)) is None:
        return parse_fully(address)
    street, number, town = plain
    return ParsedAddress(
        numbers=(number,) if number else (),
        street=street,
        town=town,
        postcode=" ".join(words_of(address.postcode)),
        region=words_of(address.region),
        country=country_code(address.country) or " ".join(words_of(address.country)),
    )


def parse_fully(address: Address) -> ParsedAddress:
    """The typed parts of an address, whatever it is like: the long way, which parse() takes for what is not plain."""
    found = PartsFinder(country_code(address.country) or "")
    whole = bool(address.whole)
    if _swapped(address):
        address = replace(address, street=address.town, town=address.street)
    postcode = " ".join(words_of(address.postcode))
    segments = found.clean(address.whole if whole else address.street)
    if whole:
        segments = found.take_country(segments)
    numbers = [" ".join(words_of(address.number))] if address.number else []
    streets: list[tuple[str, ...]] = []
    first_numbered: int | None = None
    for at, segment in enumerate(segments):
        text = segment
        if not postcode and (at or whole):
            postcode, text = found.take_from(segments, at, whole=whole)
        got, text = _take_numbers(text, first=at == 0 or not numbers, middle=whole and not numbers)
        numbers += [one for one in got if one not in numbers]
        if words := words_of(text):
            streets.append(words)
            if got and first_numbered is None:
                first_numbered = len(streets) - 1
    if first_numbered and not whole:  # what stands before the house is a building's name
        streets = [streets[first_numbered], *streets[:first_numbered], *streets[first_numbered + 1 :]]
    town_segments = found.clean_town(address.town)
    if len(town_segments) > 1 and (code := country_code(town_segments[-1])):
        found.country = found.country or code
        town_segments.pop()
    if town_segments and not postcode:
        postcode, town_segments[0] = found.take_postcode(town_segments[0])
    towns = [words for text in town_segments if (words := words_of(text))]
    loose = streets if whole else streets[1:]
    return ParsedAddress(
        numbers=tuple(numbers[:4]),
        street=() if whole or not streets else streets[0],
        town=towns[0] if towns else (),
        postcode=postcode,
        region=words_of(address.region),
        country=found.country or " ".join(words_of(address.country)),
        loose=(*loose, *towns[1:]),
        **{name: "; ".join(texts) for name, texts in found.taken.items()},
    )


def _swapped(address: Address) -> bool:
    """Whether the street is in the town's column, and the town in the street's."""
    digits = [any(map(str.isdigit, text)) for text in (address.street, address.town, address.number)]
    if digits != [False, True, False] or not address.street:
        return False
    return bool(street_of(words_of(re.sub(r"\d+[a-z]?\b", " ", address.town.casefold()))).kinds)


def _take_numbers(text: str, *, first: bool, middle: bool = False) -> tuple[list[str], str]:
    """The numbers at the start and the end of a street's text, and the text without the likeliest."""
    if not _DIGIT.search(text):
        return [], text
    start = None if _is_ordinal(text) else _AT_START.match(text)
    end = _AT_END.search(text) if _DIGIT.search(text, max(0, len(text) - LONGEST_NUMBER)) else None
    if start and start.end() == len(text):
        return [_tight(start[1])] if first else [], "" if first else text
    if start and end and end.start() >= start.end():
        after = text[start.end() : end.start()].split()
        if len(after) == 1 and after[0] in vocabulary().kinds:  # 5 Avenue 12
            return [_tight(end[1]), _tight(start[1])], text[: end.start()].strip()
        return [_tight(start[1]), _tight(end[1])], text[start.end() :]
    if start:
        return [_tight(start[1])], text[start.end() :]
    if end:
        return [_tight(end[1])], text[: end.start()].strip()
    if middle and (found := _MIDDLE.search(text)):
        return [_tight(found[1])], f"{text[: found.start()]} {text[found.end() :]}"
    return [], text


def _is_ordinal(text: str) -> bool:
    """Whether a text begins with an ordinal; 5a is one before a kind of street (5a avenida), else a house number."""
    if not (found := ORDINAL.match(text)):
        return False
    after = text[found.end() :].split()
    return found[0][-1] not in "ao." or (bool(after) and after[0] in vocabulary().kinds)


def _tight(number: str) -> str:
    return re.sub(r"\s*([-/])\s*", r"\1", re.sub(r"(\d) ([a-z])$", r"\1\2", number.strip()))
