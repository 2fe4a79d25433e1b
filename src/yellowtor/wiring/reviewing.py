"""What a review of a job needs, open: services (no key is needed), the ledger to look at and to decide in, files."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.contracts.address import PARTS
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.review_file import ReviewHead
from yellowtor.contracts.table import Table
from yellowtor.errors import BadJob
from yellowtor.run.decide import Deciding
from yellowtor.run.jobs.job import Job
from yellowtor.run.ports import ReviewFile
from yellowtor.run.review import REVIEWED, Review
from yellowtor.settings import read_settings
from yellowtor.tables.file_table import FileOptions
from yellowtor.tables.registry import ENDINGS, open_file
from yellowtor.wiring.calibrations import calibrations_of
from yellowtor.wiring.ledgers import job_pins, job_review
from yellowtor.wiring.markers import map_view
from yellowtor.wiring.services import load_services

if TYPE_CHECKING:
    from yellowtor.contracts.map_view import MapView
    from yellowtor.markers.review_page import ReviewPage


def job_to_review(path: Path) -> Job:
    """The job. Raises BadJob for one in reverse: its records have their positions."""
    job = read_settings(path, Job, "job")
    if job.in_reverse:
        raise BadJob(f'{path} says direction = "reverse": a review decides positions, and its records have theirs.')
    return job


@contextmanager
def open_review(path: Path, outcomes: Sequence[Outcome] = REVIEWED) -> Iterator[Review]:
    """The review of a job, while runs may use its ledger. Raises BadJob, LedgerTrouble."""
    job = job_to_review(path)
    folder = path.absolute().parent
    services, _ = load_services(job, folder, unset_is_shown=True)
    with job_review(job, path) as book:
        if not book.is_known:
            raise BadJob(f"The ledger knows no records of {path}: `yellowtor run` first. Nothing was changed.")
        yield Review(job, services, book, calibrations_of(job, folder), outcomes)


@contextmanager
def open_deciding(path: Path, who: str) -> Iterator[Deciding]:
    """What takes decisions about the records of a job. Raises Busy while a run has it."""
    with open_review(path) as review, job_pins(path) as book:
        yield Deciding(review.job, review, book, who)


def decision_table(path: Path) -> Table:
    """A table of decisions. Raises BadJob for a file of another kind."""
    if table := open_file(path, FileOptions()):
        return table
    raise BadJob(f"--apply {path.name}: a table is a file {', '.join(ENDINGS)}. Nothing was changed.")


def parts_of(job: Job) -> list[str]:
    """The parts that the job's addresses have."""
    address = job.address
    assert address is not None, "a job in reverse has no review"
    named = {*address.columns(), *(part for part, text in address.fixed if text), *(["whole"] if address.line else [])}
    return [part for part in PARTS if part in named]


def review_head(job: Job, path: Path, review: Review, credit: str) -> ReviewHead:
    """What files of a review say at their beginning."""
    title = f"Review of {job.name or path.stem}"
    return ReviewHead(title, parts_of(job), credit, review.questions, review.records, job.judge.tolerance_m)


class ReviewFiles:
    """Writes a review into files by their endings."""

    def __init__(self, job: Job, path: Path, review: Review, credit: str) -> None:
        self._job = job
        self._folder = path.absolute().parent
        self._head = review_head(job, path, review, credit)

    def page(self) -> "ReviewPage":
        """One page for the server."""
        from yellowtor.markers.review_page import ReviewPage

        return ReviewPage(self._head, *self._map())

    @contextmanager
    def open(self, file: Path) -> Iterator[ReviewFile]:
        """The file, to add addresses to. Raises BadJob for an ending that is not known."""
        ending = file.suffix.lower()
        if ending == ".html":
            from yellowtor.markers.review_page import ReviewPages

            pages = ReviewPages(file, self._head, *self._map())
            yield pages
            pages.end()
            return
        from yellowtor.tables.review_files import open_review_text, open_review_workbook

        if ending == ".csv":
            with open_review_text(file, self._head) as text:
                yield text
            return
        with open_review_workbook(file, self._head) as workbook:
            yield workbook

    def _map(self) -> "tuple[MapView, list[Path]]":
        under = [self._folder / layer for layer in self._job.markers.under]
        return map_view(self._job.markers, self._folder), under
