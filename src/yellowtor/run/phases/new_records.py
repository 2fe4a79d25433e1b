"""Takes records that no scan has met, column by column: cells that repeat are composed and hashed once."""

from collections.abc import Sequence
from itertools import repeat

from yellowtor.addresses.keys import Asking
from yellowtor.answers.ledger_rows import MetCells, NewRecords, WorkState
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject
from yellowtor.run.phases.composing_helpers import Cells, ComposingHelpers, SubjectComposer
from yellowtor.run.ports import ScanBook

REMEMBERED = 50_000  # different cells: some 25 MB


class NewRecordTaker:
    """Composes batches of new records, and puts them into the ledger.

    keep: records keep their own positions. A batch may be prepared while the one before it is put.
    """

    def __init__(self, composer: SubjectComposer, book: ScanBook, *, keep: bool) -> None:
        self._keep = keep
        self._helpers = ComposingHelpers(composer)
        self._book = book
        self._met: dict[Cells, MetCells] = {}

    def prepare(
        self, keys: Sequence[str], cells: Sequence[Sequence[str]], held: Sequence[Position | None]
    ) -> NewRecords:
        """Prepare records with these keys, address cells (column by column) and own positions."""
        kept = [self._keep and position is not None for position in held] if any(held) else repeat(False, len(keys))
        places: dict[Cells, int] = {}
        which = [places.setdefault(found, len(places)) for found in zip(kept, *cells, strict=True)]
        fresh = [found for found in places if found not in self._met]
        if len(self._met) + len(fresh) > REMEMBERED:
            self._met = {found: self._met[found] for found in places if found in self._met}
        for found, (raw_hash, composed) in zip(fresh, self._helpers.make(fresh), strict=True):
            reasons = (composed.why,) if composed.why else ()
            self._met[found] = MetCells(raw_hash, state_of(composed.why, kept=found[0]), reasons, composed)
        return NewRecords(keys, held, which, [self._met[found] for found in places])

    def put(self, records: NewRecords) -> bool:
        """Put records into the ledger, after those that were prepared before; False if they are not new after all."""
        if self._book.put_new(records):
            return True
        self._met = {}
        return False

    def close(self) -> None:
        """End what works for it."""
        self._helpers.close()


def state_of(why: str, *, kept: bool) -> WorkState:
    """What a record becomes; why says why nothing is asked about it."""
    if kept:
        return WorkState.KEPT
    return WorkState.INCOMPLETE if why else WorkState.ASK


def lacking(askings: Sequence[Asking], asked: Subject) -> str:
    """Why no service can be asked about this; empty where one can."""
    why = [asking.lacks(asked) for asking in askings]
    return why[0] if all(why) else ""
