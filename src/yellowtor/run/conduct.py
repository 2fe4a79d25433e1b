"""The verb `run`: scan, plan, ask, judge, write back. Every stop ends with writing what is settled."""

import json
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from yellowtor.addresses.address import Address
from yellowtor.answers.kinds import Kind
from yellowtor.answers.outcome import Outcome
from yellowtor.answers.work import Question
from yellowtor.run.asked import AskResult
from yellowtor.run.job import Job
from yellowtor.run.judging import Judging
from yellowtor.run.plan import Plan, make_plan
from yellowtor.run.ports import Book, Clock, MarkerFiles, Service, Table, Watcher
from yellowtor.run.scan import ScanResult, scan
from yellowtor.run.stop import StopWish
from yellowtor.run.writeback import Changes, WriteBack, WriteResult

SHOWN = 16  # cells that a dry run names


@dataclass(frozen=True)
class Parts:
    """The real parts of one run, put in from outside.

    `to` is the file that the answers go into (None: the source itself), `files` are all that are written, `into`
    is the table of a database that is.
    """

    job: Job
    table: Table
    service: Service
    book: Book
    clock: Clock
    markers: MarkerFiles
    leave: object
    to: Path | None
    files: tuple[Path, ...]
    into: str = ""


@dataclass(frozen=True)
class Options:
    """How this run is to go. at_most limits the distinct questions; repair: see WriteBack."""

    dry_run: bool = False
    at_most: int | None = None
    again_failed: bool = False
    repair: bool = False


@dataclass(frozen=True)
class Summary:
    """What a run came to. outcomes adds up to the records read."""

    scan: ScanResult
    plan: Plan
    asked: AskResult
    outcomes: dict[Outcome, int]
    wrote: WriteResult | None
    files: tuple[Path, ...]
    into: str
    backup: Path | None
    changes: Changes | None
    abandoned: tuple[str, ...] = ()


def conduct(parts: Parts, options: Options, watch: Watcher, stop: StopWish) -> Summary:
    """Run the job to its end, or to where it has to stop. Raises YellowtorError; nothing is half written."""
    job, book, service = parts.job, parts.book, parts.service
    if remark := parts.table.check_target(parts.to):
        watch.remark(remark)
    source = parts.table.fingerprint()
    scanned = scan(job, parts.table, service.asking, book.scanning, watch, source)
    plan = make_plan(book, service, again_failed=options.again_failed, at_most=options.at_most)
    context = frozenset(part for part, text in job.address.fixed if text)
    judging = Judging(service, job.judge.thresholds(), context, watch.remark)
    asked, wrote, changes = AskResult(), None, None
    back = WriteBack(job, parts.table, book.judging, watch, parts.leave, repair=options.repair)
    if options.dry_run:
        judging.judge_open(book.judging)
        changes = None if job.write.table else back.changes(SHOWN)
    else:
        if plan.forecast.requests and not stop:
            asked = _ask(parts, plan, judging, watch, stop, options.at_most)
        watch.phase("Judging")
        judging.judge_open(book.judging)
        wrote = back.write(parts.to, parts.markers, scanned=source)
    counts = book.judging.outcomes()
    backup = parts.table.backup
    return Summary(
        scanned, plan, asked, {o: counts.get(o.value, 0) for o in Outcome}, wrote,
        parts.files if wrote else (), parts.into, backup if backup and backup.exists() else None,
        changes, tuple(Address(**json.loads(a)).line() for a in book.abandoned),
    )  # fmt: skip


def _ask(parts: Parts, plan: Plan, judging: Judging, watch: Watcher, stop: StopWish, at_most: int | None) -> AskResult:
    import asyncio  # a run that has all its answers does without

    from yellowtor.run.ask import Asker
    from yellowtor.run.live import judge_meanwhile

    watch.phase("Asking", plan.forecast.requests)
    questions: Iterator[Question] = islice(parts.book.scanning.questions(), at_most)

    def judge() -> dict[str, int]:
        judging.judge_open(parts.book.judging, pages=1)
        return parts.book.judging.outcomes()

    async def whole() -> AskResult:
        async with parts.service, parts.book.writer() as writer:
            meanwhile = asyncio.create_task(judge_meanwhile(judge, writer, parts.clock, watch))
            try:
                return await Asker(parts.service, writer, parts.clock, watch).ask(questions, stop)
            finally:
                meanwhile.cancel()
                with suppress(asyncio.CancelledError):
                    await meanwhile

    return asyncio.run(whole())


def refused(summary: Summary) -> bool:
    """Whether the service would not have us."""
    return summary.asked.stopped_by in {Kind.KEY_REFUSED, Kind.NOT_PERMITTED}
