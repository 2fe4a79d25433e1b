"""The report of a run, for people."""

from rich.console import Console
from rich.table import Table
from rich.text import Text

from yellowtor.allowance.price import money
from yellowtor.allowance.windows import tightest
from yellowtor.answers.judging.causes import CAUSES, OTHER
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.cli.console import duration, mark, outcome_table, short
from yellowtor.contracts.outcome import Outcome
from yellowtor.run.asking.ask_result import AskResult, AskTotals
from yellowtor.run.parts import Summary
from yellowtor.run.phases.row_reader import shown_key
from yellowtor.run.phases.write_result import Changes, WriteResult
from yellowtor.run.plan import costs
from yellowtor.run.shared_run import SharedRun

SHOWN_REASONS = 5
SHOWN_CAUSES = 5
NEVER = "the quota can never cover all requests"


def report(console: Console, summary: Summary, *, dry_run: bool) -> None:
    """The short report at the end of a run."""
    if summary.abandoned:
        console.print(_abandoned(summary), soft_wrap=True)
    for line in _findings(summary):
        console.print(line, style="yellow", soft_wrap=True)
    if dry_run:
        _plan(console, summary)
        return
    console.print()
    console.print(outcome_table(summary))
    if summary.scan.new < summary.scan.records:
        console.print(_since(summary), soft_wrap=True)
    console.print(_requests(summary), soft_wrap=True)
    if summary.placed_by or len(summary.asked.turns) > 1:
        console.print(_services(summary))
    for line in [*_differences(summary.asked), *_stops(summary)]:
        console.print(line, style="yellow", soft_wrap=True)
    _wrote(console, summary)
    for name, credit in summary.credits.items() if summary.wrote else ():
        console.print(f"credit for data of {name}: {credit}", soft_wrap=True)
    if summary.causes:
        console.print()
        console.print(_causes(summary))
        console.print()
    for line in _next(summary):
        console.print(line, soft_wrap=True)


def say_along(console: Console, along: SharedRun) -> None:
    """The report of helping another run."""
    console.print(_asked_line(along.asked), soft_wrap=True)
    for turn in along.asked.turns:
        if turn.stopped_by:
            console.print(f"{turn.service}: {turn.message or turn.stopped_by}", style="yellow", soft_wrap=True)
    if along.left_alone:
        console.print("The run that worked on the job has ended. Run the job: that writes the answers.")
    else:
        console.print("The other run writes the answers.")


def brief(console: Console, summary: Summary) -> None:
    """A run in three lines."""
    marks = [mark(outcome).append(f" {count:,}") for outcome, count in summary.outcomes.items() if count]
    console.print(Text("  ").join([Text(""), *marks]))
    console.print(f"  {_since(summary)}", soft_wrap=True)
    console.print(f"  {_requests(summary)}", soft_wrap=True)


def _abandoned(summary: Summary) -> str:
    count = len(summary.abandoned)
    named = "; ".join(summary.abandoned[:5]) + (" …" if count > 5 else "")
    was = "1 request of an earlier run was" if count == 1 else f"{count} requests of an earlier run were"
    return f"note: {was} cut off: counted as spent, and may be asked once more ({named})"


def _findings(summary: Summary) -> list[str]:
    """What is wrong with coordinates that records have already."""
    lines = []
    for finding, found in summary.scan.findings.items():
        named = ", ".join(found.keys[:5]) + (" …" if found.records > 5 else "")
        lines.append(f"note: coordinates of the source: {finding}, {found.records:,} ({named})")
    repaired = summary.wrote.repaired if summary.wrote else 0
    certain = any(finding.is_certain for finding in summary.scan.findings)
    if certain and not repaired and not summary.in_reverse:
        lines.append("With `--repair`, those with a certain meaning are rewritten as plain degrees.")
    if repaired:
        lines.append(f"{repaired:,} of them are rewritten as plain degrees.")
    return lines


def _plan(console: Console, summary: Summary) -> None:
    plan = summary.plan
    scan = summary.scan
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    table.add_column()
    table.add_column(justify="right")
    pinned = [("pinned", plan.pinned)] if plan.pinned else []
    for label, count in (
        ("records", scan.records),
        ("  new", scan.new),
        ("  changed", scan.changed),
        ("  no longer there", scan.vanished),
        *pinned,
        ("kept: own coordinates", plan.kept),
        ("incomplete", plan.incomplete),
        ("to answer", plan.to_answer),
        ("questions answered by the ledger", plan.answered_by_ledger),
        ("questions to ask", plan.open_questions),
        ("requests of this run", plan.requests),
    ):
        table.add_row(label, f"{count:,}")
    console.print(table)
    if plan.forecast.requests and plan.forecast.seconds is not None:
        by = "if replies take as long as the last ones" if plan.forecast.reply_s else "at the service's pace"
        console.print(f"Asking would take {duration(plan.forecast.seconds)} {by}.")
    if plan.forecast.requests > plan.forecast.at_once:
        when = plan.forecast.ends_at[:16].replace("T", " ")
        last = f"the last request is sent on {when} UTC, in {plan.forecast.stretches:,} stretches" if when else NEVER
        console.print(f"Under the quota {last}.")
    for currency, cost in costs(plan).items():
        console.print(f"The cost is at most {money(cost, currency)}.")
    for later in filter(lambda later: later.most, plan.later):
        some = f", some {later.expected:,}, up to {later.most:,}" if later.most > later.least else ""
        how_many = f"{later.least:,} questions{some}"
        console.print(f"Then {later.service} is asked {how_many}, depending on the answers before it.")
    if summary.changes and summary.changes.cells:
        cells = summary.changes.cells
        records = summary.changes.records
        console.print(f"With the stored answers, {cells:,} cells of {records:,} records would change:")
        console.print(_changes(summary.changes))
    console.print("Nothing was sent, nothing written.")


def _changes(changes: Changes) -> Table:
    """Cells as they are and as they would be."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("  record", "column", "now", "then"):
        table.add_column(name, overflow="fold")
    for change in changes.first:
        table.add_row(*map(Text, (f"  {change.key}", change.column, change.old or "–", change.new or "–")))
    if changes.cells > len(changes.first):
        table.add_row("  …")
    return table


def _since(summary: Summary) -> str:
    """What has changed since the last run."""
    scan = summary.scan
    same = scan.records - scan.new - scan.changed
    gone = f"; {scan.vanished:,} no longer there" if scan.vanished else ""
    return f"{scan.new:,} new, {scan.changed:,} changed, {same:,} as they were{gone}"


def _asked_line(asked: AskTotals) -> str:
    """Requests and how fast they were; questions that a table was searched for."""
    if asked.searched and not asked.sent:
        return f"{asked.searched:,} questions searched{_rate(asked.searched, asked)}, nothing sent"
    said = f"{asked.sent:,} requests sent" + (f" ({asked.retried:,} of them repeated)" if asked.retried else "")
    said += _rate(asked.sent, asked)
    return f"{asked.searched:,} questions searched; {said}" if asked.searched else said


def _rate(count: int, asked: AskTotals) -> str:
    if count < 2 or asked.seconds < 1:  # of a moment, a rate says nothing
        return ""
    return f" in {duration(asked.seconds)}, {count / asked.seconds:,.1f} a second"


def _requests(summary: Summary) -> str:
    asked = summary.asked
    plan = summary.plan
    said = f"{_asked_line(asked)}; {plan.answered_by_ledger:,} questions answered from the ledger"
    for currency, cost in asked.costs.items():
        said += f"; cost {money(cost, currency)}"
    left = tightest(summary.left)
    if left is None or len(asked.turns) > 1:
        return said
    return f"{said}; {left.left:,} left {left.words}"


def _services(summary: Summary) -> Table:
    """What each of several services was asked in this run, and how many records have their place from it."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    table.add_column("  service", overflow="fold")
    for name in ("questions", "requests", "took", "cost", "placed in all"):
        table.add_column(name, justify="right")
    turns = {turn.service: turn for turn in summary.asked.turns}
    for name in dict.fromkeys([*turns, *summary.placed_by]):
        turn = turns.get(name, AskResult(name))
        placed = summary.placed_by.get(name, 0)
        took = duration(turn.seconds) if turn.sent or turn.searched else "–"
        cost = money(turn.cost, turn.currency) if turn.currency else "–"
        table.add_row(f"  {name}", f"{turn.settled:,}", f"{turn.sent:,}", took, cost, f"{placed:,}")
    return table


def _differences(asked: AskTotals) -> list[str]:
    """What services said of their limits, where their descriptions say something else."""
    return [f"note: {difference}." for turn in asked.turns for difference in turn.differences]


def _stops(summary: Summary) -> list[str]:
    lines = []
    several = bool(summary.plan.later)
    for turn in summary.asked.turns:
        if turn.stopped_by is None:
            continue
        message = f" ({turn.message})" if turn.message else ""
        what = f"{turn.service} was set aside for this run" if several else "Asking stopped"
        lines.append(f"{what}: {turn.stopped_by}{message}.")
        if (
            turn.stopped_by in {Kind.WINDOW_SPENT, Kind.TOO_FAST}
            and summary.outcomes[Outcome.WAITING]
            and not turn.for_good
        ):
            when = (
                f" after {turn.resets_at[:16].replace('T', ' ')} UTC"
                if turn.resets_at
                else " when the quota is renewed"
            )
            lines.append(f"Run the job again{when}: it continues; with `--wait` it does so automatically.")
        elif turn.stopped_by is Kind.UNREADABLE:
            lines.append(
                "Correct [reply] of the description and run again: stored replies are read again and not paid again."
            )
        elif turn.stopped_by is Kind.KEY_REFUSED:
            lines.append("Correct the key and run the job again: answered questions are not asked again.")
    for why, count in summary.asked.left_open.most_common(SHOWN_REASONS):
        questions = "1 question was" if count == 1 else f"{count:,} questions were"
        lines.append(f"{questions} not answered: {why}.")
    if summary.asked.left_open:
        lines.append("Their records wait. Run the job again later: it asks them.")
    if summary.asked.interrupted:
        lines.append("Stopped by a signal. The answers so far are written; the next run continues.")
    return lines


def _wrote(console: Console, summary: Summary) -> None:
    wrote = summary.wrote
    if wrote is None:
        return
    if wrote.edited:
        console.print(
            f"{wrote.edited:,} records were edited or deleted since they were read, and stay unchanged.", style="yellow"
        )
    if wrote.stale:
        console.print(f"{wrote.stale:,} records have the coordinates of an old address.", style="yellow")
    if summary.into:
        some = f"{wrote.changed:,} of " if 0 < wrote.changed < wrote.written else ""
        rest = "; the others are up to date" if some else ""
        done = "wrote " if wrote.changed else "up to date: "
        records = f"{some}{wrote.written:,} records of {summary.into}{rest}"
        console.print(Text(done, "bright_black").append(records, "default"), soft_wrap=True)
    if wrote.refused:
        _refused(console, wrote, summary.into)
    written = [(str(file), file not in summary.untouched) for file in summary.files]
    if summary.folder:
        written.insert(0, (summary.folder, summary.in_folder))
    for file, is_new in written:
        done = "wrote " if is_new else "up to date: "
        console.print(Text(done, "bright_black").append(short(file), "default"), soft_wrap=True)
    if summary.backup:
        console.print(Text("as it was: ", "bright_black").append(short(summary.backup), "default"), soft_wrap=True)


def _refused(console: Console, wrote: WriteResult, into: str) -> None:
    """The records that the database did not take, and why."""
    were = "1 record was" if wrote.refused == 1 else f"{wrote.refused:,} records were"
    console.print(f"{were} not written to {into}. The others were. Not written:", style="yellow", soft_wrap=True)
    for key, why in wrote.first_refused:
        console.print(Text(f"  {key}: ", "bright_black").append(why, "default"), soft_wrap=True)
    if (more := wrote.refused - len(wrote.first_refused)) > 0:
        console.print(f"  and {more:,} more", style="bright_black")
    console.print("Their answers are stored: correct the table or the record, and run again. Nothing is asked again.")


def _causes(summary: Summary) -> Table:
    """Why records are doubtful: each cause with an example and with what would settle it."""
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    table.add_column(justify="right")
    table.add_column(overflow="fold")
    table.title, table.title_justify, table.title_style = "Why records are doubtful", "left", "bold"
    for found in summary.causes[:SHOWN_CAUSES]:
        cause = CAUSES.get(found.cause, OTHER)
        example = Text(f"such as {shown_key(found.key)}: {found.subject.line()}", "bright_black")
        said = Text(cause.what).append("\n").append_text(example).append(f"\n→ {cause.remedy}")
        table.add_row(f"  {found.records:,}", said)
    if len(summary.causes) > SHOWN_CAUSES:
        table.add_row("  …", f"{len(summary.causes) - SHOWN_CAUSES} causes more (all of them: --json)")
    return table


def _next(summary: Summary) -> list[str]:
    """What to do next about what did not end well."""
    lines = []
    page = next((short(f) for f in summary.files if f.suffix == ".html"), None)
    if doubtful := summary.outcomes[Outcome.DOUBTFUL]:
        listed = f"open {page}, which lists them first, with reasons"
        why = listed if page else "a column (write.columns.reasons) or a page (markers.page) shows the reasons"
        lines.append(
            f"Check the {doubtful:,} doubtful records: {why}. `yellowtor explain JOB KEY` tells all about one."
        )
        lines.append(
            "Settle them: `yellowtor review JOB --serve` in your browser, `--to FILE.xlsx` in a workbook. Or correct "
            "the addresses in the source. Then run again: only what changed is asked."
        )
    if summary.outcomes[Outcome.FAILED] and not any(t.stopped_by is Kind.UNREADABLE for t in summary.asked.turns):
        lines.append("`--again failed` asks the failed questions again.")
    return lines
