"""Checks everything that a run needs, and finds all problems instead of the first one. Nothing is written.

Unlike `wiring`, it continues after a part that fails.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TypeVar

from yellowtor.contracts.subject import Subject
from yellowtor.contracts.table import InPieces, InTransactions, Table
from yellowtor.errors import BadJob, YellowtorError
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.marker_drawing import check_drawing
from yellowtor.run.phases.row_reader import RowReader
from yellowtor.run.ports import Watcher
from yellowtor.run.preview import preview
from yellowtor.run.try_address import Trial, try_one
from yellowtor.services.http import NONE, HttpService
from yellowtor.services.reference_settings import ReferenceDescription
from yellowtor.services.request_maker import Wishes
from yellowtor.services.variables import Values, find_values
from yellowtor.settings import read_settings, read_toml
from yellowtor.wiring.calibrations import calibrations_of
from yellowtor.wiring.ledgers import check_ledger, ledger_of, service_book
from yellowtor.wiring.markers import check_markers
from yellowtor.wiring.outputs import check_outputs
from yellowtor.wiring.process import PROCESS
from yellowtor.wiring.references import check_columns, reference_place
from yellowtor.wiring.services import (
    AnyDescription,
    AnyService,
    check_extra,
    check_names,
    load_service,
    read_description,
    wishes_of,
)
from yellowtor.wiring.tables import open_table

T = TypeVar("T")
STRANGE = 0.5  # part of the records from which on it is strange that they are not asked about


@dataclass(frozen=True)
class Checked:
    """One check: its subject, the result, and its problems (none: it is fine)."""

    what: str
    said: str = ""
    problems: tuple[str, ...] = ()


class Checker:
    """Looks at a job. findings() may be called once."""

    def __init__(self, path: Path, watch: Watcher, *, ask: bool) -> None:
        self._path = path
        self._folder = path.absolute().parent
        self._watch = watch
        self._ask = ask
        self._unset = False  # a variable has no value
        self._problems: list[str] = []

    def findings(self) -> Iterator[Checked]:
        """What was found, one thing after the other."""
        job = self._try(lambda: read_settings(self._path, Job, "job"))
        yield self._checked("job", str(self._path))
        services = []
        for path in self._description_paths(job):
            description = self._try(partial(read_description, path))
            yield self._checked("description", str(path))
            if description:
                if service := self._service(job, description, path):
                    services.append(service)
                variables = () if isinstance(description, ReferenceDescription) else description.variables.values()
                yield self._checked("keys", ", ".join(v.place() for v in variables) or "none wanted")
        if job:
            yield from self._job(job, services)

    def _job(self, job: Job, services: Sequence[AnyService]) -> Iterator[Checked]:
        whole = len(services) == len(job.ask.all())
        if whole:
            self._try(lambda: check_names([service.name for service in services]))
            self._try(lambda: check_extra(job, services))
            yield self._checked("columns of answers", ", ".join(job.write.columns.mapped().values()))
        opened = self._try(lambda: open_table(job, self._folder))
        yield self._checked("records", opened[0].name if opened else "")
        if opened:
            table, _, to = opened
            reader = self._try(lambda: RowReader(job, table))
            yield self._checked("columns of records", ", ".join(filter(None, table.header)))
            self._try(lambda: self._check_outputs(job))
            self._try(lambda: table.check_target(to))
            inside = "into the source"
            if isinstance(table, InTransactions):
                inside = table.destination
            elif isinstance(table, InPieces):
                inside = table.target
            yield self._checked("where the answers go", str(to or inside))
        if (parts := self._try(lambda: check_markers(job, self._folder))) and opened:
            for remark in self._try(lambda: check_drawing(job, opened[0], parts)) or ():
                self._watch.remark(remark)
        self._try(lambda: calibrations_of(job, self._folder))
        files = [str(output.path) for output in job.markers.files()]
        yield self._checked("markers", ", ".join(files) or "none")
        where = self._try(lambda: check_ledger(job, self._folder))
        yield self._checked("ledger", str(where or ""))
        if whole and opened and reader:
            yield from self._records(job, opened[0], services)

    def _check_outputs(self, job: Job) -> None:
        ledger = ledger_of(job, self._folder)
        check_outputs(job, self._folder, self._path, ledger if isinstance(ledger, Path) else None)

    def _records(self, job: Job, table: Table, services: Sequence[AnyService]) -> Iterator[Checked]:
        seen = self._try(lambda: preview(job, table, services, 0, self._watch))
        if seen is None:
            yield self._checked("addresses", "")
            return
        said = f"{seen.records:,} records, {seen.questions:,} distinct questions, {seen.incomplete:,} incomplete"
        if seen.incomplete > STRANGE * seen.records:
            self._problems.append("most of the records are not asked about: `yellowtor preview` shows why")
        yield self._checked("addresses", said)
        if self._ask and not self._unset:
            for path, service in zip(job.ask.all(), services, strict=True):
                yield self._asked(job, table, path, service)

    def _asked(self, job: Job, table: Table, path: Path, service: AnyService) -> Checked:
        """One request, about the first record that can be asked about."""
        what = f"one request to {service.name}"
        address = self._try(lambda: _first_asked(job, table, service))
        trial = self._try(lambda: self._trial(job, path, service, address)) if address else None
        if trial is None:
            return self._checked(what, "")
        read = trial.read
        kept = f" ({trial.kept})" if trial.kept else ""
        said = f"{read.kind}: {read.message or read.because}{kept}"
        return Checked(what, said, () if read.kind.is_answer else (said,))

    def _trial(self, job: Job, path: Path, service: AnyService, asked: Subject) -> Trial:
        ledger = ledger_of(job, self._folder)
        with service_book(service, self._folder / path, ledger, "nothing") as book:
            return try_one(asked, service, book, book.clock, job.judge.thresholds(), anew=False)

    def _service(self, job: Job | None, description: AnyDescription, path: Path) -> AnyService | None:
        folder = path.absolute().parent
        wishes = wishes_of(job) if job else NONE
        if isinstance(description, ReferenceDescription):
            return self._try(partial(self._reference, description, path, wishes))
        for name, variable in description.variables.items():
            if found := self._try(partial(find_values, {name: variable}, PROCESS, folder)):
                for remark in found.remarks:
                    self._watch.remark(remark)
        unset = bool(self._problems)
        self._unset = self._unset or unset
        if unset:  # what else there is to see needs no value: each stands for itself
            names = {name: f"<{variable.place()}>" for name, variable in description.variables.items()}
            return self._try(lambda: HttpService(description, Values(names, unset=tuple(names)), wishes, folder))
        values = find_values(description.variables, PROCESS, folder)
        return self._try(lambda: HttpService(description, values, wishes, folder))

    def _reference(self, description: ReferenceDescription, path: Path, wishes: Wishes) -> AnyService:
        """A reference table, whose columns are looked at; its index is only built for a request."""
        check_columns(reference_place(description, path))
        return load_service(path, wishes, unset_is_shown=not self._ask, watch=self._watch)[0]

    def _description_paths(self, job: Job | None) -> list[Path]:
        """Where the descriptions are, even if the job has mistakes elsewhere."""
        if job:
            return [self._folder / path for path in job.ask.all()]
        try:
            ask = read_toml(self._path, "job").get("ask", {})
            named = ask.get("services") or [ask.get("service")]
            return [self._folder / path for path in named if isinstance(path, str)]
        except (BadJob, AttributeError, TypeError):
            return []

    def _try(self, look: Callable[[], T]) -> T | None:
        try:
            return look()
        except YellowtorError as error:
            self._problems.append(str(error))
            return None

    def _checked(self, what: str, said: str) -> Checked:
        problems = self._problems
        self._problems = []
        here = f"{self._folder}/"
        shown = (problem.replace(" Nothing was sent.", "").replace(here, "") for problem in problems)
        return Checked(what, said.replace(here, ""), tuple(shown))


def _first_asked(job: Job, table: Table, service: AnyService) -> Subject:
    reader = RowReader(job, table)
    for batch in table.batches():
        for row in batch:
            cells = reader.cells(row)
            address = reader.composing.compose(cells)
            if not (reader.composing.why_not(cells, address) or service.asking.lacks(address)):
                return address
    raise BadJob("no record can be asked about")
