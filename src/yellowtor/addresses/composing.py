"""How a record becomes an address: from columns, fixed parts and a line template."""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import repeat

from yellowtor.addresses.canonical import canonical, fold_blanks
from yellowtor.addresses.line_template import LineTemplate
from yellowtor.contracts.address import PARTS, Address

_BREAK = re.compile(r"[\s,]*[\r\n]+[\s,]*")  # where a cell goes on on another line
_WORD = re.compile(r"[^\s,;]+")


@dataclass(frozen=True, slots=True)
class AddressComposer:
    """How a record becomes an address: a column for each part or a line of columns, fixed parts, needed parts.

    words are the abbreviations (casefolded) of a column with their full words, by column.
    """

    columns: Mapping[str, str]
    fixed: Mapping[str, str]
    needed: frozenset[str]
    line: LineTemplate | None = None
    words: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    def compose(self, cells: Mapping[str, str]) -> Address:
        """The address in these cells (column name to text). What the record says outranks what is fixed."""
        return Address(**{**self.fixed, **self._own(cells)})

    def texts(self, columns: Sequence[Sequence[str]]) -> list[tuple[str, ...]] | None:
        """Address.texts() of the addresses in these columns, which are those of raw_columns().

        None if more than whole cells is to be put together.
        """
        if self.line or self.words:
            return None
        folded = {name: fold_column(column) for name, column in zip(self.raw_columns(), columns, strict=True)}
        parts: list[Iterable[str]] = []
        for part in PARTS:
            own = folded[self.columns[part]] if part in self.columns else None
            fixed = self.fixed.get(part, "")
            if own is not None:
                parts.append([text or fixed for text in own] if fixed else own)
            else:
                parts.append(repeat(fixed, len(columns[0])))
        return list(zip(*parts, strict=True))

    def says_nothing(self, cells: Mapping[str, str]) -> bool:
        """Whether the record itself has no part of an address."""
        return not any(map(canonical, self._own(cells).values()))

    def own_line(self, cells: Mapping[str, str]) -> str:
        """What a record says of its address itself, on one line."""
        return Address(**self._own(cells)).line()

    def _own(self, cells: Mapping[str, str]) -> dict[str, str]:
        parts = {part: self._text(column, cells) for part, column in self.columns.items()}
        if self.line:
            parts["whole"] = self.line.fill(lambda column: self._text(column, cells))
        return {part: text for part, text in parts.items() if text}

    def _text(self, column: str, cells: Mapping[str, str]) -> str:
        """A cell on one line, its words exchanged as the job says."""
        text = cells.get(column, "")
        if "\n" in text or "\r" in text:
            text = _BREAK.sub(", ", text.strip())
        if words := self.words.get(column):
            text = _WORD.sub(lambda found: words.get(found[0].casefold(), found[0]), text)
        return fold_blanks(text)

    def why_not(self, cells: Mapping[str, str], address: Address) -> str:
        """Why nothing is asked about the address in these cells; empty where something is.

        A needed part of punctuation alone counts as missing.
        """
        if missing := [part for part in PARTS if part in self.needed and not canonical(getattr(address, part))]:
            return f"{' and '.join(missing)} missing"
        if any(canonical(getattr(address, part)) for part in PARTS if part in self.columns and part not in self.fixed):
            return ""
        return "the address is empty" if self.says_nothing(cells) else ""

    def rules(self) -> str:
        """All rules as one text, equal in every process."""
        words = sorted((column, sorted(change.items())) for column, change in self.words.items())
        line = self.line.text if self.line else ""
        return repr((sorted(self.columns.items()), sorted(self.fixed.items()), sorted(self.needed), line, words))

    def raw_columns(self) -> Sequence[str]:
        """The columns whose cells decide whether an address has changed."""
        return list(dict.fromkeys([*self.columns.values(), *(self.line.columns if self.line else ())]))


def fold_column(cells: Sequence[str]) -> Sequence[str]:
    """Each cell on one line, its blanks folded; a column that has nothing to fold is looked through at once."""
    together = "\n".join(cells)
    if together.isascii() and together.replace("\n", "").isprintable() and together.count("\n") == len(cells) - 1:
        lines = f"\n{together}\n"
        if not ("  " in together or " \n" in lines or "\n " in lines):
            return cells
    return [fold_blanks(_BREAK.sub(", ", text.strip()) if "\n" in text or "\r" in text else text) for text in cells]
