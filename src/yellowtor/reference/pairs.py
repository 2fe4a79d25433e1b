"""Pairs of addresses that are one address written differently: the same index, the same search, the same comparison.

The index is made of the addresses themselves, all at one point, so that only their texts decide. Two house numbers that
differ are two addresses. Records whose canonical form is equal are one question anyway and no pair here.
"""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.side_by_side import side_by_side
from yellowtor.answers.geography.levels import Level
from yellowtor.answers.judging.confidence import estimate
from yellowtor.answers.judging.evidence import evidence_alone, said
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.reference.build import build_index
from yellowtor.reference.columns import RowColumns, RowRules
from yellowtor.reference.field_names import ROW
from yellowtor.reference.index import ReferenceIndex
from yellowtor.reference.search import Search

PARTS = ("number", "street", "town", "postcode", "region", "country")
SOMEWHERE = "1"  # latitude and longitude of all of them
TOLERANCE_M = 100.0
STREET_M = 1_000.0  # without a house number, the street is compared
BATCH = 500
ANOTHER = 0.5  # a house number that agrees less is another address
DIFFER = frozenset({"agrees in part", "differs", "not confirmed"})


class AddressPair(NamedTuple):
    """Two addresses by their places in the lists, and the probability that they are one.

    differences names the parts in which they differ.
    """

    one: int
    other: int
    confidence: float
    differences: str


def pairs_of(ones: Sequence[Address], others: Sequence[Address] | None, at_least: float) -> Iterator[list[AddressPair]]:
    """The pairs with at least this confidence, a batch of the first list at a time.

    others is another list; None: pairs within the one list, each once.
    """
    listed = ones if others is None else others
    if not listed:
        return
    search = Search(index_of(listed), widely=True)
    for begin in range(0, len(ones), BATCH):
        asked = ones[begin : begin + BATCH]
        found = search.find(asked)
        pairs = []
        for at, (address, candidates) in enumerate(zip(asked, found, strict=True), begin):
            own = {place: one for one in candidates if (place := int(one.extra.get(ROW) or 0) - 1) >= 0}
            pairs += [
                pair
                for place, candidate in own.items()
                if (others is not None or place > at) and (pair := _compared(at, place, address, candidate, at_least))
            ]
        yield pairs


def index_of(addresses: Sequence[Address]) -> ReferenceIndex:
    """An index of addresses, in memory; the `id` of a house is the place of its address in the list, from 1."""
    rules = RowRules({part: at for at, part in enumerate((*PARTS, "latitude", "longitude", "id"))})
    columns = RowColumns(rules)
    columns.add([_row(at, address) for at, address in enumerate(addresses, 1)])
    lat, lon = columns.array("y"), columns.array("x")
    arrays, _ = build_index(columns, np.asarray(lat), np.asarray(lon), keep_repeated=True)
    return ReferenceIndex(arrays, {})


def _row(number: int, address: Address) -> list[str]:
    """An address in parts, as a row of a reference table."""
    parsed = parse(address)
    segments = [" ".join(words) for words in parsed.loose]
    street = " ".join(parsed.street) or (segments.pop(0) if segments else "")
    town = " ".join(parsed.town) or (segments.pop(0) if segments else "")
    region = " ".join(parsed.region)
    return [parsed.number, street, town, parsed.postcode, region, parsed.country, SOMEWHERE, SOMEWHERE, str(number)]


def _compared(one: int, other: int, asked: Address, candidate: Candidate, at_least: float) -> AddressPair | None:
    evidence = evidence_alone(asked, candidate, None)
    number = evidence.alignment.number
    if number is not None and number < ANOTHER:
        return None
    whole = "number" in evidence.alignment.asked
    thresholds = Thresholds(TOLERANCE_M, 0.9) if whole else Thresholds(STREET_M, 0.9, level=Level.SEGMENT)
    value = estimate(evidence, thresholds).value
    if value < at_least:
        return None
    parts = [part.name for part in side_by_side(asked, said(candidate)) if part.agreement in DIFFER]
    return AddressPair(one, other, value, ", ".join(parts))
