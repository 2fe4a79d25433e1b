"""The command `markers`: marker files from the ledger."""

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from yellowtor.cli.console import Progress, note, stderr, write_out
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob
from yellowtor.filelocks import locked
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.marker_formats import format_of
from yellowtor.run.run_job import check_files
from yellowtor.run.write_markers import MarkersWritten, write_markers
from yellowtor.settings import check_settings, read_toml
from yellowtor.wiring.ledgers import job_answers, ledger_of
from yellowtor.wiring.markers import check_markers, credit_of, marker_files
from yellowtor.wiring.outputs import check_outputs, source_file
from yellowtor.wiring.services import load_services
from yellowtor.wiring.tables import open_table


@dataclass(frozen=True)
class MarkerWishes:
    """What the command line says about markers, in place of the job's settings. None: as the job says."""

    to: Sequence[Path]
    outcomes: Sequence[Outcome]
    level: str | None
    confidence: float | None
    only: str | None

    def settings(self) -> dict[str, object]:
        """The settings as a job file has them."""
        found = {"level": self.level, "confidence": self.confidence, "only": self.only}
        chosen: dict[str, object] = {name: value for name, value in found.items() if value is not None}
        if self.outcomes:
            chosen["outcomes"] = [outcome.value for outcome in self.outcomes]
        if self.to:
            chosen |= {
                "to": [str(path.absolute()) for path in self.to],
                "geojson": None,
                "page": None,
                "pictures": None,
            }
        return chosen


def markers_command(path: Path, wishes: MarkerWishes, *, as_json: bool) -> None:
    """Write the marker files, and say what they have."""
    for file in wishes.to:
        try:
            format_of(file)
        except ValueError as error:
            raise BadJob(f"--to: {error}. Nothing was written.") from error
    job = _job_with(path, wishes)
    folder = path.absolute().parent
    if not job.markers.writes():
        raise BadJob("The job names no file of markers: give one with --to FILE, or markers.to. Nothing was written.")
    services, _ = load_services(job, folder, unset_is_shown=True)
    table, _, _ = open_table(job, folder)
    parts = check_markers(job, folder)
    files = [folder / output.path for output in job.markers.files()]
    ledger = ledger_of(job, folder)
    check_outputs(job, folder, path, ledger if isinstance(ledger, Path) else None)
    watch = Progress(stderr())
    for remark in check_files(files):
        watch.remark(remark)
    opened = marker_files(job.markers, folder, credit_of(services), source_file(job, folder))
    with job_answers(job, path) as book, locked(files, watch.remark):
        watch.phase("Writing")
        written = write_markers(job, table, book, parts, opened, watch)
    if as_json:
        write_out(json.dumps({**asdict(written), "files": [str(file) for file in files]}, indent=2))
    else:
        _say(written, files)


def _job_with(path: Path, wishes: MarkerWishes) -> Job:
    """The job, with what the command line says in place of its settings."""
    data = read_toml(path, "job")
    markers = data.get("markers", {})
    if isinstance(markers, dict):
        changed = {**markers, **wishes.settings()}
        data = {**data, "markers": {name: value for name, value in changed.items() if value is not None}}
    return check_settings(data, Job, "job", path)


def _say(written: MarkersWritten, files: Sequence[Path]) -> None:
    count = "1 marker" if written.markers == 1 else f"{written.markers:,} markers"
    for file in files:
        stderr().print(f"wrote {file}", soft_wrap=True, highlight=False)
    stderr().print(f"{count} from the ledger; nothing was sent.", highlight=False)
    if written.without_position:
        records = "1 record has" if written.without_position == 1 else f"{written.without_position:,} records have"
        note(stderr(), f"{records} no position: a page lists them, other files only with markers.without_position.")
    for number, why in (
        (written.unknown, "no run has read yet"),
        (written.edited, "were edited since the last run"),
    ):
        if number:
            records = "1 record is" if number == 1 else f"{number:,} records are"
            note(stderr(), f"{records} left out, which {why}: `yellowtor run` first.")
