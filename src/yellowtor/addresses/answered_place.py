"""An answered place, parsed: from its parts, or from its readable label alone."""

from collections.abc import Mapping
from functools import lru_cache
from typing import NamedTuple

from yellowtor.addresses.latin import latin
from yellowtor.addresses.parsing.countries import country_code
from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.parsing.words import NO_STREET, StreetName, Word, place_of, street_of, word, words_of
from yellowtor.contracts.address import Address


class AnsweredPlace(NamedTuple):
    """An answered place, parsed. others are the words of its label that no part has."""

    number: str
    street: StreetName
    town: tuple[Word, ...]
    postcode: str
    region: str
    country: str
    others: tuple[Word, ...]
    label: str = ""  # its readable line, if it has parts too
    country_words: tuple[Word, ...] = ()  # its country, by name and code


def answered_place(parts: Mapping[str, str], country: str) -> AnsweredPlace:
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
    return AnsweredPlace(
        number,
        street_of(words) if words else NO_STREET,
        place_of(words_of(town)),
        parts.get("postcode", ""),
        region,
        known,
        (),
        label,
        _country_words(parts.get("country", ""), parts.get("country_code", "")),
    )


@lru_cache(maxsize=2_000)
def _from_label(label: str, country: str) -> AnsweredPlace:
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
    return AnsweredPlace(line.number, street, town, line.postcode, "", found, others)


@lru_cache(maxsize=2_000)
def _country_words(name: str, code: str) -> tuple[Word, ...]:
    return tuple(word(one) for one in (*words_of(name), *words_of(code)))


@lru_cache(maxsize=20_000)
def words_beside(label: str, parts: tuple[Word, ...]) -> tuple[Word, ...]:
    """The words of a label that no part has."""
    known = {one.text for one in parts}
    return tuple(word(one) for one in words_of(label) if one not in known and not one.isdigit())
