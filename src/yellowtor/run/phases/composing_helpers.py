"""Composes what records ask about, in helper processes where there is much of it."""

import marshal
import pickle
from collections.abc import Mapping, Sequence
from typing import Any

from yellowtor.addresses.canonical import SEPARATOR, canonical
from yellowtor.addresses.composing import AddressComposer
from yellowtor.addresses.keys import Asking, digest, raw_hashes, subject_key
from yellowtor.answers.ledger_rows import Composed
from yellowtor.contracts.address import PARTS
from yellowtor.contracts.subject import Composer, Subject, parts_text, subject_text
from yellowtor.helper_processes import HelperGone, HelperProcess, cores, serve

MANY = 1_000  # cells that are worth to be sent to helpers
BEFORE = 20_000  # cells that have to come before: most runs have few new records
MOST = 4  # helpers
HAS_ITS_OWN = "has coordinates of its own"
Cells = tuple[Any, ...]  # whether the record is kept, and the texts of its address
Made = tuple[str, Composed]  # the fingerprint of the texts, and what they are composed into


class SubjectComposer:
    """Composes what records ask about, as corrections have it, with its questions to the services."""

    def __init__(self, composing: Composer, askings: Sequence[Asking], corrected: Mapping[str, Subject]) -> None:
        self._composing = composing
        self._columns = composing.raw_columns()
        self._askings = [(asking, asking.service, asking.way()) for asking in askings]
        self._corrected = corrected

    def compose(self, cells: Mapping[str, str], *, kept: bool) -> Composed:
        """What these cells ask about (by column name). kept: the record keeps its coordinates, and nothing is asked."""
        asked = self._composing.compose(cells)
        key = subject_key(asked)
        if key in self._corrected:
            asked = self._corrected[key]
            key = subject_key(asked)
        text = subject_text(asked)
        if kept:
            return Composed(text, key, HAS_ITS_OWN, {})
        if why := self._composing.why_not(cells, asked):
            return Composed(text, key, why, {})
        lacks = [asking.lacks(asked) for asking, _, _ in self._askings]
        if all(lacks):
            return Composed(text, key, lacks[0], {})
        able = zip(lacks, self._askings, strict=True)
        return Composed(text, key, "", {service: digest(key, way) for lack, (_, service, way) in able if not lack})

    def make(self, cells: list[Cells]) -> list[Made]:
        """The fingerprints of cells, and what they are composed into."""
        if not cells:
            return []
        hashes = raw_hashes([found[1:] for found in cells])
        return list(zip(hashes, self._composed(cells), strict=True))

    def _composed(self, cells: list[Cells]) -> list[Composed]:
        kept, *columns = zip(*cells, strict=True)
        composing = self._composing
        by_line = all("q" in asking.wants for asking, _, _ in self._askings)  # then none of them lacks a part
        if not (by_line and columns and isinstance(composing, AddressComposer)):
            return [self._one(found) for found in cells]
        if (texts := composing.texts(columns)) is None:
            return [self._one(found) for found in cells]
        needed = [(at, part) for at, part in enumerate(PARTS) if part in composing.needed]
        own = [at for at, part in enumerate(PARTS) if part in composing.columns and part not in composing.fixed]
        ways = [(service, way) for _, service, way in self._askings]
        made = []
        for at, parts in enumerate(texts):
            canon = tuple(map(canonical, parts))
            key = SEPARATOR.join(canon)
            if kept[at] or key in self._corrected or not any(canon[n] for n in own):
                made.append(self._one(cells[at]))
                continue
            missing = [part for n, part in needed if not canon[n]]
            why = f"{' and '.join(missing)} missing" if missing else ""
            questions = {} if why else {service: digest(key, way) for service, way in ways}
            made.append(Composed(parts_text(parts), key, why, questions))
        return made

    def _one(self, found: Cells) -> Composed:
        return self.compose(dict(zip(self._columns, found[1:], strict=True)), kept=found[0])


class ComposingHelpers:
    """Composes cells, with helpers as soon as there are many."""

    def __init__(self, composer: SubjectComposer) -> None:
        self._composer = composer
        self._helpers: list[HelperProcess] = []
        self._count = 0  # cells so far
        self._alone = cores() < 2

    def make(self, cells: list[Cells]) -> list[Made]:
        """As SubjectComposer.make(). If a helper was ended from outside, the work is done here."""
        self._count += len(cells)
        if self._alone or len(cells) < MANY or self._count < BEFORE:
            return self._composer.make(cells)
        try:
            return self._by_helpers(cells)
        except HelperGone:
            self._alone = True
            self.close()
            return self._composer.make(cells)

    def _by_helpers(self, cells: list[Cells]) -> list[Made]:
        if not self._helpers:
            self._helpers = [HelperProcess(__name__) for _ in range(min(MOST, cores() - 1))]
            for helper in self._helpers:
                helper.send(pickle.dumps(self._composer))
                helper.reply()
        share = -(-len(cells) // len(self._helpers))
        at_work = []
        for number, helper in enumerate(self._helpers):
            if part := cells[number * share : (number + 1) * share]:
                helper.send(marshal.dumps(part))
                at_work.append(helper)
        made = [one for helper in at_work for one in marshal.loads(helper.reply())]  # noqa: S302 - of our own process
        return [(raw_hash, Composed(*composed)) for raw_hash, composed in made]

    def close(self) -> None:
        """End the helpers."""
        for helper in self._helpers:
            helper.close()
        self._helpers = []


def main() -> None:
    """Compose for the process that started this one."""
    composers: list[SubjectComposer] = []

    def answer(message: bytes) -> bytes:
        if not composers:
            composers.append(pickle.loads(message))  # noqa: S301 - of the process that started this one
            return b""
        made = composers[0].make(marshal.loads(message))  # noqa: S302 - likewise
        return marshal.dumps([(raw_hash, tuple(composed)) for raw_hash, composed in made])

    serve(answer)


if __name__ == "__main__":
    main()
