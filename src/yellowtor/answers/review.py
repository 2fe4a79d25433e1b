"""What a person reviews: addresses whose answers are in doubt, in groups, each with its candidates."""

from collections.abc import Sequence
from typing import NamedTuple

from yellowtor.answers.judging.causes import CAUSES, OTHER
from yellowtor.answers.judging.offers import Offer
from yellowtor.contracts.outcome import Outcome, Reason
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Subject


class ReviewGroup(NamedTuple):
    """Addresses that are in doubt for one cause, with answers of one level; numbered from 0."""

    number: int
    outcome: Outcome
    cause: str
    level: str
    questions: int
    records: int

    @property
    def title(self) -> str:
        """What is wrong, in words."""
        if self.outcome is not Outcome.DOUBTFUL:
            return "the services do not know the address"
        what = CAUSES.get(self.cause, OTHER).what
        return f"{what} (answer: {self.level})" if self.level else what


class ReviewRow(NamedTuple):
    """An address as the ledger knows it: its number, a check of it, how many records have it, the key of the first."""

    number: int
    check: str
    address_key: str
    subject: Subject
    group: int
    key: str
    records: int
    outcome: Outcome
    cause: str
    reasons: Sequence[Reason]
    position: Position | None

    @property
    def id(self) -> str:
        """What names it in files: it fits one ledger only."""
        return f"{self.number}-{self.check}"


class ReviewItem(NamedTuple):
    """An address to decide about, with its candidates."""

    row: ReviewRow
    offers: Sequence[Offer]
