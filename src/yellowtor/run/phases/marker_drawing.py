"""Hands the markers of a job to its marker files: as they come, or in an order."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager

from yellowtor.answers.record_answers import Answer
from yellowtor.contracts.marker import Marker, MarkerHead
from yellowtor.contracts.table import Row, Table
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.colour_vision import alike
from yellowtor.run.phases.marking import MarkerParts, Marking, marking_of
from yellowtor.run.ports import MarkerFile, MarkerFiles, Watcher


class Drawing:
    """The marker files of a job, open. Markers with a position are counted, and those without one."""

    def __init__(self, marking: Marking | None, files: Sequence[MarkerFile], order: Sequence[str]) -> None:
        self._marking = marking
        self._files = files
        self._order = order
        self._waiting: list[tuple[Row, Marker]] = []
        self.count = self.without_position = 0

    @property
    def is_empty(self) -> bool:
        """Whether there is no file."""
        return not self._files

    def draw(self, batch: Sequence[Row], answers: Iterable[Answer]) -> None:
        """Take these records into all files."""
        if self._marking is None:
            return
        for row, marker in self._marking.make(batch, answers):
            if self._order:
                self._waiting.append((row, marker))
            else:
                self._add(marker)

    def finish(self) -> None:
        """Add the markers that waited for the others, in their order."""
        if self._marking:
            for marker in self._marking.in_order(self._waiting, self._order):
                self._add(marker)

    def _add(self, marker: Marker) -> None:
        if marker.position is None:
            self.without_position += 1
        else:
            self.count += 1
        for file in self._files:
            file.add(marker)


OpenDrawing = Callable[[], AbstractContextManager[Drawing]]


@contextmanager
def drawing(job: Job, table: Table, parts: MarkerParts, files: MarkerFiles, watch: Watcher) -> Iterator[Drawing]:
    """The job's marker files, open; they are whole at the end. Raises BadJob or BadSource."""
    if not job.markers.writes():
        yield Drawing(None, (), ())
        return
    with marking_of(job, table, parts) as marking:
        head = MarkerHead(job.markers.title, marking.columns, marking.legend)
        with files(head, watch) as opened:
            made = Drawing(marking, opened, job.markers.order)
            yield made
            made.finish()
        for problem in marking.problems:
            watch.remark(problem)


def check_drawing(job: Job, table: Table, parts: MarkerParts) -> list[str]:
    """Remarks about the looks of the job's markers.

    Raises BadJob or BadSource if they name what the table does not have.
    """
    if not job.markers.writes():
        return []
    with marking_of(job, table, parts) as marking:
        return [
            f"the looks {one.name!r} and {other.name!r} differ only by colours that some people can't tell apart: give "
            "one another shape or text"
            for one, other in alike(marking.rule_looks)
        ]
