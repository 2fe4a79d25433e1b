"""Asks about a sample of a job's records, under a name of its own in the ledger. No table is written."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yellowtor.answers.history import RecordStanding
from yellowtor.contracts.table import Table
from yellowtor.errors import BadJob
from yellowtor.run.ask_services import ask_all
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.jobs.job import Job
from yellowtor.run.parts import Options, Parts
from yellowtor.run.phases.row_reader import RowReader
from yellowtor.run.plan import Plan
from yellowtor.run.ports import Watcher
from yellowtor.run.run_job import check_cost, judging_of, plan_run, planned
from yellowtor.run.sample import DrawnSample, SampleTable, draw
from yellowtor.settings import read_settings
from yellowtor.wiring.comparing import standings
from yellowtor.wiring.ledgers import job_answers
from yellowtor.wiring.run_parts import Files, JobLocation, PartsOptions, job_parts, open_parts
from yellowtor.wiring.services import load_services
from yellowtor.wiring.tables import open_table

SAMPLE = " (sample)"  # ends the name under which the ledger knows a job's sample


@dataclass(frozen=True)
class SampledSide:
    """A sample of a job: how its records stand by key, what asking about it took, and the plan of the whole job."""

    name: str
    standings: Mapping[str, RecordStanding]
    requests: int
    waiting: int
    whole: Plan


def draw_sample(path: Path, size: int, seed: int) -> DrawnSample:
    """Draw the sample from the records of a job."""
    job = _job(path)
    table, _, _ = open_table(job, path.absolute().parent)
    try:
        with job_answers(job, path) as book:
            return draw(job, table, book, size, seed)
    except BadJob:  # no ledger yet: nothing is known of any record
        return draw(job, table, NOTHING_KNOWN, size, seed)


class _NothingKnown:
    def answers(self, keys: Sequence[str], wanted: object) -> dict[str, Any]:
        del keys, wanted
        return {}


NOTHING_KNOWN: Any = _NothingKnown()


def plan_whole(path: Path, watch: Watcher) -> Plan:
    """What the whole job would ask now."""
    with job_parts(path, PartsOptions(sends=False)) as (parts, _):
        return plan_run(parts, Options(dry_run=True), [], watch).plan


def ask_sample(path: Path, keys: set[str], watch: Watcher, stop: Cancellation, *, agreed: bool) -> SampledSide:
    """Ask about the records with these keys. Raises Unconfirmed where that costs more than the job allows."""
    whole = plan_whole(path, watch)
    job = _job(path)
    folder = path.absolute().parent
    services, _ = load_services(job, folder)
    source, _, _ = open_table(job, folder)
    table = SampleTable(source, _rows_with(keys, job, source))
    place = JobLocation(folder, f"{job.name or path.resolve()}{SAMPLE}")
    unwritten = job.model_copy(update={"markers": type(job.markers)()})
    with open_parts(unwritten, place, services, table, Files(None, None, ()), PartsOptions()) as parts:
        sent, waiting = _ask(parts, watch, stop, agreed=agreed)
        found = standings(parts.book.judging, sorted(keys))
    return SampledSide(str(path), found, sent, waiting, whole)


def _ask(parts: Parts, watch: Watcher, stop: Cancellation, *, agreed: bool) -> tuple[int, int]:
    """Ask what is open; the requests that were sent, and the questions that are left."""
    options = Options(agreed=agreed)
    judging = judging_of(parts, watch)
    _, plan = planned(parts, options, judging, watch, writes=False)
    if not agreed:
        check_cost(parts.job, plan, None)
    turns = list(ask_all(parts, plan.open_questions, options, None, judging, watch, stop))
    watch.phase("Judging")
    judging.judge_open(parts.book.judging)
    settled = sum(turn.settled for turn in turns[:1])
    return sum(turn.sent for turn in turns), max(0, plan.open_questions - settled)


def _rows_with(keys: set[str], job: Job, table: Table) -> list[Sequence[str]]:
    reader = RowReader(job, table)
    return [
        list(row)
        for batch in table.batches()
        for key, row in zip(reader.keys(batch), batch, strict=True)
        if key in keys
    ]


def _job(path: Path) -> Job:
    job = read_settings(path, Job, "job")
    if job.in_reverse:
        raise BadJob(f'{path} says direction = "reverse": its records have their positions. Nothing was compared.')
    return job
