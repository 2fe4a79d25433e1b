"""The Python API for DataFrames, with the job, ledger and promises of the command.

Messages go to the logger "yellowtor"; nothing is printed, and no signal is caught.
"""

import asyncio
import logging
import time
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from yellowtor.addresses.keys import digest
from yellowtor.allowance.forecast import Forecast
from yellowtor.allowance.windows import Left
from yellowtor.answers.answer_columns import NUMBERS
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob, BadSource, Busy, KeyRefused
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.jobs.job import Job
from yellowtor.run.parts import Options, Summary
from yellowtor.run.run_job import conduct
from yellowtor.settings import check_settings, read_toml
from yellowtor.wiring.run_parts import Files, JobLocation, PartsOptions, open_parts
from yellowtor.wiring.services import load_services
from yellowtor.wiring.tables import framed

if TYPE_CHECKING:
    import pandas as pd

T = TypeVar("T")
Frame = TypeVar("Frame", bound=Any)  # a DataFrame, an Arrow table or a record batch
LOOK_S = 0.5
LOG = logging.getLogger("yellowtor")
OF_FILES = {"file", "database", "password_from", "table", "query", "sheet", "block", "text"}  # not of a frame
NOWHERE = {"to": "-"}


def place(
    frame: "pd.DataFrame",
    job: "str | Path | Mapping[str, Any]",
    *,
    at_most: int | None = None,
    again_failed: bool = False,
    yes: bool = False,
) -> "pd.DataFrame":
    """A copy of the frame with the answer columns of the job: degrees (WGS 84) and texts.

    job is the path of a job file, or its contents; where its records and answers are is ignored, its marker files are
    written. Missing values are those of pandas. Records that wait for a quota have the outcome "waiting".
    `frame.attrs["yellowtor"]` has the counts. at_most, again_failed and yes are `--at-most`, `--again failed` and
    `--yes` of the command.

    Raises BadJob, BadSource (a missing column, an empty or repeated key), KeyRefused, Unconfirmed (it may cost more
    than `ask.confirm_above`), LedgerTrouble, Busy.
    """
    settings, folder, whose = _settings(job)
    options = Options(at_most=at_most, again_failed=again_failed, agreed=yes)
    file = None if isinstance(job, Mapping) else Path(job)
    return _placed(frame, check_settings(settings, Job, "job"), JobLocation(folder, whose), file, options)


def _placed(frame: "pd.DataFrame", job: Job, place: JobLocation, file: Path | None, options: Options) -> "pd.DataFrame":
    """The frame with the answers of a job whose settings are for frames."""
    services, remarks = load_services(job, place.folder)
    for remark in remarks:
        LOG.warning(remark)
    table, framed_table = framed(frame, job.records)
    files = Files(file, None, ())
    with open_parts(job, place, services, table, files, PartsOptions(options.again_failed)) as parts:
        summary = _outside_a_loop(lambda: conduct(parts, options, _Log(), Cancellation()))
    if turn := summary.asked.refused:
        raise KeyRefused(f"{turn.service} refused: {turn.message}. What was answered before is kept.")
    placed = framed_table.placed
    placed.attrs["yellowtor"] = _totals(summary)
    return placed


def place_partition(frame: Frame, job: "str | Path | Mapping[str, Any]", *, yes: bool = False) -> Frame:
    """A copy of a partition of a larger table with the answer columns of the job, for engines that have many machines.

    As place(), and safe for many partitions at the same time, in as many processes: the ledger (on a PostgreSQL, where
    there are several machines) sees to it that no question is asked twice and that all of them keep to the quota. A
    partition that is given twice is done once. The columns have the same types in every partition: float64 for degrees
    and confidence, object for texts. An empty partition gets the columns, and nothing is opened: its result tells an
    engine the types. Marker files are not written.

    frame is a DataFrame, an Arrow table or a record batch; the result is of the same type. Keys must differ within a
    partition. Raises what place() raises, but for Busy: it waits.
    """
    placed: Any
    if not hasattr(frame, "to_pandas"):
        placed = _placed_partition(frame, job, yes=yes)
    else:
        import pyarrow as pa

        placed = pa.Table.from_pandas(_placed_partition(frame.to_pandas(), job, yes=yes), preserve_index=False)
        if not isinstance(frame, pa.Table):
            placed = pa.RecordBatch.from_arrays(
                [column.combine_chunks() for column in placed.columns], placed.column_names
            )
    answered: Frame = placed
    return answered


def _placed_partition(frame: Any, job: "str | Path | Mapping[str, Any]", *, yes: bool) -> Any:
    settings, folder, whose = _settings(job)
    checked = check_settings({**settings, "markers": {}}, Job, "job")
    columns = checked.write.columns.mapped()
    placed = frame.copy()
    if len(frame):
        keys = placed[checked.records.keys()].astype(str).to_numpy().tolist()
        place = JobLocation(folder, f"{whose}-{digest(repr(keys))}")
        placed = _when_free(lambda: _placed(frame, checked, place, None, Options(agreed=yes)))
    for part, column in columns.items():
        if column not in placed:
            placed[column] = [None] * len(placed)
        try:
            placed[column] = placed[column].astype("float64" if part in NUMBERS else "object")
        except (ValueError, TypeError) as error:
            raise BadSource(f"The column {column!r} is for numbers, and has something else: {error}.") from error
    return placed


def _when_free(work: Callable[[], T]) -> T:
    """Do it; again once the process that has the same partition is done."""
    while True:
        try:
            return work()
        except Busy:
            time.sleep(LOOK_S)


def _settings(job: "str | Path | Mapping[str, Any]") -> tuple[dict[str, Any], Path, Path]:
    """A job for a frame: its settings, the folder that its paths are from, what the ledger knows it by."""
    if isinstance(job, Mapping):
        settings = dict(job)
        folder = Path.cwd()
        whose = folder / f"frame-{digest(repr(sorted(settings.items())))[:16]}"
    else:
        path = Path(job)
        settings = read_toml(path, "job")
        folder = path.absolute().parent
        whose = path.resolve().with_name(f"{path.name}#frame")
    if not isinstance(settings.get("records"), Mapping) or not isinstance(settings.get("write"), Mapping):
        raise BadJob("The job needs [records] with a key and [write] with columns. Nothing was sent.")
    records = {name: value for name, value in settings["records"].items() if name not in OF_FILES}
    write = {name: value for name, value in settings["write"].items() if name in {"columns", "doubtful"}}
    return {**settings, "records": {**records, "file": "-"}, "write": {**write, **NOWHERE}}, folder, whose


def _totals(summary: Summary) -> dict[str, Any]:
    outcomes = {outcome.value: count for outcome, count in summary.outcomes.items() if count}
    return {"records": summary.scan.records, "requests": summary.asked.sent, "outcomes": outcomes}


def _outside_a_loop(work: Callable[[], T]) -> T:
    """The result of work, executed in another thread if this one runs an event loop, as in a notebook."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return work()
    with ThreadPoolExecutor(1) as threads:
        return threads.submit(work).result()


class _Log:
    """Watches a run for the logger."""

    def phase(self, name: str, total: int | None = None) -> None:
        LOG.info("%s%s", name, f" {total:,}" if total else "")

    def asks(self, service: str, total: int, left: Left | None, forecast: Forecast) -> None:
        allowed = f"{left.left} left {left.words}" if left else "no limit"
        LOG.info("Asking %s %d questions, to be done at %s; %s", service, total, forecast.ends_at or "no time", allowed)

    def advanced(self, count: int) -> None: ...

    def file_done(self, name: str, done: int, total: int) -> None: ...

    def outcomes(self, counts: Mapping[Outcome, int]) -> None: ...

    def sent(self, requests: int, counted: int) -> None: ...

    def remark(self, text: str) -> None:
        LOG.warning(text)

    @property
    def keeps_log(self) -> bool:
        return LOG.isEnabledFor(logging.DEBUG)

    def event(self, name: str, facts: Mapping[str, object]) -> None:
        LOG.debug("%s %s", name, facts)

    def fault(self, error: Exception) -> None:
        LOG.error("an unexpected fault (%s) met one question, which has failed", type(error).__name__)
