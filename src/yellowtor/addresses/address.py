"""An address as parts, and the readable line that is sent to a service."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields

from yellowtor.addresses.canonical import SEPARATOR, canonical, fold_blanks


@dataclass(frozen=True, slots=True)
class Address:
    """The parts of one postal address, each a text, empty when it is not known.

    `street` may carry the number as well ("14 Kelp Lane"), as most tables have it. `whole` is an address
    that nobody has taken apart.
    """

    whole: str = ""
    number: str = ""
    street: str = ""
    town: str = ""
    postcode: str = ""
    region: str = ""
    country: str = ""

    def line(self) -> str:
        """One readable line, finest part first; parts that are empty take their commas along."""
        street = " ".join(filter(None, (self.number, self.street)))
        town = " ".join(filter(None, (self.postcode, self.town)))
        return ", ".join(filter(None, (self.whole, street, town, self.region, self.country)))

    def key(self) -> str:
        """The canonical form: equal for spellings that differ only in case, blanks and punctuation."""
        return SEPARATOR.join(canonical(getattr(self, part)) for part in PARTS)

    def as_dict(self) -> dict[str, str]:
        return {part: getattr(self, part) for part in PARTS if getattr(self, part)}


PARTS: tuple[str, ...] = tuple(f.name for f in fields(Address))


@dataclass(frozen=True, slots=True)
class Composing:
    """How a record becomes an address: a column for each part, fixed parts, and which are needed."""

    columns: Mapping[str, str]
    fixed: Mapping[str, str]
    needed: frozenset[str]

    def compose(self, cells: Mapping[str, str]) -> Address:
        """The address in these cells (column name to text). What the record says outranks what is fixed."""
        parts = dict(self.fixed)
        for part, column in self.columns.items():
            if text := fold_blanks(cells.get(column, "")):
                parts[part] = text
        return Address(**parts)

    def missing(self, address: Address) -> list[str]:
        """The needed parts that this address lacks; a part of punctuation alone counts as missing."""
        return [part for part in PARTS if part in self.needed and not canonical(getattr(address, part))]

    def rules(self) -> str:
        """All of this as one text, the same in every process (a set's own order is not)."""
        return repr((sorted(self.columns.items()), sorted(self.fixed.items()), sorted(self.needed)))

    def raw_columns(self) -> Iterable[str]:
        """The columns whose cells decide whether an address has changed."""
        return list(dict.fromkeys(self.columns.values()))
