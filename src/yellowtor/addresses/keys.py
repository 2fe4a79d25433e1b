"""Keys of raw cells and of questions: BLAKE2b digests of 128 bits in hexadecimal."""

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from yellowtor.addresses.canonical import SEPARATOR, canonical
from yellowtor.contracts.address import Address
from yellowtor.contracts.subject import AskedPosition, Subject


def digest(*parts: str) -> str:
    """128 bits of BLAKE2b over the parts, as 32 hexadecimal digits."""
    return hashlib.blake2b(SEPARATOR.join(parts).encode(), digest_size=16).hexdigest()


def raw_hashes(rows: Iterable[Sequence[str]]) -> list[str]:
    """The fingerprint of each record's address cells just as they stand: any edit at all changes it."""
    blake2b = hashlib.blake2b
    return [blake2b(text.encode(), digest_size=16).hexdigest() for text in map(SEPARATOR.join, rows)]


def subject_key(subject: Subject) -> str:
    """The canonical form of a subject: equal for spellings that differ only in case, spaces and punctuation."""
    if isinstance(subject, AskedPosition):
        return subject.uri
    assert isinstance(subject, Address), "there is nothing else"
    return SEPARATOR.join(map(canonical, subject.texts()))


@dataclass(frozen=True, slots=True)
class Asking:
    """What distinguishes two questions besides the address. Never a credential.

    country limits the answers, area is preferred; each is empty if the template does not use it. wants are the
    variables of the template that carry the subject: parts of an address, or q (the whole line), or lat and lon in
    reverse.
    """

    service: str
    operation: str
    template: str
    language: str
    country: str
    count: int
    wants: tuple[str, ...] = ("q",)
    area: str = ""

    def lacks(self, asked: Subject) -> str:
        """Why nothing can be asked about this address (or position); empty where something can."""
        if "q" in self.wants:
            return ""
        known = asked.as_dict()
        if any(known.get(name) for name in self.wants if name != "country"):
            return ""
        return f"the service asks by {', '.join(self.wants)}, and the address is not in parts"

    @property
    def key(self) -> str:
        """What all questions that are asked in this way have in common."""
        return digest(*self._parts())

    def question_key(self, address_key: str) -> str:
        return digest(address_key, *self._parts())

    def way(self) -> str:
        """What digest() makes a question's key of, with the key of an address before it."""
        return SEPARATOR.join(self._parts())

    def _parts(self) -> list[str]:
        parts = [self.service, self.operation, self.template, self.language, self.country, str(self.count)]
        return [*parts, self.area] if self.area else parts
