"""The verb `review`: what a person has to decide, and the candidates to choose from. Nothing is sent."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from yellowtor.answers.judging.offers import Offer, offers_of
from yellowtor.answers.judging.thresholds import Calibration
from yellowtor.answers.review import ReviewGroup, ReviewItem, ReviewRow
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.row_reader import key_as_shown
from yellowtor.run.ports import ReviewBook, Service

REVIEWED = (Outcome.DOUBTFUL, Outcome.UNPLACED)


class Review:
    """The review of one job: groups in order, and their items one by one."""

    def __init__(
        self,
        job: Job,
        services: Sequence[Service],
        book: ReviewBook,
        calibrations: Mapping[str, Calibration],
        outcomes: Sequence[Outcome],
    ) -> None:
        self.job = job
        self._services = services
        self._book = book
        self._outcomes = outcomes
        self._thresholds = {
            service.name: replace(job.judge.thresholds(), calibration=calibrations.get(service.name))
            for service in services
        }
        self.groups: Sequence[ReviewGroup] = book.groups(outcomes)

    @property
    def questions(self) -> int:
        return sum(group.questions for group in self.groups)

    @property
    def records(self) -> int:
        return sum(group.records for group in self.groups)

    def items(self) -> Iterator[ReviewItem]:
        """Everything that is to be decided, in order."""
        for row in self._book.rows(self._outcomes, self.groups):
            yield self._item(row)

    def item_with(self, name: str) -> ReviewItem | None:
        """The item that a file names so (ReviewRow.id); None if the ledger has no such address."""
        number, _, check = name.partition("-")
        if not (number.isascii() and number.isdecimal()) or len(number) > 18:
            return None
        row = self._book.row(int(number))
        return self._item(row) if row and row.check == check else None

    def item_of(self, key: str) -> ReviewItem | None:
        """The address of the record with this key, as people are shown it; None if the ledger does not know it."""
        number = self._book.number_of(key_as_shown(key))
        row = None if number is None else self._book.row(number)
        return row and self._item(row)

    def _item(self, row: ReviewRow) -> ReviewItem:
        return ReviewItem(row, self._offers(row))

    def _offers(self, row: ReviewRow) -> list[Offer]:
        if not isinstance(row.subject, Address):
            return []
        found = {}
        for service in self._services:
            kept = self._book.kept(service.asking.question_key(row.address_key))
            if kept is not None:
                found[service.name] = (service.read(kept[0]).candidates, self._thresholds[service.name])
        return offers_of(row.subject, found, row.position)
