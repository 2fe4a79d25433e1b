"""Parses an address, in parts or in one line, into typed parts.

What never changes a position (units, care-of lines, notes) is taken out of the street, numbers and postcodes are found
wherever they are, and countries become codes. Words whose part is not certain are `loose`: the answer decides.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache

from anyascii import anyascii

from yellowtor.addresses.canonical import fold_blanks
from yellowtor.addresses.parsing.countries import country_code
from yellowtor.addresses.parsing.vocabulary import postcode_forms, vocabulary
from yellowtor.addresses.parsing.words import LONGEST, street_of, words_of
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


SHORT_NAMES = {"usa", "uk"}  # countries at the end of a line without commas
LONGEST_NUMBER = 12  # letters of a house number at the end of a street: quater
_CUT = re.compile(r"[,;\n\r|]+")
_BRACKETS = re.compile(r"[(\[]([^)\]]*)[)\]]?")
_NOTE = re.compile(r"\s[-–—]{1,2}\s+(?=[a-z]{3})(.*)$")
_HASH = re.compile(r"#\s*(\w+)")
_AFTER_DOT = re.compile(r"(?<=[a-z]{2})\.(?=\d)")  # kelpstr.12
_NO_NUMBER = re.compile(r"(?:^|\s)s\s?[/.]\s?n\.?$")  # sin número: a street without numbers
_GLUED = re.compile(r"\b(\d+)(?=[a-z]{3})(?!\d*(?:st|nd|rd|th|eme|ere)\b)")
_LETTER = r"(?:[-/]?[a-z]|\s[a-d](?!\s(?:st|str|street|ave|av|avenue|rd|road|blvd|ln|lane|dr|drive)\b))(?![a-z0-9])"
_SECOND = r"(?:\s?[-/]\s?\d+[a-z]{0,3}(?![a-z0-9]))"  # 12-14, 12/3, 12-2hg
_NUMBER = rf"\d+(?:{_LETTER})?{_SECOND}{{0,2}}(?:\s(?:bis|ter|quater|1/2)(?![a-z0-9]))?"
_SIGN = r"(?:no|nr|num|numero|n|hnr|nro)\s*[.°ºo]?\s*"
_AT_START = re.compile(rf"(?:{_SIGN})?({_NUMBER})(?![a-z0-9/])\s*")
_AT_END = re.compile(rf"(?:^|(?<=[\s]))(?:{_SIGN})?({_NUMBER}|\d+\s[a-z])$")
_BEFORE_STREET = re.compile(rf"([^\d]*[a-z][^\d]*)\s({_NUMBER})\s([a-z]+)\.?\s(?:.*\s)?([a-z]+)\.?$")
_GRID = re.compile(r"(\d[a-z]?)\s*#\s*(\d+[a-z]?\s*-\s*\d)")  # calle 12 # 34-56
_SMALL = re.compile(r"(?:^|\s)\d{1,3}[a-z]?(?:$|\s)")  # a house number rather than a postcode
_DIGIT = re.compile(r"\d")
_MARKS = re.compile(r"[.°:]")
_DOT = re.compile(r"(?<=[a-z])\.(?=\s|$)")
_MIDDLE = re.compile(rf"(?<=[a-z.])\s({_NUMBER})(?=\s[a-z])")
_ORDINAL = re.compile(r"\d+(?:st|nd|rd|th|er|ere|re|eme|o|a|\.)(?![a-z0-9])")


def parse(address: Address) -> ParsedAddress:
    """The typed parts of an address; never raises, whatever the texts are.

    >>> parsed = parse(Address(street="12 Wharf Lane Apt 4, c/o R. Pell", town="00412 Holm"))
    >>> parsed.number, parsed.street, parsed.unit, parsed.care_of, parsed.postcode, parsed.town
    ('12', ('wharf', 'lane'), 'apt 4', 'c/o r pell', '00412', ('holm',))
    """
    return _parse(address)


@lru_cache(maxsize=2_048)  # each service that has answered asks again
def _parse(address: Address) -> ParsedAddress:
    found = _Finder(country_code(address.country) or "")
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
            later = any(_SMALL.search(one) for one in segments[1:])
            postcode, text = found.take_postcode(text, first=at == 0, postal=later)
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
    if not (found := _ORDINAL.match(text)):
        return False
    after = text[found.end() :].split()
    return found[0][-1] not in "ao." or (bool(after) and after[0] in vocabulary().kinds)


def _tight(number: str) -> str:
    return re.sub(r"\s*([-/])\s*", r"\1", re.sub(r"(\d) ([a-z])$", r"\1\2", number.strip()))


class _Finder:
    """Takes the typed parts out of texts, and remembers them."""

    def __init__(self, country: str) -> None:
        self.country = country
        self.taken: dict[str, list[str]] = {}

    def clean(self, text: str) -> list[str]:
        """The segments of a text without units, notes, care-of lines and boxes."""
        if not text:
            return []
        plain = text[:LONGEST]
        if not plain.isprintable():
            plain = plain.replace("\n", ", ").replace("\r", " ").replace("\t", " ")
        plain = fold_blanks(plain)
        plain = (plain if plain.isascii() else anyascii(plain)).casefold()
        if "(" in plain or "[" in plain:
            plain = _BRACKETS.sub(lambda found: self._keep("notes", found[1], ", "), plain)
        if "#" in plain:
            plain = _GRID.sub(r"\1 \2", plain)
            plain = _HASH.sub(lambda found: self._keep("unit", found[0], " "), plain)
        plain = _AFTER_DOT.sub(". ", _GLUED.sub(r"\1 ", plain))
        segments: list[str] = []
        for part in self._parted(plain):
            segment = part
            if " -" in part:
                segment = _NOTE.sub(lambda found: self._keep("notes", found[1], ""), part)
            segment = _NO_NUMBER.sub("", segment.strip(" .-"))
            segment = self._units(self._boxes(segment), first=not segments) if segment else ""
            if segment:
                segments.append(segment)
        return segments

    def _parted(self, text: str) -> Iterator[str]:
        """The parts between commas; a building's name before a number and a kind of street is a part of its own."""
        for part in _CUT.split(text):
            found = _BEFORE_STREET.match(part)
            kinds = vocabulary().kinds
            if found and not street_of(words_of(found[1])).kinds and (found[3] in kinds or found[4] in kinds):
                yield found[1]
                yield part[found.start(2) :]
            else:
                yield part

    def clean_town(self, text: str) -> list[str]:
        """The segments of a town's text, which comes again and again."""
        segments, taken = _cleaned(text)
        for name, texts in taken.items():
            self.taken.setdefault(name, []).extend(texts)
        return list(segments)

    def _keep(self, name: str, text: str, instead: str) -> str:
        if words := " ".join(words_of(text)):
            kept = f"c/o {words[2:].strip()}" if name == "care_of" and words.startswith("co ") else words
            self.taken.setdefault(name, []).append(kept)
        return instead

    def _boxes(self, segment: str) -> str:
        """A segment without a care-of line or a post office box."""
        known = vocabulary()
        words = _MARKS.sub(" ", segment).split()
        if known.boxed.isdisjoint(words):
            return segment
        plain = " ".join(words)
        if found := known.care_of.match(plain):
            self.taken.setdefault("care_of", []).append(f"{found[1]} {' '.join(words_of(found[2]))}")
            return ""
        if found := known.po_box.search(plain):
            self._keep("po_box", found[0], "")
            return f"{plain[: found.start()]} {plain[found.end() :]}".strip()
        return segment

    def _units(self, segment: str, *, first: bool) -> str:
        """A segment without units: `apt 4b`, `2nd floor left`, `3. th`. The first one does not begin with a floor."""
        known = vocabulary()
        if len(segment) < 4:
            return segment
        words = _DOT.sub("", segment).split()
        if known.marked.isdisjoint(words) and "." not in segment:
            return " ".join(words)
        kept: list[str] = []
        at = 0
        while at < len(words):
            text = words[at].strip(".")
            after = words[at + 1].strip(".") if at + 1 < len(words) else ""
            ordinal = _ORDINAL.fullmatch(words[at]) or text in known.ordinals or text.isdigit()
            if ordinal and after in known.floor and (kept or not first or text in known.ordinals or not text.isdigit()):
                size = 3 if at + 2 < len(words) and words[at + 2].strip(".") in known.unit_side else 2
            elif (
                (kept and text in known.unit and _unit_name(after) and (len(kept) > 1 or len(text) > 2))
                or (_ORDINAL.fullmatch(words[at]) and after in known.unit_side)
                or (not kept and text in known.unit and len(text) > 2 and _unit_name(after))
            ):
                size = 2
            else:
                kept.append(words[at])
                at += 1
                continue
            self._keep("unit", " ".join(words[at : at + size]), "")
            at += size
        return " ".join(kept)

    def take_country(self, segments: list[str]) -> list[str]:
        """The segments without the country, which is at the end or at the start."""
        if len(segments) == 1:
            words = segments[0].split()
            for size in (1, 2, 3):
                name = " ".join(words[-size:])
                if len(words) > size and (len(name) > 3 or name in SHORT_NAMES) and (code := country_code(name)):
                    self.country = self.country or code
                    return [" ".join(words[:-size])]
        for at in (len(segments) - 1, 0):
            if len(segments) > 1 and 0 <= at < len(segments) and (code := country_code(segments[at])):
                if not self.country:
                    self.country = code
                return [*segments[:at], *segments[at + 1 :]]
        return segments

    def take_postcode(self, segment: str, *, first: bool = False, postal: bool = False) -> tuple[str, str]:
        """The postcode in a segment, by the form of its country or any form with four digits and more.

        At the start of the first segment, digits alone are a house number unless there is another one (postal).
        """
        form = postcode_forms().get(self.country)
        any_form = (
            r"\d{4,6}(?:-\d{3,4})?|[a-z]{1,2}\d[a-z\d]? \d[a-z]{2}|[a-z]\d[a-z] \d[a-z]\d|\d{3} \d{2}|\d{2}-\d{3}"
        )
        for pattern in filter(None, (form.pattern if form else "", any_form)):
            prefix = rf"(?:{self.country.lower()}-)?" if self.country else "(?:[a-z]{1,2}-)?"
            if found := re.search(rf"(?:^|(?<=\s)){prefix}({pattern})(?=\s|$)", segment):
                if first and not found.start() and found[1].isdigit() and not postal:
                    continue
                rest = f"{segment[: found.start()]} {segment[found.end() :]}"
                return " ".join(words_of(found[1])), " ".join(rest.split())
        return "", segment


def _unit_name(text: str) -> bool:
    """Whether this can name a unit: 4, 4b, b, 12-3."""
    return bool(re.fullmatch(r"\d+[a-z]?|[a-z]|\d+[-/]\d+|[a-z]\d+", text))


@lru_cache(maxsize=20_000)
def _cleaned(text: str) -> tuple[tuple[str, ...], dict[str, list[str]]]:
    """The segments of a text, and what was taken out of it."""
    finder = _Finder("")
    return tuple(finder.clean(text)), finder.taken
