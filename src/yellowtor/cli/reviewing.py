"""The command `review`: files to decide in, decisions taken, a page that is served, a dialogue."""

import getpass
import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import typer

from yellowtor.cli.console import Progress, note, short, stderr, stdout, write_out
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob, BadSource
from yellowtor.run.phases.decision_rows import What
from yellowtor.run.phases.record_decisions import Applied
from yellowtor.run.review import Review
from yellowtor.wiring.ledgers import ledger_of
from yellowtor.wiring.markers import credit_of
from yellowtor.wiring.outputs import check_output
from yellowtor.wiring.reviewing import ReviewFiles, decision_table, job_to_review, open_deciding, open_review
from yellowtor.wiring.services import load_services

ENDINGS = (".xlsx", ".csv", ".html")
SHOWN = 20  # rows that are named
SAID = {
    What.CANDIDATE: ("candidate accepted", "candidates accepted"),
    What.PLACE: ("place set", "places set"),
    What.ADDRESS: ("address corrected", "addresses corrected"),
    What.NOTHING: ("address that nothing fits", "addresses that nothing fits"),
}


@dataclass(frozen=True)
class ReviewWish:
    """What the command line says about a review."""

    to: tuple[Path, ...]
    apply: Path | None
    serve: bool
    ask: bool
    also: tuple[Outcome, ...]
    by: str | None
    port: int

    @property
    def outcomes(self) -> tuple[Outcome, ...]:
        return tuple(dict.fromkeys((Outcome.DOUBTFUL, *self.also)))

    @property
    def who(self) -> str:
        return self.by or getpass.getuser()


def review_command(path: Path, wish: ReviewWish, *, as_json: bool) -> None:
    """Do what the command line says; without anything, say what there is to decide."""
    if sum((bool(wish.to), wish.apply is not None, wish.serve, wish.ask)) > 1:
        raise typer.BadParameter("are different ways to decide: use one of them", param_hint="--to, --apply, --serve")
    if stray := [outcome for outcome in wish.also if outcome not in {Outcome.UNPLACED, Outcome.DOUBTFUL}]:
        raise typer.BadParameter(f"only unplaced ones can be decided about, not {stray[0]}", param_hint="--also")
    if wish.apply is not None:
        _apply(path, wish.apply, wish, as_json=as_json)
    elif wish.serve:
        from yellowtor.cli.serving_review import serve_review

        serve_review(path, wish.outcomes, wish.who, wish.port)
    elif wish.ask:
        from yellowtor.cli.asking_review import ask_review

        ask_review(path, wish.outcomes, wish.who)
    else:
        _write(path, wish, as_json=as_json)


def _write(path: Path, wish: ReviewWish, *, as_json: bool) -> None:
    job = job_to_review(path)
    for file in wish.to:
        if file.suffix.lower() not in ENDINGS:
            raise BadJob(f"--to {file}: the name must end in {', '.join(ENDINGS)}. Nothing was written.")
        ledger = ledger_of(job, path.absolute().parent)
        check_output(file, job, path, ledger if isinstance(ledger, Path) else None)
    services, _ = load_services(job, path.absolute().parent, unset_is_shown=True)
    with open_review(path, wish.outcomes) as review:
        files = ReviewFiles(job, path, review, credit_of(services))
        for file in wish.to:
            _write_one(file, files, review)
        if as_json:
            groups = [{**one._asdict(), "outcome": one.outcome.value, "title": one.title} for one in review.groups]
            write_out(json.dumps({"groups": groups, "files": list(map(str, wish.to))}, ensure_ascii=False, indent=2))
            return
        _show(review, wish.to, path)


def _write_one(file: Path, files: ReviewFiles, review: Review) -> None:
    groups = {group.number: group for group in review.groups}
    progress = Progress(stderr())
    progress.phase("Writing", review.questions)
    with progress.shown(), files.open(file) as made:
        for item in review.items():
            made.add(item, groups[item.row.group])
            progress.advanced(1)


def _show(review: Review, files: Sequence[Path], path: Path) -> None:
    """The groups, and what to do next."""
    if not review.questions:
        stderr().print("Nothing is to be decided.")
        return
    from yellowtor.cli.console import columns

    table = columns("records", "addresses", "why", left={"why"})
    for group in review.groups:
        table.add_row(f"  {group.records:,}", f"{group.questions:,}", group.title)
    stdout().print(table)
    addresses = _counted(review.questions, "address", "addresses")
    said = f"{addresses} of {_counted(review.records, 'record', 'records')}"
    for file in files:
        stderr().print(f"wrote {short(file)}: {said}", soft_wrap=True)
    if files:
        stderr().print(f"Decide there, then: yellowtor review {short(path)} --apply FILE", soft_wrap=True)
    else:
        stderr().print(
            f"{said} to decide about: --serve opens a page for your browser, --to FILE.xlsx writes a workbook, --ask "
            "asks here.",
            soft_wrap=True,
        )


def _apply(path: Path, file: Path, wish: ReviewWish, *, as_json: bool) -> None:
    progress = Progress(stderr())
    table = decision_table(file)
    with open_deciding(path, wish.who) as deciding, progress.shown():
        applied = deciding.apply(table, progress)
    if as_json:
        found = {
            "counts": {what.value: count for what, count in applied.counts.items()},
            "known": applied.known,
            "rows": applied.rows,
            "faults": [fault._asdict() for fault in applied.faults],
        }
        write_out(json.dumps(found, ensure_ascii=False, indent=2))
    else:
        say_applied(applied, file, path)
    if applied.faults:
        raise BadSource(f"{_counted(len(applied.faults), 'row', 'rows')} of {file} could not be taken; see above.")


def say_applied(applied: Applied, file: Path, path: Path) -> None:
    """What was taken, and what was not."""
    out = stderr()
    for fault in applied.faults[:SHOWN]:
        note(out, f"row {fault.row}{f' ({fault.key})' if fault.key else ''}: {fault.why}")
    if len(applied.faults) > SHOWN:
        note(out, f"and {len(applied.faults) - SHOWN:,} more rows")
    for what, said in SAID.items():
        if count := applied.counts.get(what):
            out.print(f"{count:>7,} {said[count > 1]}")
    if applied.known:
        out.print(f"{applied.known:>7,} known already")
    if applied.new:
        out.print(f"Taken from {short(file)}. Now run the job: yellowtor run {short(path)}", soft_wrap=True)
    elif not applied.faults:
        out.print(f"{short(file)} has nothing new.", soft_wrap=True)


def _counted(count: int, one: str, many: str) -> str:
    return f"{count:,} {one if count == 1 else many}"
