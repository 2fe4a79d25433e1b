"""Takes the typed parts out of a text: units, notes, care-of lines, boxes, the postcode, the country.

What is left are segments: the parts between commas, in plain Latin letters.
"""

import re
from collections.abc import Iterator
from functools import lru_cache

from anyascii import anyascii

from yellowtor.addresses.canonical import fold_blanks
from yellowtor.addresses.parsing.countries import country_code
from yellowtor.addresses.parsing.vocabulary import postcode_forms, vocabulary
from yellowtor.addresses.parsing.words import LONGEST, street_of, words_of

_LETTER = r"(?:[-/]?[a-z]|\s[a-d](?!\s(?:st|str|street|ave|av|avenue|rd|road|blvd|ln|lane|dr|drive)\b))(?![a-z0-9])"
_SECOND = r"(?:\s?[-/]\s?\d+[a-z]{0,3}(?![a-z0-9]))"  # 12-14, 12/3, 12-2hg
NUMBER = rf"\d+(?:{_LETTER})?{_SECOND}{{0,2}}(?:\s(?:bis|ter|quater|1/2)(?![a-z0-9]))?"
ORDINAL = re.compile(r"\d+(?:st|nd|rd|th|er|ere|re|eme|o|a|\.)(?![a-z0-9])")
SHORT_NAMES = {"usa", "uk"}  # countries at the end of a line without commas
_CUT = re.compile(r"[,;\n\r|]+")
_BRACKETS = re.compile(r"[(\[]([^)\]]*)[)\]]?")
_NOTE = re.compile(r"\s[-–—]{1,2}\s+(?=[a-z]{3})(.*)$")
_HASH = re.compile(r"#\s*(\w+)")
_AFTER_DOT = re.compile(r"(?<=[a-z]{2})\.(?=\d)")  # kelpstr.12
_NO_NUMBER = re.compile(r"(?:^|\s)s\s?[/.]\s?n\.?$")  # sin número: a street without numbers
_GLUED = re.compile(r"\b(\d+)(?=[a-z]{3})(?!\d*(?:st|nd|rd|th|eme|ere)\b)")
_BEFORE_STREET = re.compile(rf"([^\d]*[a-z][^\d]*)\s({NUMBER})\s([a-z]+)\.?\s(?:.*\s)?([a-z]+)\.?$")
_GRID = re.compile(r"(\d[a-z]?)\s*#\s*(\d+[a-z]?\s*-\s*\d)")  # calle 12 # 34-56
_SMALL = re.compile(r"(?:^|\s)\d{1,3}[a-z]?(?:$|\s)")  # a house number rather than a postcode
_LETTERS = re.compile(r"[a-z]{3}")
_MARKS = re.compile(r"[.°:]")
_DOT = re.compile(r"(?<=[a-z])\.(?=\s|$)")


def _around(postcode: str, segment: str) -> tuple[str, str] | None:
    """The names before and after a postcode, which parts them: 12 Kelp Lane 00412 Holm."""
    before, found, after = segment.partition(postcode)
    return (before.strip(), after.strip()) if found and _LETTERS.search(before) and _LETTERS.search(after) else None


class PartsFinder:
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
        if any(map(str.isdigit, plain)):
            plain = _GLUED.sub(r"\1 ", plain)
            plain = _AFTER_DOT.sub(". ", plain) if "." in plain else plain
        segments: list[str] = []
        for part in self._parted(plain):
            segment = part
            if " -" in part:
                segment = _NOTE.sub(lambda found: self._keep("notes", found[1], ""), part)
            segment = segment.strip(" .-")
            if segment.endswith("n"):
                segment = _NO_NUMBER.sub("", segment)
            segment = self._units(self._boxes(segment), first=not segments) if segment else ""
            if segment:
                segments.append(segment)
        return segments

    def _parted(self, text: str) -> Iterator[str]:
        """The parts between commas; a building's name before a number and a kind of street is a part of its own."""
        for part in _CUT.split(text):
            found = None if part[:1].isdigit() else _BEFORE_STREET.match(part)
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
            numbered = text.isdigit() and at + 2 < len(words) and words[at + 2].isdigit()  # 43 piano 7
            ordinal = ORDINAL.fullmatch(words[at]) or text in known.ordinals or text.isdigit()
            if (
                ordinal
                and not numbered
                and after in known.floor
                and (kept or not first or text in known.ordinals or not text.isdigit())
            ):
                size = 3 if at + 2 < len(words) and words[at + 2].strip(".") in known.unit_side else 2
            elif (
                (kept and text in known.unit and _unit_name(after) and (len(kept) > 1 or len(text) > 2))
                or (ORDINAL.fullmatch(words[at]) and after in known.unit_side)
                or (kept and text in known.floor and after.isdigit())
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

    def take_from(self, segments: list[str], at: int, *, whole: bool) -> tuple[str, str]:
        """The postcode in one of the segments, and its rest; of a whole line, what follows is a segment of its own."""
        later = any(_SMALL.search(one) for one in segments[1:])
        postcode, text = self.take_postcode(segments[at], first=at == 0, postal=later)
        if whole and postcode and (parts := _around(postcode, segments[at])):
            text = parts[0]
            segments.insert(at + 1, parts[1])
        return postcode, text

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
    finder = PartsFinder("")
    return tuple(finder.clean(text)), finder.taken
