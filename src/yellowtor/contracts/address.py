"""An address as parts, and the readable line that is sent to a service."""

from dataclasses import dataclass, fields


@dataclass(frozen=True, slots=True)
class Address:
    """The parts of one postal address, each a text, empty when it is not known.

    `street` may contain the house number too ("14 Kelp Lane"), as in most tables. `whole` is an address that is not
    split into parts.
    """

    whole: str = ""
    number: str = ""
    street: str = ""
    town: str = ""
    postcode: str = ""
    region: str = ""
    country: str = ""

    def line(self) -> str:
        """One readable line, finest part first; an empty part leaves no comma."""
        street = " ".join(filter(None, (self.number, self.street)))
        town = " ".join(filter(None, (self.postcode, self.town)))
        return ", ".join(filter(None, (self.whole, street, town, self.region, self.country)))

    def as_dict(self) -> dict[str, str]:
        """The parts that are known, by name."""
        return {part: text for part, text in zip(PARTS, self.texts(), strict=True) if text}

    def texts(self) -> tuple[str, ...]:
        """The text of each of PARTS."""
        return (self.whole, self.number, self.street, self.town, self.postcode, self.region, self.country)

    def variables(self) -> dict[str, str]:
        """The variables of a template: the parts, and the whole line as `q`."""
        return {"q": self.line(), **self.as_dict()}


PARTS: tuple[str, ...] = tuple(field.name for field in fields(Address))
