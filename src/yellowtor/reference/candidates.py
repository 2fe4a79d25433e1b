"""A street or a place of the index as a candidate of an answer, with how it was found."""

from collections.abc import Iterator, Sequence

from yellowtor.addresses.parsing.words import Word, place_of, words_of
from yellowtor.addresses.similarity import similar
from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Position
from yellowtor.reference.field_names import HOW, ROW, WHOLE_NAMES, WITH_POSTCODE
from yellowtor.reference.hashing import code_number
from yellowtor.reference.houses import BY_RANK, NUMBER, House, house_of, houses_of
from yellowtor.reference.index import IndexedPlace, IndexedStreet, ReferenceIndex
from yellowtor.reference.lookup_keys import postcode_text
from yellowtor.reference.places import PlaceKind
from yellowtor.reference.question import SearchedAddress

MOST = 10  # streets of one name


def of_street(index: ReferenceIndex, at: int, question: SearchedAddress, found_by: str) -> Iterator[Candidate]:
    """The houses of a street that the question may mean."""
    street = index.street(at)
    town = _asked_name(street.town, question)
    if street.district and question.parsed.town:
        asked = place_of(question.parsed.town)
        if similar(asked, place_of(words_of(street.district))) > similar(asked, place_of(words_of(town))):
            town = street.district
    for house in houses_of(index, at, question.parsed.numbers, question.parsed.postcode):
        yield _candidate(street, town, house, found_by)


def of_plain(
    index: ReferenceIndex, asked: Address, number: str, in_town: Sequence[int], in_postcode: Sequence[int]
) -> Iterator[Candidate]:
    """The houses of streets whose whole name is in the very words of the question: in its town, or with its postcode.

    If the postcode agrees or is missing, only those in the town; if some have the very number, only these.
    """
    code = postcode_text(asked.postcode) if asked.postcode else ""
    streets = [at for at in in_town if not code or not (own := index.street(at).postcodes) or code in own]
    if not streets:
        streets = [*in_town, *(at for at in in_postcode if at not in in_town)]
    if asked.country:
        country = code_number(asked.country)
        streets = [at for at in streets if index.street(at).code in {country, 0} or not country]
    numbers = (number,) if number else ()
    found = [(at, house) for at in streets[:MOST] for house in houses_of(index, at, numbers, asked.postcode)]
    for at, house in [pair for pair in found if pair[1].how == NUMBER] or found:
        street = index.street(at)
        names = (street.town.name, *street.town.others)
        town = next((one for one in names if words_of(one) == words_of(asked.town)), street.town.name)
        yield _candidate(street, town, house, WHOLE_NAMES if at in in_town else WITH_POSTCODE)


def of_house(index: ReferenceIndex, row: int, found_by: str) -> Candidate:
    """One house."""
    street = index.street(index.arrays["house_key"].item(row) >> 24)
    return _candidate(street, street.town.name, house_of(index, row, ""), found_by)


def of_place(index: ReferenceIndex, at: int, question: SearchedAddress, found_by: str) -> Candidate:
    """A town, district, postcode or region."""
    reach = index.arrays["place_reach"].item(at)
    name = _asked_name(index.place(at), question)
    found = _place(index, at, name, index.position("place", at), found_by)
    return found._replace(method=Method.CENTRE, radius_m=round(reach, 1) if reach else None)


def of_area(index: ReferenceIndex, at: int, here: Position, found_by: str) -> Candidate:
    """A place whose area contains a position: it is there."""
    return _place(index, at, index.place(at).name, here, found_by)


def _place(index: ReferenceIndex, at: int, name: str, position: Position, found_by: str) -> Candidate:
    kind = PlaceKind(index.arrays["place_kind"].item(at))
    place = index.place(at)
    parts = {"postcode": index.text("place_postcode", at), "region": place.region, "country": place.country}
    if kind is PlaceKind.POSTCODE:
        parts |= {"postcode": name, "town": place.within}
    elif kind is PlaceKind.REGION:
        parts["region"] = name
    else:
        parts["town"] = name
    town = " ".join(filter(None, (parts["postcode"], parts.get("town", ""))))
    label = ", ".join(dict.fromkeys(filter(None, (town, place.within, parts["region"], place.country))))
    level = BY_RANK.get(index.arrays["place_level"].item(at), Level.ADDRESS_AREA)
    return Candidate(
        position, level, None, label, {part: text for part, text in parts.items() if text}, extra={HOW: found_by}
    )


def _asked_name(place: IndexedPlace, question: SearchedAddress) -> str:
    """The name of a place that is most like the one in the question: its own, or an alternative one."""
    if not place.others:
        return place.name
    asked: list[tuple[Word, ...]] = [place_of(question.parsed.town)] if question.parsed.town else []
    asked += [place_of(segment) for segment in question.parsed.loose]
    if not asked:
        return place.name
    names = (place.name, *place.others)
    return max(names, key=lambda one: max(similar(own, place_of(words_of(one))) for own in asked))


def _candidate(street: IndexedStreet, town: str, house: House, found_by: str) -> Candidate:
    line = f"{house.number} {street.text}".strip()
    where = f"{house.postcode} {town}".strip()
    district = "" if street.district == town else street.district
    parts = {"number": house.number, "street": street.text, "town": town, "postcode": house.postcode,
        "region": street.town.region, "country": street.town.country}  # fmt: skip
    return Candidate(
        house.position,
        house.level,
        house.method,
        ", ".join(filter(None, (line, district, where, parts["region"], parts["country"]))),
        {part: text for part, text in parts.items() if text},
        radius_m=round(house.radius_m, 1) if house.radius_m is not None else None,
        extra={HOW: "; ".join(filter(None, (found_by, house.how))), **({ROW: house.row_id} if house.row_id else {})},
    )
