"""The house of a number in a street: exactly, between its neighbours, or the nearest one."""

from bisect import bisect_left
from typing import NamedTuple

from yellowtor.addresses.parsing.house_number import house_number, match_numbers
from yellowtor.answers.geography.levels import LEVELS, Level, Method
from yellowtor.contracts.position import Position, distance_m
from yellowtor.reference.index import ReferenceIndex
from yellowtor.reference.lookup_keys import postcode_text

BY_RANK = {level.rank: level for level in LEVELS.values()}
NUMBER = "house number"  # how a house is found that has the very number
WIDEST_GAP = 40  # between the numbers of two neighbours that a number is interpolated between
MOST_SAME = 4  # houses of one number in one street
FAR_M = 400.0  # two neighbours farther apart say little


class House(NamedTuple):
    """Where a number is, and how that is known: surveyed (or not) with its level, or interpolated with a radius.

    how says it to people. number is empty if the position is that of the whole street.
    """

    position: Position
    number: str
    postcode: str
    level: Level
    method: Method
    radius_m: float | None
    how: str
    row_id: str = ""


def houses_of(index: ReferenceIndex, street: int, numbers: tuple[str, ...], postcode: str) -> list[House]:
    """The houses that a question about these numbers (the likeliest first) may mean; without a number, the street."""
    wanted = next(((text, found) for text in numbers if (found := house_number(text))), None)
    begin, end = index.arrays["house_starts"][street : street + 2].tolist()
    if wanted is None:
        return _without_number(index, street, range(begin, end))
    text, number = wanted
    keys = index.arrays["house_key"]
    key = (street << 24) + number.low + 1
    first = last = bisect_left(keys, key, begin, end)
    while last < end and keys.item(last) == key:
        last += 1
    for rows in (range(first, last), range(max(begin, first - 3), first)):  # a range of numbers begins below
        if houses := _matching(index, rows, text, postcode):
            return houses
    return _neighbours(index, street, range(begin, end), text, number.low)


def _matching(index: ReferenceIndex, rows: range, text: str, postcode: str) -> list[House]:
    """The houses whose number agrees best, of several those with the postcode."""
    agreeing = []
    if len(rows) == 1 and index.text("house_text", rows.start) == text:
        return [house_of(index, rows.start, NUMBER)]
    for row in rows:
        match = match_numbers(text, index.text("house_text", row))
        if match and match.agreement >= 0.5:
            agreeing.append((match.agreement, row))
    if not agreeing:
        return []
    best = max(agreement for agreement, _ in agreeing)
    rows_of_best = [row for agreement, row in agreeing if agreement == best]
    if len(rows_of_best) > 1 and postcode:
        code = postcode_text(postcode)
        same = [row for row in rows_of_best if postcode_text(index.text("house_postcode", row)) == code]
        rows_of_best = same or rows_of_best
    how = NUMBER if best > 0.96 else "house number in part"
    return [house_of(index, row, how) for row in rows_of_best[:MOST_SAME]]


def house_of(index: ReferenceIndex, row: int, how: str) -> House:
    """The house in a row of the index."""
    level = BY_RANK.get(index.arrays["house_level"].item(row), Level.BUILDING)
    row_id = index.text("house_id", row) if index.has_ids else ""
    return House(index.position("house", row), index.text("house_text", row), index.text("house_postcode", row),
        level, Method.SURVEYED, None, how, row_id)  # fmt: skip


def _neighbours(index: ReferenceIndex, street: int, rows: range, text: str, low: int) -> list[House]:
    """A point between two neighbours on the number's side of the street; else the nearest number; else the street."""
    base = (street << 24) + 1
    numbers = [int(key) - base for key in index.arrays["house_key"][rows.start : rows.stop]]
    side = [row for row, number in zip(rows, numbers, strict=True) if number >= 0 and number % 2 == low % 2]
    of_side = [numbers[row - rows.start] for row in side]
    place = bisect_left(of_side, low)
    if 0 < place < len(side) and of_side[place] - of_side[place - 1] <= WIDEST_GAP:
        before, after = side[place - 1], side[place]
        one, other = index.position("house", before), index.position("house", after)
        apart = distance_m(one, other)
        if apart <= FAR_M:
            share = (low - of_side[place - 1]) / (of_side[place] - of_side[place - 1])
            between = Position(one.lat + share * (other.lat - one.lat), one.lon + share * (other.lon - one.lon))
            how = f"between {index.text('house_text', before)} and {index.text('house_text', after)}"
            return [House(between, text, index.text("house_postcode", before), Level.THOROUGHFARE_ACCESS,
                Method.INTERPOLATED, max(apart / 2, 10.0), how)]  # fmt: skip
    known = [
        (abs(number - low), number % 2 != low % 2, row)
        for row, number in zip(rows, numbers, strict=True)
        if number >= 0
    ]
    if known:
        return [house_of(index, min(known)[2], "the nearest house number")]
    return [_middle(index, street, "the middle of the street, which has no house numbers")]


def _without_number(index: ReferenceIndex, street: int, rows: range) -> list[House]:
    """The rows of a street that have no house number; else its middle."""
    keys = index.arrays["house_key"][rows.start : rows.stop]
    count = int(keys.searchsorted((street << 24) + 1))
    if not count:
        return [_middle(index, street, "the middle of the street")]
    found = [house_of(index, row, "the street") for row in range(rows.start, rows.start + min(count, MOST_SAME))]
    return [one._replace(level=Level.SEGMENT, method=Method.CENTRE) for one in found]


def _middle(index: ReferenceIndex, street: int, how: str) -> House:
    begin, end = (int(one) for one in index.arrays["house_starts"][street : street + 2])
    codes = set(index.arrays["house_postcode"][begin:end].tolist()) if end - begin < 5_000 else set()
    postcode = index.texts[codes.pop()] if len(codes) == 1 else ""
    reach = float(index.arrays["street_reach"][street])
    return House(index.position("street", street), "", postcode, Level.SEGMENT, Method.CENTRE, reach, how)
