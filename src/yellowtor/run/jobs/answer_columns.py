"""The cells of the columns that a job maps."""

from typing import Any

from yellowtor.addresses.line_template import LineTemplate
from yellowtor.answers.answer_columns import Cells, ColumnRules, column_of
from yellowtor.answers.geography.projection import Point, Projection
from yellowtor.answers.record_answers import Answer, AnswerPool, Answers, PooledAnswers
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.table import Repeated
from yellowtor.run.jobs.job import Job


class Columns:
    """Makes the cells of one job's columns. leave is put in place of a cell that stays as it is.

    stale counts records whose coordinates are not ours, and belong to an address that has changed.
    """

    def __init__(self, job: Job, leave: object) -> None:
        self._job = job
        self._leave = leave
        self.names = list(job.write.columns.mapped())
        self.sure = {Outcome.PLACED, Outcome.DOUBTFUL} if job.write.doubtful else {Outcome.PLACED}
        self.stale = 0
        self._columns = {name: column_of(name) for name in self.names}
        postal = [LineTemplate(line) for line in job.write.postal]
        projection = Projection(job.write.crs) if job.write.crs else None
        self._rules = ColumnRules(job.in_reverse, postal, projection)
        self._pool: AnswerPool | None = None
        self._made: list[list[Any]] = []  # the cells of each column for the answers of the pool
        self._sent: list[Position | None] = []  # and their positions
        self.wanted = frozenset(name for column in self._columns.values() for name in column.needs)

    def make(self, answers: Answers) -> list[list[Any]]:
        """The cells of each column, for these records."""
        points = self._points(answers)
        cells = Cells(answers, points, self._rules)
        made = {name: column.values(cells) for name, column in self._columns.items()}
        if "latitude" in made and None in points:
            pairs = [point or self._unsure(answer) for point, answer in zip(points, answers, strict=True)]
            made["latitude"], made["longitude"] = zip(*pairs, strict=True)
        return [list(made[name]) for name in self.names]

    def make_repeated(self, answers: PooledAnswers) -> list[Repeated]:
        """The same for records that share answers: each answer's cells are made once."""
        if answers.pool is not self._pool:
            self._pool = answers.pool
            self._made = [[] for _ in self.names]
            self._sent = []
        if len(self._sent) < answers.pool.count:
            new = answers.pool.since(len(self._sent))
            for cells, more in zip(self._made, self.make(new), strict=True):
                cells.extend(more)
            self._sent += [Position(*point).rounded() if point else None for point in self._points(new)]
        return [Repeated(cells, answers.which) for cells in self._made]

    def sent(self, answers: PooledAnswers) -> Repeated:
        """The positions that these records get; None where that is not sure. After make_repeated()."""
        return Repeated(self._sent, answers.which)

    def _points(self, answers: Answers) -> list[Point | None]:
        """Where each record is; None if that is not sure."""
        points = answers.points()
        outcomes = answers.column("outcome")
        if self.sure.issuperset(outcomes):
            return points
        return [point if outcome in self.sure else None for outcome, point in zip(outcomes, points, strict=True)]

    def _unsure(self, answer: Answer) -> tuple[Any, Any]:
        """The coordinate cells of a record without a point: empty, or unchanged."""
        foreign = answer.held is not None and answer.held != answer.written
        self.stale += foreign and answer.outcome is Outcome.UNPLACED
        stays = (foreign or answer.outcome is Outcome.KEPT) and not self._job.write.table
        return (self._leave, self._leave) if stays else (None, None)
