"""The verb `run`: scan, plan, ask, judge, write back. Every stop ends with writing what is settled."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

from yellowtor.addresses.keys import digest
from yellowtor.allowance.price import MILLION, money
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.table import InPieces, KeepsBackup, Table
from yellowtor.errors import BadSource, Unconfirmed
from yellowtor.filelocks import check_free, locked
from yellowtor.files import State, announcing, check_writable, state_of
from yellowtor.run.ask_services import ask_all, judge_all
from yellowtor.run.asking.ask_result import AskTotals
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.crew import PieceOrder
from yellowtor.run.jobs.job import Job
from yellowtor.run.parts import Options, Parts, Summary, stamp_of
from yellowtor.run.phases.decision_rows import What
from yellowtor.run.phases.edit_detection import check_copy, edited_files, keep_edited, noting
from yellowtor.run.phases.judging import Judging, JudgingRules
from yellowtor.run.phases.marker_drawing import check_drawing, drawing
from yellowtor.run.phases.moving import too_many_moved
from yellowtor.run.phases.outlier_report import find_far
from yellowtor.run.phases.record_decisions import Applied, RecordDecisions
from yellowtor.run.phases.scan import PartScan, ScanResult, end_scan, scan
from yellowtor.run.phases.steady import scan_steadily
from yellowtor.run.phases.write_result import Changes, WriteResult
from yellowtor.run.phases.writeback import WriteBack
from yellowtor.run.pieces import SHOWN, changes_of, check_sizes, joined, reported, scan_piece, write_piece
from yellowtor.run.plan import Otherwise, Plan, costs, make_plan, what_if
from yellowtor.run.ports import Watcher
from yellowtor.run.write_markers import write_markers

UNTOLD = timedelta(hours=1)  # wait for a quota with an unknown renewal


def conduct(parts: Parts, options: Options, watch: Watcher, stop: Cancellation) -> Summary:
    """Run the job to its end, or until it must stop. Raises YellowtorError; nothing is half written."""
    job = parts.job
    book = parts.book
    began = stamp_of(book.clock.now())
    if options.again_failed:
        options = replace(options, failed_before=options.failed_before or began)
    before = {file: state_of(file) for file in parts.files}
    for remark in dict.fromkeys([*parts.table.check_target(parts.to), *check_files(parts.files)]):
        watch.remark(remark)
    for remark in check_drawing(job, parts.table, parts.marker_parts):
        watch.remark(remark)
    check_edits(parts, watch, dry_run=options.dry_run)
    judging = judging_of(parts, watch)
    found, plan = planned(parts, options, judging, watch, writes=True)
    scanned = found.counts
    untouched = False
    if not (options.dry_run or options.agreed):
        check_cost(job, plan, options.spend_at_most)
    asked = AskTotals()
    wrote = None
    changes = None
    if (scanned.new or scanned.changed) and plan.kept:
        _say_outliers(parts, watch)
    if options.dry_run:
        changes = _would_change(parts, options, judging, found, watch)
    else:
        open_ = plan.open_questions
        most = options.at_most
        asked = AskTotals(tuple(ask_all(parts, open_, options, most, judging, watch, stop)))
        watch.phase("Judging", sum(turn.settled for turn in asked.turns) or None)
        judge_all(parts, judging, watch)
        if why := too_many_moved(job, book.judging, options.most_moved):
            raise BadSource(f"{why} What was asked is kept. Nothing was written.")
        with locked(parts.files, watch.remark):
            wrote, untouched = (
                _write_pieces(parts, options, judging, found, watch)
                if found.pieces
                else (_write(parts, options, watch, found.whole, scanned.records), False)
            )
    done = _Done(scanned, plan, asked, wrote, changes, untouched)
    return _summary(parts, done, began, before)


def _would_change(parts: Parts, options: Options, judging: Judging, found: "Scanned", watch: Watcher) -> Changes | None:
    """What a run would write of the answers that are there; None where they go into another table."""
    judge_all(parts, judging, watch)
    if why := too_many_moved(parts.job, parts.book.judging, options.most_moved):
        watch.remark(f"a run would write nothing: {why}")
    if parts.job.write.table:
        return None
    watch.phase("Comparing")
    if found.pieces:
        numbers = {name: number for name, (number, _) in found.pieces.items()}
        return changes_of(parts, numbers, options.repair, watch)
    return _back(parts, options, watch).changes(SHOWN)


def _back(parts: Parts, options: Options, watch: Watcher) -> WriteBack:
    return WriteBack(parts.job, parts.table, parts.book.judging, watch, parts.leave, repair=options.repair)


def _say_outliers(parts: Parts, watch: Watcher) -> None:
    """Remark on positions of the source's own that are far from all others."""
    if not parts.job.in_reverse and parts.job.judge.area is None:
        _, remark = find_far(parts.book.judging)
        if remark:
            watch.remark(remark)


@dataclass(frozen=True)
class _Done:
    """The results of the phases."""

    scan: ScanResult
    plan: Plan
    asked: AskTotals
    wrote: WriteResult | None
    changes: Changes | None
    untouched: bool = False  # no file of the folder for the answers was written


def _summary(parts: Parts, done: _Done, began: str, before: Mapping[Path, State]) -> Summary:
    """The summary of a run; before are the states of its files before it."""
    book = parts.book
    counts = book.outcomes.counts()
    same = [file for file, state in before.items() if state and state == state_of(file)]
    backup = parts.table.backup if isinstance(parts.table, KeepsBackup) else None
    return Summary(
        done.scan,
        done.plan,
        done.asked,
        {outcome: counts.get(outcome, 0) for outcome in Outcome},
        book.outcomes.placed_by() if len(parts.services) > 1 else {},
        done.wrote,
        parts.files if done.wrote else (),
        parts.table.target if done.wrote and isinstance(parts.table, InPieces) else "",
        not done.untouched,
        parts.into,
        backup if backup and backup.exists() else None,
        done.changes,
        (*(subject.line() for subject in book.abandoned), *(parts.crew.abandoned if parts.crew else ())),
        parts.job.in_reverse,
        frozenset(same),
        tuple(book.requests[parts.services[0].name].left()),
        began,
        book.outcomes.causes(),
        {service.name: service.attribution for service in parts.services if service.attribution},
    )


def check_files(files: Sequence[Path]) -> list[str]:
    """Remarks about the files that a run writes.

    Raises BadSource if one can't be written, Busy if another run writes it.
    """
    for file in files:
        check_free(file)
    return [remark for file in files for remark in check_writable(file)]


def _edited(parts: Parts) -> list[Path]:
    """The files to be overwritten that people have changed since a run wrote them."""
    own = parts.files[1:] if parts.job.write.in_place and not parts.into else parts.files
    return edited_files(own, parts.book.written)


def check_edits(parts: Parts, watch: Watcher, *, dry_run: bool) -> None:
    """Take what people have changed in the copy as decisions, if the job says so.

    Raises BadSource where they have changed other cells, and the job does not want that kept aside.
    """
    write = parts.job.write
    if not parts.open_copy or not (write.corrections or write.if_edited == "stop") or parts.to not in _edited(parts):
        return
    assert parts.to is not None, "it is among the files"
    if dry_run and write.corrections:
        watch.remark(f"{parts.to.name} was changed: a run takes its addresses and coordinates as decisions")
        return
    decided = _corrections(parts, parts.to, parts.open_copy(parts.to), watch) if write.corrections else ()
    if write.if_edited == "stop":
        back = WriteBack(parts.job, parts.table, parts.book.judging, watch, parts.leave)
        watch.phase("Comparing")
        check_copy(parts.to, back, parts.table, parts.open_copy, decided)


def _corrections(parts: Parts, to: Path, copy: Table, watch: Watcher) -> Collection[str]:
    """Take the addresses and coordinates that people have changed in the copy; the keys of the records."""
    watch.phase("Deciding")
    book = parts.book.decisions
    applied = Applied()
    RecordDecisions(parts.job, book, book.who, f"in {to.name}").take(copy, applied, watch)
    for fault in applied.faults[:SHOWN]:
        watch.remark(f"{to.name}, row {fault.row} ({fault.key}): {fault.why}")
    if applied.new:
        kinds = {What.ADDRESS: ("corrected address", "corrected addresses"), What.PLACE: ("position", "positions")}
        counts = " and ".join(f"{count:,} {kinds[what][count > 1]}" for what, count in applied.counts.items())
        watch.remark(f"{counts} {'are' if applied.new > 1 else 'is'} taken from {to.name}, as write.corrections says")
    return applied.keys


def _write(parts: Parts, options: Options, watch: Watcher, source: str, records: int) -> WriteResult:
    """Write the answers and the markers; first keep backups of files that people have changed."""
    if parts.dated:
        for remark in keep_edited(_edited(parts), parts.dated):
            watch.remark(remark)
    with announcing(noting(parts.book.written)):
        watch.phase("Writing", records or None)
        markers = partial(drawing, parts.job, parts.table, parts.marker_parts, parts.markers, watch)
        return _back(parts, options, watch).write(parts.to, markers, scanned=source, records=records)


@dataclass(frozen=True)
class PlannedRun:
    """What a run would do, and what asking the first service would take with other limits."""

    scan: ScanResult
    plan: Plan
    otherwise: tuple[Otherwise, ...]


def plan_run(parts: Parts, options: Options, wishes: Sequence[str], watch: Watcher) -> PlannedRun:
    """Read the records and tell what a run would do; nothing is sent, nothing written."""
    judging = judging_of(parts, watch)
    if options.again_failed:
        options = replace(options, failed_before=stamp_of(parts.book.clock.now()))
    scanned, plan = planned(parts, options, judging, watch, writes=False)
    first = parts.services[0]
    now = parts.clock.now()
    open_ = plan.open_questions if options.at_most is None else min(plan.open_questions, options.at_most)
    otherwise = tuple(what_if(parts.book, first, open_, now, wish) for wish in wishes)
    return PlannedRun(scanned.counts, plan, otherwise)


@dataclass(frozen=True)
class Scanned:
    """What the scan found, in all; whole is the source's fingerprint, pieces the scans of its files with their numbers.

    A source in one file has no pieces.
    """

    counts: ScanResult
    whole: str
    pieces: Mapping[str, tuple[int, PartScan]]


def _scanned(parts: Parts, watch: Watcher, *, writes: bool) -> Scanned:
    """Scan the records; writes: to write answers afterwards."""
    table = parts.table
    book = parts.book
    askings = [service.asking for service in parts.services]
    watch.phase("Reading")
    if not isinstance(table, InPieces):
        book.parts(())
        found = scan_steadily(table, lambda: scan(parts.job, table, askings, book.scanning, book.written, watch))
        return Scanned(end_scan(parts.job, table, askings, book.scanning, [found]), found.source, {})
    names = table.names()
    pieces = dict(zip(names, book.parts(names), strict=True))
    if parts.crew:
        scans = parts.crew.scan(pieces, watch, writes=writes)
    else:
        scans = [scan_piece(parts, *one, watch, writes=writes) for one in reported(pieces.items(), watch)]
    check_sizes(parts, pieces, scans)
    counts = end_scan(parts.job, table, askings, book.scanning, scans)
    return Scanned(counts, "", {name: (pieces[name], found) for name, found in zip(names, scans, strict=True)})


def _write_pieces(
    parts: Parts, options: Options, judging: Judging, found: Scanned, watch: Watcher
) -> tuple[WriteResult, bool]:
    """Write each file of the answers, then the markers; whether all files of the answers were complete already."""
    job = parts.job
    watch.phase("Writing", found.counts.records or None)
    answers = digest(parts.book.judging.state(judging.key), job.write.model_dump_json(), str(options.repair))
    orders = [
        PieceOrder(name, number, scan.source, scan.counts.records, answers, options.repair)
        for name, (number, scan) in found.pieces.items()
    ]
    if parts.crew:
        done = parts.crew.write(orders, watch)
    else:
        done = [write_piece(parts, order, watch) for _, order in reported([(one.name, one) for one in orders], watch)]
    if job.markers.writes():
        watch.phase("Drawing", found.counts.records or None)
        with announcing(noting(parts.book.written)):
            write_markers(job, parts.table, parts.book.judging, parts.marker_parts, parts.markers, watch)
    return joined([one.result for one in done]), all(one.untouched for one in done)


def planned(parts: Parts, options: Options, judging: Judging, watch: Watcher, *, writes: bool) -> tuple[Scanned, Plan]:
    """Scan the records, and what a run would do."""
    book = parts.book
    services = parts.services
    for name, count in book.expired.items():
        watch.remark(
            f"{count:,} replies of {name} were too old and are deleted; questions that are still needed are asked again"
        )
    found = _scanned(parts, watch, writes=writes)
    if len(services) > 1 or options.again_failed:  # what to ask depends on what is known
        watch.phase("Judging")
        judge_all(parts, judging, watch)
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
    return found, plan


def judging_of(parts: Parts, watch: Watcher) -> Judging:
    """How the job judges."""
    job = parts.job
    rules = JudgingRules(job.judge.thresholds(), job.ask_next(), job.context(), parts.calibrations)
    return Judging(parts.services, rules, watch.remark, watch.fault, watch.advanced)


def check_cost(job: Job, plan: Plan, spend_at_most: int | None) -> None:
    """Raise Unconfirmed where the run may cost more than the job wants to be asked about."""
    limit = job.ask.confirm_above
    if limit is None:
        return
    for currency, all_of_it in costs(plan).items():
        cost = all_of_it if spend_at_most is None else min(all_of_it, spend_at_most)
        if cost > limit * MILLION:
            raise Unconfirmed(
                f"This run may cost {money(cost, currency)}, above ask.confirm_above = {limit:g}: allow it with --yes, "
                "or limit it with --at-most or --spend-at-most. Nothing was sent."
            )


def goes_on_at(summary: Summary, now: datetime) -> datetime | None:
    """When a run with records that wait for a quota can continue; None if nothing waits for a quota."""
    waited_for = {Kind.WINDOW_SPENT, Kind.TOO_FAST}
    turns = [turn for turn in summary.asked.turns if turn.stopped_by in waited_for]
    over = any(turn.for_good for turn in turns)
    if not summary.outcomes[Outcome.WAITING] or summary.asked.interrupted or over or not turns:
        return None
    return min(datetime.fromisoformat(turn.resets_at) if turn.resets_at else now + UNTOLD for turn in turns)


def refused(summary: Summary) -> bool:
    """Whether a service would not have us."""
    return summary.asked.refused is not None
