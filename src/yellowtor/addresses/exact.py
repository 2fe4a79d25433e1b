"""The quick way for the most frequent answer: all parts of the question in the same words."""

from collections.abc import Mapping

from yellowtor.addresses.alignment import Alignment
from yellowtor.addresses.codes import countries_agree, postcodes_agree
from yellowtor.addresses.latin import latin
from yellowtor.addresses.parsing.countries import country_code
from yellowtor.addresses.parsing.plain import plain_parts
from yellowtor.addresses.parsing.words import words_of
from yellowtor.contracts.address import Address

AGREED = "house number agrees"


def exact(asked: Address, answered: Mapping[str, str]) -> Alignment | None:
    """The alignment of a question whose street and town are answered in the same words, and whose number is not
    contradicted; else None.

    It equals that of align(), without the marks of the words.
    """
    if asked.region or not answered.get("street") or words_of(asked.town) != words_of(answered.get("town", "")):
        return None
    if (plain := plain_parts(asked)) is None:
        return None
    street, number = plain
    there = answered.get("number", "")
    if street != words_of(answered["street"]):
        return None
    if there and number and number != there:
        return None
    country = country_code(asked.country) or " ".join(words_of(asked.country))
    country_there = answered.get("country_code") or answered.get("country", "")
    known = country_code(country_there) or country_code(answered.get("country", ""))
    parts = [("number", number), ("street", street), ("town", asked.town), ("country", country)]
    postcode = " ".join(words_of(asked.postcode))
    return Alignment(
        number=1.0 if there and number else None,
        street=1.0,
        town=1.0,
        postcode=postcodes_agree(postcode, answered.get("postcode", "")),
        country=countries_agree(country, known or latin(country_there)),
        asked=frozenset([name for name, found in [*parts, ("postcode", postcode)] if found]),
        answered_number=bool(there),
        answered_street=True,
        number_reason=AGREED if there and number else "",
    )
