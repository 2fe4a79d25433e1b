"""Plain addresses: a street of words with one number, and a town of words. Nothing else is to be looked for in them."""

import re

from yellowtor.addresses.parsing.vocabulary import vocabulary
from yellowtor.addresses.parsing.words import words_of
from yellowtor.contracts.address import Address

_NAME = r"[^\W\d_]+\.?(?:[ '-][^\W\d_]+\.?)*"
_STREET = re.compile(rf"(?:\d+ )?{_NAME}(?:,? \d+)?")
_TOWN = re.compile(_NAME)
LONGEST_NUMBER = 3  # digits: after a comma, four and more may be a postcode
BESIDE_NUMBERS = frozenset({"no", "nr", "num", "numero", "hnr", "nro", "bis", "ter", "quater"})  # belong to them


def plain_parts(asked: Address) -> tuple[tuple[str, ...], str] | None:
    """The words of a plain street in a town, and the house number; None if they need the whole parsing."""
    return plain_street(asked) if asked.town else None


def plain_street(asked: Address) -> tuple[tuple[str, ...], str] | None:
    """The words of a plain street, and the house number; None if they need the whole parsing."""
    if asked.whole or not asked.street or not _STREET.fullmatch(asked.street):
        return None
    street, number = words_of(asked.street), " ".join(words_of(asked.number))
    if not number:
        street, number = _parted(street)
    if not street or not all(map(str.isalpha, street)) or not vocabulary().marked.isdisjoint(street):
        return None
    return street, number


def plain_address(asked: Address) -> tuple[tuple[str, ...], str, tuple[str, ...]] | None:
    """The words of the street, the house number, and the words of the town, if the whole parsing finds the same."""
    parts = plain_parts(asked)
    if parts is None or not _TOWN.fullmatch(asked.town):
        return None
    street, number = parts
    town = words_of(asked.town)
    known = vocabulary()
    if number and (min(map(len, street)) < 2 or not BESIDE_NUMBERS.isdisjoint(street)):
        return None
    if "," in asked.street and len(number) > LONGEST_NUMBER and not asked.postcode:
        return None
    if not known.boxed.isdisjoint((*street, *town)) or not known.marked.isdisjoint(town):
        return None
    return street, number, town


def _parted(words: tuple[str, ...]) -> tuple[tuple[str, ...], str]:
    """The words of a street without its number, and the number."""
    if len(words) < 2:
        return words, ""
    if words[0].isdecimal():
        return words[1:], words[0]
    if words[-1].isdecimal():
        return words[:-1], words[-1]
    return words, ""
