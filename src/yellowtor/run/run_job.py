"""The verb `run`: scan, plan, ask, judge, write back. Every stop ends with writing what is settled."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from itertools import islice
from pathlib import Path

from yellowtor.allowance.price import MILLION, money
from yellowtor.allowance.windows import Left, tightest
from yellowtor.answers.ledger_rows import Question, Turn
from yellowtor.answers.replies.kinds import Kind
from yellowtor.contracts.clock import Clock
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.table import KeepsBackup, Table
from yellowtor.errors import BadSource, Unconfirmed
from yellowtor.filelocks import check_free, locked
from yellowtor.files import announcing, check_writable, state_of
from yellowtor.run.asking.ask_result import AskResult, AskTotals
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.edit_detection import check_copy, edited_files, keep_edited, noting
from yellowtor.run.phases.judging import Judging
from yellowtor.run.phases.outlier_report import find_far
from yellowtor.run.phases.scan import ScanResult, scan
from yellowtor.run.phases.writeback import Changes, WriteBack, WriteResult
from yellowtor.run.plan import Otherwise, Plan, costs, currency_of, foretold, make_plan, what_if
from yellowtor.run.ports import Book, MarkerFiles, Service, Watcher

UNTOLD = timedelta(hours=1)  # to be waited for an allowance of which nobody says when it is there again
RESCANS = 3  # of a file that others write while it is read
SHOWN = 16  # cells that a dry run names


@dataclass(frozen=True)
class Parts:
    """The real parts of one run, put in from outside; the services in the order in which they are asked.

    `to` is the file that the answers go into (None: the source itself), `files` are all that are written, `into`
    is the table of a database that is.
    """

    job: Job
    table: Table
    services: Sequence[Service]
    book: Book
    clock: Clock
    markers: MarkerFiles
    leave: object
    to: Path | None
    files: tuple[Path, ...]
    into: str = ""
    open_copy: Callable[[Path], Table] | None = None
    dated: Callable[[Path], Path] | None = None


@dataclass(frozen=True)
class Options:
    """How this run is to go. at_most limits the distinct questions; repair: see WriteBack.

    spend_at_most, in millionths, limits what it costs; agreed: it may cost more than the job wants to be asked about.
    failed_before: of what failed, replies from before this instant (ISO 8601, UTC; else the begin of the run) are asked
    for again.
    """

    dry_run: bool = False
    at_most: int | None = None
    again_failed: bool = False
    repair: bool = False
    spend_at_most: int | None = None
    agreed: bool = False
    failed_before: str = ""
    log: Path | None = None


@dataclass(frozen=True)
class Summary:
    """What a run came to. outcomes adds up to the records read; untouched are files that are as they were before."""

    scan: ScanResult
    plan: Plan
    asked: AskTotals
    outcomes: dict[Outcome, int]
    placed_by: dict[str, int]
    wrote: WriteResult | None
    files: tuple[Path, ...]
    into: str
    backup: Path | None
    changes: Changes | None
    abandoned: tuple[str, ...] = ()
    in_reverse: bool = False
    untouched: frozenset[Path] = frozenset()
    left: tuple[Left, ...] = ()  # what the windows of the first service allow at the end
    began: str = ""


def conduct(parts: Parts, options: Options, watch: Watcher, stop: Cancellation) -> Summary:
    """Run the job to its end, or to where it has to stop. Raises YellowtorError; nothing is half written."""
    job = parts.job
    book = parts.book
    services = parts.services
    began = stamp_of(book.clock.now())
    if options.again_failed:
        options = replace(options, failed_before=options.failed_before or began)
    before = {file: state_of(file) for file in parts.files}
    for remark in dict.fromkeys([*parts.table.check_target(parts.to), *check_files(parts.files)]):
        watch.remark(remark)
    check_edits(parts, watch)
    judging = judging_of(parts, watch)
    scanned, source, plan = _planned(parts, options, judging, watch)
    if not (options.dry_run or options.agreed):
        check_cost(job, plan, options.spend_at_most)
    asked = AskTotals()
    wrote = None
    changes = None
    back = WriteBack(job, parts.table, book.judging, watch, parts.leave, repair=options.repair)
    if (scanned.new or scanned.changed) and plan.kept and not job.in_reverse and job.judge.area is None:
        _, remark = find_far(book.judging)
        if remark:
            watch.remark(remark)
    if options.dry_run:
        judging.judge_open(book.judging)
        changes = None if job.write.table else back.changes(SHOWN)
    else:
        open_ = plan.open_questions
        most = options.at_most
        asked = AskTotals(tuple(ask_all(parts, open_, options, most, judging, watch, stop)))
        watch.phase("Judging", sum(turn.settled for turn in asked.turns) or None)
        judging.judge_open(book.judging)
        with locked(parts.files, watch.remark):
            wrote = _write(parts, back, watch, source, scanned.records)
    counts = book.judging.outcomes()
    placed_by = book.judging.placed_by() if len(services) > 1 else {}
    backup = parts.table.backup if isinstance(parts.table, KeepsBackup) else None
    return Summary(
        scanned,
        plan,
        asked,
        {outcome: counts.get(outcome, 0) for outcome in Outcome},
        placed_by,
        wrote,
        parts.files if wrote else (),
        parts.into,
        backup if backup and backup.exists() else None,
        changes,
        tuple(subject.line() for subject in book.abandoned),
        job.in_reverse,
        frozenset(file for file, state in before.items() if state and state == state_of(file)),
        tuple(book.requests[services[0].name].left()),
        began,
    )


def check_files(files: Sequence[Path]) -> list[str]:
    """Remarks about the files that a run writes. Raises BadSource where one can't be written, Busy where one is."""
    for file in files:
        check_free(file)
    return [remark for file in files for remark in check_writable(file)]


def _edited(parts: Parts) -> list[Path]:
    """The files to be overwritten that people have changed since a run wrote them."""
    own = parts.files[1:] if parts.job.write.in_place and not parts.into else parts.files
    return edited_files(own, parts.book.written)


def check_edits(parts: Parts, watch: Watcher) -> None:
    """Raise BadSource where people have changed cells of the copy, and the job does not want that kept aside."""
    if parts.open_copy and parts.job.write.if_edited == "stop" and parts.to in _edited(parts):
        assert parts.to is not None, "it is among the files"
        back = WriteBack(parts.job, parts.table, parts.book.judging, watch, parts.leave)
        watch.phase("Comparing")
        check_copy(parts.to, back, parts.table, parts.open_copy)


def _write(parts: Parts, back: WriteBack, watch: Watcher, source: str, records: int) -> WriteResult:
    """Write the answers and the markers; what people have changed, also while the run asked, is kept first."""
    if parts.dated:
        for remark in keep_edited(_edited(parts), parts.dated):
            watch.remark(remark)
    with announcing(noting(parts.book.written)):
        return back.write(parts.to, parts.markers, scanned=source, records=records)


@dataclass(frozen=True)
class Foretold:
    """What a run would do, and what asking the first service would take with other limits."""

    scan: ScanResult
    plan: Plan
    otherwise: tuple[Otherwise, ...]


def foretell(parts: Parts, options: Options, wishes: Sequence[str], watch: Watcher) -> Foretold:
    """Read the records and tell what a run would do; nothing is sent, nothing written."""
    judging = judging_of(parts, watch)
    if options.again_failed:
        options = replace(options, failed_before=stamp_of(parts.book.clock.now()))
    scanned, _, plan = _planned(parts, options, judging, watch)
    first = parts.services[0]
    now = parts.clock.now()
    open_ = plan.open_questions if options.at_most is None else min(plan.open_questions, options.at_most)
    otherwise = tuple(what_if(parts.book, first, open_, now, wish) for wish in wishes)
    return Foretold(scanned, plan, otherwise)


def _scanned(parts: Parts, watch: Watcher) -> tuple[ScanResult, str]:
    """Scan the records; the fingerprint of the source. A file that is written meanwhile is read once more."""
    table = parts.table
    askings = [service.asking for service in parts.services]
    for last in (*[False] * RESCANS, True):
        table.refresh()
        source = table.fingerprint()
        try:
            found = scan(parts.job, table, askings, parts.book.scanning, parts.book.written, watch, source)
        except BadSource:  # perhaps only because its header was that of another version
            if last or not table.refresh():
                raise
            continue
        if last or not table.refresh():
            break
    return found, source


def _planned(parts: Parts, options: Options, judging: Judging, watch: Watcher) -> tuple[ScanResult, str, Plan]:
    """Scan the records, and what a run would do; with the source's fingerprint."""
    book = parts.book
    services = parts.services
    for name, count in book.expired.items():
        watch.remark(f"{count:,} replies of {name} were past their time and are let go; what needs them is asked again")
    scanned, source = _scanned(parts, watch)
    if len(services) > 1 or options.again_failed:  # whom to ask, and what, depends on what is known
        watch.phase("Judging")
        judging.judge_open(book.judging)
    passes_on = parts.job.ask.next.spent
    now = parts.clock.now()
    plan = make_plan(
        book,
        services,
        judging.key,
        now,
        failed_before=options.failed_before,
        at_most=options.at_most,
        spent_passes_on=passes_on,
    )
    return scanned, source, plan


def judging_of(parts: Parts, watch: Watcher) -> Judging:
    """How the job judges."""
    job = parts.job
    rules = (job.judge.thresholds(), job.ask_next(), job.context())
    return Judging(parts.services, *rules, watch.remark, watch.fault, watch.advanced)


def ask_all(
    parts: Parts,
    questions: int,
    options: Options,
    at_most: int | None,
    judging: Judging,
    watch: Watcher,
    stop: Cancellation,
) -> Iterator[AskResult]:
    """Ask the services one after the other, each about what those before it did not answer well enough.

    The first's open questions are collected, so many, and of each at_most are asked.

    What a service was not asked about goes to the next only where the service is set aside for the run, or its
    allowance is spent, and the job says so.
    """
    judged_by = judging.key if len(parts.services) > 1 else ""
    waited_for = list[str]()
    for at, service in enumerate(parts.services):
        if stop:
            return
        if at:
            watch.phase("Judging")
            judging.judge_open(parts.book.judging)
            turn = Turn(service.name, service.reading_key, tuple(waited_for), judged_by)
            questions, _ = parts.book.scanning.open_questions(turn, failed_before=options.failed_before)
        result = AskResult(service.name)
        if questions:
            result = _ask(parts, service, questions, judging, watch, stop, at_most)
            result.currency = currency_of(service, parts.clock.now())
            result.differences = tuple(parts.book.requests[service.name].differences)
            yield result
        if not _passes_on(result, parts.job):
            waited_for.append(service.name)


def _passes_on(result: AskResult, job: Job) -> bool:
    """Whether what a service was not asked about may go to the next."""
    if result.stopped_by is Kind.WINDOW_SPENT:
        return job.ask.next.spent
    return (result.stopped_by is not None or bool(result.left_open)) and job.ask.next.failed


def _ask(
    parts: Parts,
    service: Service,
    questions: int,
    judging: Judging,
    watch: Watcher,
    stop: Cancellation,
    at_most: int | None,
) -> AskResult:
    import asyncio  # a run that has all its answers does without

    from yellowtor.run.asking.ask import Asker
    from yellowtor.run.asking.background_judging import judge_meanwhile

    wanted = questions if at_most is None else min(questions, at_most)
    left = tightest(parts.book.requests[service.name].left())
    watch.asks(service.name, wanted, left, foretold(parts.book, service, wanted, parts.clock.now()))
    open_: Iterator[Question] = islice(parts.book.scanning.questions(), at_most)

    def judge() -> Mapping[Outcome, int]:
        judging.judge_open(parts.book.judging, pages=1)
        return parts.book.judging.outcomes()

    async def whole() -> AskResult:
        async with service, parts.book.writer(service.name) as writer:
            meanwhile = asyncio.create_task(judge_meanwhile(judge, writer, parts.clock, watch))
            try:
                return await Asker(service, writer, parts.clock, watch).ask(open_, stop)
            finally:
                meanwhile.cancel()
                with suppress(asyncio.CancelledError):
                    await meanwhile

    return asyncio.run(whole())


def stamp_of(now: datetime) -> str:
    """An instant as the ledger keeps it."""
    return now.astimezone(UTC).isoformat(timespec="milliseconds")


def check_cost(job: Job, plan: Plan, spend_at_most: int | None) -> None:
    """Raise Unconfirmed where the run may cost more than the job wants to be asked about."""
    limit = job.ask.confirm_above
    if limit is None:
        return
    for currency, all_of_it in costs(plan).items():
        cost = all_of_it if spend_at_most is None else min(all_of_it, spend_at_most)
        if cost > limit * MILLION:
            raise Unconfirmed(
                f"This run may cost {money(cost, currency)}, above ask.confirm_above = {limit:g}: say --yes if it may, "
                "or --at-most or --spend-at-most. Nothing was sent."
            )


def goes_on_at(summary: Summary, now: datetime) -> datetime | None:
    """When a run whose records wait for an allowance may go on; None where nothing waits, or for something else."""
    waited_for = {Kind.WINDOW_SPENT, Kind.TOO_FAST}
    turns = [turn for turn in summary.asked.turns if turn.stopped_by in waited_for]
    over = any(turn.for_good for turn in turns)
    if not summary.outcomes[Outcome.WAITING] or summary.asked.interrupted or over or not turns:
        return None
    return min(datetime.fromisoformat(turn.resets_at) if turn.resets_at else now + UNTOLD for turn in turns)


def refused(summary: Summary) -> bool:
    """Whether a service would not have us."""
    return summary.asked.refused is not None
