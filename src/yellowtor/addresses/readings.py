"""The ways to read an address whose street and town may be in each other's place. The answer decides."""

from collections.abc import Mapping
from dataclasses import replace
from functools import lru_cache

from yellowtor.addresses.alignment import Alignment, align
from yellowtor.addresses.parsing.parse import ParsedAddress, parse
from yellowtor.addresses.parsing.words import street_of, words_of
from yellowtor.contracts.address import Address


def readings(asked: Address) -> tuple[ParsedAddress, ...]:
    """The address as it stands first; then with street and town swapped, if the town may be a street.

    >>> [(one.street, one.number, one.town) for one in readings(Address(street="Holm", town="Kelp 7"))]
    [(('holm',), '', ('kelp', '7')), (('kelp',), '7', ('holm',))]
    """
    if asked.whole or not asked.town or asked.number or any(map(str.isdigit, asked.street)):
        return (parse(asked),)
    return (parse(asked), *_swapped(asked))


def best_reading(asked: Address, answered: Mapping[str, str]) -> tuple[ParsedAddress, Alignment]:
    """The reading that the answer agrees with best, and its alignment with it."""
    found = [(one, align(one, answered)) for one in readings(asked)]
    return found[0] if len(found) == 1 else max(found, key=lambda pair: _agreement(pair[1]))


@lru_cache(maxsize=2_048)
def _swapped(asked: Address) -> tuple[ParsedAddress, ...]:
    """The parsed address with street and town swapped; none if the town is no street."""
    if not any(map(str.isdigit, asked.town)) and not street_of(words_of(asked.town)).kinds:
        return ()
    other = parse(replace(asked, street=asked.town, town=asked.street))
    return (other,) if other != parse(asked) else ()


def _agreement(alignment: Alignment) -> float:
    return (alignment.street or 0.0) + (alignment.town or 0.0) + (alignment.number or 0.0) / 4
