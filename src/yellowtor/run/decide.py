"""The verb `review --apply`: takes the decisions of a file of `review`, each as a pin or a corrected address.

The same file twice changes nothing. A row that can't be understood is named, and the others are taken.
"""

from collections.abc import Mapping, Sequence

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.decisions import Pin
from yellowtor.answers.judging.offers import Offer
from yellowtor.contracts.position import Position
from yellowtor.contracts.review_file import ID
from yellowtor.contracts.subject import Subject
from yellowtor.contracts.table import Table
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.decision_rows import RowDecision, What, decision_for_group, read_decision
from yellowtor.run.phases.record_decisions import (
    Applied,
    RecordDecisions,
    RowFault,
    batched,
    correct,
    rows_of,
    with_parts,
)
from yellowtor.run.ports import DecisionBook, Watcher
from yellowtor.run.review import Review

PAGE = 200  # rows whose decisions are stored together


class Deciding:
    """Takes decisions of one person about the records of one job."""

    def __init__(self, job: Job, review: Review, book: DecisionBook, who: str) -> None:
        self._job = job
        self._review = review
        self._book = book
        self._who = who

    def apply(self, table: Table, watch: Watcher) -> Applied:
        """Take every decision of a table: a file of `review`, or any table with the job's key.

        Raises BadSource if the table has neither.
        """
        names = {name.strip().casefold() for name in table.header}
        watch.phase("Deciding")
        applied = Applied()
        if {ID, "decision"} <= names:
            self._take_all(table, applied, watch)
        else:
            why = f"from {table.name}"
            RecordDecisions(self._job, self._book, self._who, why).take(table, applied, watch)
        return applied

    def decide(self, name: str, decision: RowDecision) -> bool:
        """Take one decision about the address that a file of `review` names so; whether it is news.

        Raises ValueError with what is wrong.
        """
        item = self._review.item_with(name)
        if item is not None:
            return self._take(item.row.address_key, item.row.subject, item.offers, decision)
        number, _, check = name.partition("-")
        is_number = number.isascii() and number.isdecimal() and len(number) < 19
        before = self._book.corrected_with(int(number), check) if is_number else None
        if before is None:
            raise ValueError(f"this ledger has no address {name!r} in this job")
        return self._take(subject_key(before.asked), before.asked, (), decision)

    def undo(self, name: str) -> int:
        """Take back what was decided about an address; how much that was."""
        item = self._review.item_with(name)
        return self._book.undo(item.row.address_key) if item is not None else 0

    def _take_all(self, table: Table, applied: Applied, watch: Watcher) -> None:
        groups: dict[str, str] = {}
        for number, cells in rows_of(table):
            wanted = decision_for_group(cells)
            group = cells.get("group", "").strip()
            if wanted and groups.setdefault(group, wanted) != wanted:
                applied.faults.append(RowFault(number, cells[ID], f"its group is decided already: all {groups[group]}"))
        met = set[str]()
        for page in batched(rows_of(table), PAGE):
            watch.advanced(len(page))
            with self._book.together():
                for number, cells in page:
                    for_group = groups.get(cells.get("group", "").strip(), "")
                    try:
                        self._one(cells, for_group, applied, met)
                    except ValueError as error:
                        applied.faults.append(RowFault(number, cells.get("key", "") or cells[ID], str(error)))

    def _one(self, cells: Mapping[str, str], for_group: str, applied: Applied, met: set[str]) -> None:
        if not any(cells.values()):
            return
        applied.rows += 1
        decision = read_decision(cells, for_group)
        if decision is not None and decision.what is not What.SKIP:
            name = cells[ID].strip()
            if name in met:
                raise ValueError("an earlier row decides about this address")
            met.add(name)
            applied.add(decision.what, is_new=self.decide(name, decision))

    def _take(self, address_key: str, subject: Subject, offers: Sequence[Offer], decision: RowDecision) -> bool:
        what = decision.what
        if what is What.ADDRESS:
            corrected = with_parts(subject, decision.parts)
            return correct(self._book, address_key, subject, corrected, self._who, decision.why)
        if what is What.NOTHING:
            return self._book.put_on_address(address_key, self._pin(None, decision.why or "no answer fits"))
        if what is What.PLACE:
            return self._book.put_on_address(address_key, self._pin(decision.position, decision.why or "placed"))
        chosen = next((one for one in offers if one.position == decision.position), None)
        why = "; ".join(filter(None, (f"candidate {decision.letter}" + _of(chosen), decision.why)))
        made = self._pin(decision.position, why)
        if chosen:
            made = made._replace(service=chosen.service, level=chosen.level, matched=chosen.matched)
        return self._book.put_on_address(address_key, made)

    def _pin(self, position: Position | None, why: str) -> Pin:
        lat, lon = position or (None, None)
        return Pin(lat, lon, self._who, why, self._book.now)


def _of(chosen: Offer | None) -> str:
    return f" of {chosen.service}: {chosen.matched}" if chosen else ""
