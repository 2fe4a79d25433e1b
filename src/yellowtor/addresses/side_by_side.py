"""A question and its answer part by part, for people: each word of the question is marked."""

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from yellowtor.addresses.alignment import Alignment, WordMark
from yellowtor.addresses.answered_place import answered_place
from yellowtor.addresses.parsing.parse import ParsedAddress
from yellowtor.addresses.readings import best_reading
from yellowtor.addresses.similarity import AGREES
from yellowtor.contracts.address import Address

NOT_COMPARED = {"unit": "unit", "care_of": "care of", "po_box": "PO box", "notes": "note"}


class AlignedPart(NamedTuple):
    """One part: the words of the question, the answer, and how they agree, in words."""

    name: str
    asked: tuple[WordMark, ...]
    answered: str
    agreement: str

    @property
    def question(self) -> str:
        """The words of the question as one text."""
        return " ".join(mark.text for mark in self.asked)


def side_by_side(address: Address, answered: Mapping[str, str]) -> list[AlignedPart]:
    """The parts that the question or the answer has; then those of the question that are never compared."""
    asked, found = best_reading(address, answered)
    texts = {part: tuple(mark for mark in found.marks if mark.part == part) for part in ("street", "town", "")}
    if asked.street:
        texts["street"] = tuple(_in_street(word, found) for word in asked.street)
    texts["number"] = _mark("number", asked.number, found.number)
    texts["postcode"] = _mark("postcode", asked.postcode, found.postcode)
    texts["region"] = _mark("region", " ".join(asked.region), found.region)
    texts["country"] = _mark("country", asked.country, found.country)
    values = {"number": found.number, "street": found.street, "town": found.town, "postcode": found.postcode,
              "region": found.region, "country": found.country}  # fmt: skip
    there = _answered(asked, answered)
    rows = [
        AlignedPart("house number" if part == "number" else part, texts[part], there[part], _agreement(
            value, asked=bool(texts[part]), answered=bool(there[part])
        ))
        for part, value in values.items()
        if texts[part] or there[part]
    ]  # fmt: skip
    if texts[""]:
        rows.append(AlignedPart("other words", texts[""], "", ""))
    return [*rows, *_not_compared(asked)]


def _in_street(text: str, found: Alignment) -> WordMark:
    """A word of the street; its kind and its direction are explained unless they are other ones."""
    named = next((mark for mark in found.marks if mark.part == "street" and mark.text == text), None)
    return named or WordMark("street", text, 0.0 if False in {found.kind, found.direction} else 1.0)


def _mark(part: str, text: str, value: float | None) -> tuple[WordMark, ...]:
    return (WordMark(part, text, value or 0.0),) if text else ()


def _agreement(value: float | None, *, asked: bool, answered: bool) -> str:
    if value is not None and asked:
        return "agrees" if value >= AGREES else "agrees in part" if value >= 0.5 else "differs"
    if not asked:
        return "not asked"
    return "not comparable" if answered else "not confirmed"


def _answered(asked: ParsedAddress, answered: Mapping[str, str]) -> dict[str, str]:
    """The texts of the answer by part; those of a label alone, parsed."""
    if any(text for part, text in answered.items() if part != "label"):
        country = answered.get("country") or answered.get("country_code", "")
        parts = ("number", "street", "town", "postcode", "region")
        return {part: answered.get(part, "") for part in parts} | {"country": country}
    place = answered_place(answered, asked.country)
    street = " ".join([one.text for one in place.street.core] + sorted(place.street.kinds)[:1])
    town = " ".join(one.text for one in place.town)
    return {"number": place.number, "street": street, "town": town, "postcode": place.postcode,
            "region": place.region, "country": place.country}  # fmt: skip


def _not_compared(asked: ParsedAddress) -> Iterator[AlignedPart]:
    for field, name in NOT_COMPARED.items():
        if text := getattr(asked, field):
            yield AlignedPart(name, (WordMark(field, text, 1.0),), "", "not compared")
