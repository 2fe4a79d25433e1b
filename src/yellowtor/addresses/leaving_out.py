"""Leaves units, care-of lines, boxes and notes out of what is asked; every other sign stays as the record has it."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.parsing.words import LONGEST, words_of
from yellowtor.contracts.address import Address
from yellowtor.contracts.subject import Composer

FIELDS = {"unit": "unit", "care of": "care_of", "PO box": "po_box", "notes": "notes"}  # by what a job calls them
_TOKEN = re.compile(r"[^\s,;]+")
_LOOSE = (
    (re.compile(r"[(\[]\s*[)\]]"), " "),
    (re.compile(r"\s+[-–—]{1,2}\s*(?=$|[,;])"), ""),
    (re.compile(r"\s*([,;])(?:\s*[,;])+"), r"\1"),
    (re.compile(r"[,;]\s*(?=[(\[])"), " "),
    (re.compile(r"\s+"), " "),
    (re.compile(r"\s+([,;])"), r"\1"),
)


def without(address: Address, kinds: Sequence[str]) -> Address:
    """The address without its parts of these kinds (of FIELDS).

    >>> without(Address(street="12 Wharf Lane Apt 4, c/o R. Pell (back door)"), ["unit", "care of"]).street
    '12 Wharf Lane (back door)'
    """
    parsed = parse(address)
    taken = [text for kind in kinds for text in filter(None, getattr(parsed, FIELDS[kind]).split("; "))]
    if not taken:
        return address
    changed = {}
    for part in ("whole", "street", "town"):
        text = getattr(address, part)
        for words in taken:
            text = _cut(text, words)
        if text != getattr(address, part):
            changed[part] = text
    return replace(address, **changed)


def _cut(text: str, words: str) -> str:
    """The text without the span that has these words, in plain Latin letters: one with a #, else the last."""
    wanted = words_of(words)
    tokens = [(found.start(), found.end(), words_of(found[0])) for found in _TOKEN.finditer(text, 0, LONGEST)]
    spans = []
    for at, (start, _, _) in enumerate(tokens):
        met: tuple[str, ...] = ()
        for _, end, more in tokens[at:]:
            met += more
            if met == wanted:
                spans.append((start, end))
            if met != wanted[: len(met)]:
                break
    if not spans:
        return text
    start, end = max(spans, key=lambda span: ("#" in text[slice(*span)], span[0], -span[1]))
    return _tidy(f"{text[:start]} {text[end:]}")


def _tidy(text: str) -> str:
    for pattern, instead in _LOOSE:
        text = pattern.sub(instead, text)
    return text.strip(" ,;")


@dataclass(frozen=True, slots=True)
class LeavingOut:
    """A composer whose addresses lack the parts of these kinds."""

    composer: Composer
    kinds: tuple[str, ...]

    def raw_columns(self) -> Sequence[str]:
        return self.composer.raw_columns()

    def rules(self) -> str:
        return f"{self.composer.rules()} without {self.kinds}"

    def compose(self, cells: Mapping[str, str]) -> Address:
        address = self.composer.compose(cells)
        assert isinstance(address, Address), "a position has no such parts"
        return without(address, self.kinds)

    def says_nothing(self, cells: Mapping[str, str]) -> bool:
        return self.composer.says_nothing(cells)

    def own_line(self, cells: Mapping[str, str]) -> str:
        return self.composer.own_line(cells)

    def why_not(self, cells: Mapping[str, str], address: Address) -> str:
        if why := self.composer.why_not(cells, address):
            return why
        return "" if address.street or address.whole or address.town or address.postcode else "nothing is left to ask"
