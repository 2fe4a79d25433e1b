"""The bodies of the commands: load, call the verb, show, and choose the exit code."""

import gc
import os
import signal
import threading
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from datetime import datetime
from importlib.resources import as_file, files
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from yellowtor.cli import report, report_json
from yellowtor.cli.clustering import entered, shared
from yellowtor.cli.console import Progress, duration, note, pour_out, stderr, stdout, write_out
from yellowtor.cli.eventlog import open_log
from yellowtor.contracts.ambient import Ambient
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob, BadSource, Exit, Unconfirmed, YellowtorError
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.record_settings import STANDARD
from yellowtor.run.parts import Options, Summary
from yellowtor.run.run_job import conduct, goes_on_at, refused
from yellowtor.settings import read_settings
from yellowtor.wiring.process import CLOCK, PROCESS, ProcessAmbient
from yellowtor.wiring.references import check_installed
from yellowtor.wiring.run_parts import PartsOptions, job_parts, preview_parts

if TYPE_CHECKING:
    from yellowtor.standin.server import Manners

STOPPING = b"Stopping: waiting for replies to requests that were sent. Press Ctrl-C again to stop at once.\n"
LOOK_S = 60.0  # between two looks at the clock while waiting


def run_command(path: Path, options: Options, *, strict: bool, as_json: bool, wait: bool) -> None:
    if wait:
        _can_be_read_again(path, "--wait")
    try:
        summary, stopped = _rounds(path, options, as_json=as_json, wait=wait)
    except Unconfirmed as error:
        if PROCESS.input is not None or not stderr().is_terminal:
            raise
        typer.confirm(f"{str(error).partition(':')[0]}. Continue?", abort=True, err=True)
        summary, stopped = _rounds(path, replace(options, agreed=True), as_json=as_json, wait=wait)
    if as_json:
        write_out(report_json.summary_json(summary, indent=None if wait else 2))
    else:
        report.report(stderr(), summary, dry_run=options.dry_run)
    if stopped:
        stderr().print("Stopped by a signal while waiting. The next run continues.", style="yellow")
        raise typer.Exit(int(Exit.INTERRUPTED))
    raise typer.Exit(int(_exit_code(summary, options, strict=strict)))


def _rounds(path: Path, options: Options, *, as_json: bool, wait: bool) -> tuple[Summary, bool]:
    """Run a job once; or, to wait, again and again as its allowance has more.

    Gives the last summary, and whether a signal ended the waiting.
    """
    stop = Cancellation()
    with signals(stop):
        summary = _run(path, options, stop, alone=not as_json and not wait)
        while wait and not stop and (when := goes_on_at(summary, CLOCK.now())):
            options = _what_is_left(options, summary)
            if options.at_most == 0:
                break
            _say_round(summary, as_json=as_json)
            _sleep(summary, when, stop)
            if stop:
                return summary, True
            summary = _run(path, options, stop)
    return summary, False


def _what_is_left(options: Options, done: Summary) -> Options:
    """The limits of a run, less what a round has used of them."""
    if options.at_most is not None:
        settled = sum(turn.settled for turn in done.asked.turns)
        options = replace(options, at_most=max(0, options.at_most - settled))
    if options.spend_at_most is not None:
        options = replace(options, spend_at_most=max(0, options.spend_at_most - sum(done.asked.costs.values())))
    return replace(
        options, failed_before=options.failed_before or done.began
    )  # what fails from now on is not asked again


def _sleep(summary: Summary, when: datetime, stop: Cancellation) -> None:
    """Until then, or until a signal; a clock that is set meanwhile is looked at again."""
    progress = Progress(stderr())
    stopped = summary.asked.stopped
    progress.waits(when, f"{stopped.service}: {stopped.message or stopped.stopped_by}" if stopped else "")
    with progress.shown():
        while not stop and (rest := (when - CLOCK.now()).total_seconds()) > 0:
            stop.wait(min(rest, LOOK_S))


def share_command(path: Path, options: Options, *, as_json: bool) -> bool:
    """Help another run of the job; False if there is none, and the job must be run normally."""
    from yellowtor.run.shared_run import ask_shared

    if "://" not in (read_settings(path, Job, "job").ledger or ""):
        raise BadJob(
            f'{path}: only with a shared ledger can two runs work on one job: ledger = "postgresql://…". '
            "Nothing was sent."
        )
    stop = Cancellation()
    again = options.again_failed
    limit = options.spend_at_most
    with (
        open_log(options.log) as log,
        signals(stop),
        job_parts(path, PartsOptions(again, limit, along=True)) as (parts, _),
    ):
        if not parts.book.along:
            return False
        progress = Progress(stderr(), log)
        with progress.shown():
            along = ask_shared(parts, options, progress, stop)
    if as_json:
        write_out(report_json.along_json(along))
    else:
        report.say_along(stderr(), along)
    if along.asked.refused:
        raise typer.Exit(int(Exit.KEY_REFUSED))
    if stop:
        raise typer.Exit(int(Exit.INTERRUPTED))
    return True


def follow_command(path: Path, options: Options, *, every_s: float, as_json: bool) -> None:
    """Run the job again and again until a signal; say what each run did that found something to do."""
    _can_be_read_again(path, "--follow")
    console = stderr()
    stop = Cancellation()
    summary = None
    with signals(stop):
        while not stop:
            try:
                summary = _run(path, options, stop)
            except BadSource as error:
                if summary is None:  # it never worked
                    raise
                note(console, f"{error} Trying again in {duration(every_s)}.")
            else:
                options = _what_is_left(options, summary)
                _say_followed(summary, as_json=as_json)
                if refused(summary):
                    raise typer.Exit(int(Exit.KEY_REFUSED))
            stop.wait(every_s)
    console.print("Stopped by a signal: everything is complete.")


def _can_be_read_again(path: Path, option: str) -> None:
    if read_settings(path, Job, "job").records.file == STANDARD:
        raise BadJob(
            f'{path} says records.file = "-": a stream can\'t be read again, which {option} needs. Nothing was sent.'
        )


def _say_followed(summary: Summary, *, as_json: bool) -> None:
    scan = summary.scan
    if scan.new or scan.changed or scan.vanished or summary.asked.sent:
        _say_round(summary, as_json=as_json)


def _say_round(summary: Summary, *, as_json: bool) -> None:
    if as_json:
        write_out(report_json.summary_json(summary, indent=None))
    else:
        report.brief(stderr(), summary)


def _run(
    path: Path, options: Options, stop: Cancellation, ambient: Ambient = PROCESS, *, alone: bool = False
) -> Summary:
    """Run a job once. alone: standard output is free for its answers."""
    console = stderr()
    again = options.again_failed
    limit = options.spend_at_most
    with open_log(options.log) as log, ExitStack() as stack:
        progress = Progress(console, log)
        with progress.shown():
            made = PartsOptions(again, limit, ambient=ambient, watch=progress)
            parts, remarks = entered(stack, path, made, options, progress)
        for remark in remarks:
            progress.remark(remark)
        if not gc.get_freeze_count():
            gc.freeze()  # what is loaded by now stays, and rows hold no circles: looking for some in them over
        gc.set_threshold(100_000)  # and over takes a tenth of the time
        poured = parts.job.write.to == STANDARD and not options.dry_run
        if poured and not alone:
            raise BadJob(
                f'{path} says write.to = "-": --json, --follow and --wait need standard output. Nothing was sent.'
            )
        if options.on:
            parts = stack.enter_context(shared(path, parts, options, progress))
        with progress.shown():
            summary = conduct(parts, options, progress, stop)
        if poured and parts.to:
            pour_out(parts.to)
        return summary


def _exit_code(summary: Summary, options: Options, *, strict: bool) -> Exit:
    if refused(summary):
        return Exit.KEY_REFUSED
    if summary.asked.interrupted:
        return Exit.INTERRUPTED
    if summary.wrote and summary.wrote.refused:
        return Exit.BAD_SOURCE
    if summary.outcomes[Outcome.WAITING] and not options.dry_run:
        return Exit.WAITING
    if strict and any(summary.outcomes[o] for o in (Outcome.DOUBTFUL, Outcome.UNPLACED, Outcome.FAILED)):
        return Exit.DOUBTFUL
    return Exit.ENDED


def preview_command(path: Path, *, show: int, as_json: bool) -> None:
    from yellowtor.cli.previewing import preview_json, show_preview
    from yellowtor.run.preview import preview

    job, table, services, remarks = preview_parts(path)
    progress = Progress(stderr())
    for remark in remarks:
        progress.remark(remark)
    with progress.shown():
        found = preview(job, table, services, show, progress)
    if as_json:
        write_out(preview_json(found))
    else:
        show_preview(stdout(), found)


@contextmanager
def signals(stop: Cancellation) -> Iterator[None]:
    """While the body runs, Ctrl-C, SIGTERM and a terminal that is closed are a wish to stop.

    Not the last of them where it was to be ignored from the beginning, as under nohup.
    """

    def ask(number: int, _: object) -> None:
        if number not in {signal.SIGINT, signal.SIGTERM}:  # what is still to be said has nowhere to go
            os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        stop.ask()
        if stop.times == 1:
            os.write(2, STOPPING)

    names = [signal.SIGINT, signal.SIGTERM]
    if hasattr(signal, "SIGHUP") and signal.getsignal(signal.SIGHUP) is not signal.SIG_IGN:
        names.append(signal.SIGHUP)
    before = {name: signal.signal(name, ask) for name in names}
    try:
        yield
    finally:
        for name, handler in before.items():
            signal.signal(name, handler)


def demo_command(into: Path) -> None:
    from yellowtor.demo.example import DATABASE, lay_out, run_sql
    from yellowtor.standin.server import Manners, StandIn, running

    console = stderr()
    again = (into / "ledger.sqlite").exists()
    with as_file(files("yellowtor.demo") / "data") as data:
        fresh = lay_out(data, into, Manners().key)
        with running(StandIn(data, Manners())) as address, signals(stop := Cancellation()):
            around = ProcessAmbient({"YELLOWTOR_STANDIN": address})
            console.print(f"The example is in {into}; its service is simulated at {address}.", soft_wrap=True)
            summary = _run(into / "job.toml", Options(), stop, around)
            report.report(console, summary, dry_run=False)
            console.print(f"\nThe partners' sites are in a database: {into / 'partners.toml'}", soft_wrap=True)
            partners = [_run(into / "partners.toml", Options(), stop, around)]
            report.brief(console, partners[0])
            if fresh:
                run_sql(into / DATABASE, data / "partners-later.sql")
                console.print("Overnight people edited it; the next run:")
                partners.append(_run(into / "partners.toml", Options(), stop, around))
                report.brief(console, partners[1])
            console.print(f"\nLamp posts have positions and need addresses: {into / 'lamps.toml'}", soft_wrap=True)
            lamps = _run(into / "lamps.toml", Options(), stop, around)
            report.brief(console, lamps)
    reference = _demo_reference(into, stop)
    if again and not any(done.asked.sent for done in (summary, *partners, lamps, *reference)):
        console.print("Nothing new: every answer came from the ledger; 0 requests were sent.")
    console.print(
        f"Look at {into / 'job.toml'} and {into / 'stand-in.toml'}: they are the whole configuration.", soft_wrap=True
    )


def _demo_reference(into: Path, stop: Cancellation) -> list[Summary]:
    """The register by a reference table, if what an index needs is installed."""
    console = stderr()
    try:
        check_installed()
    except BadJob:
        note(console, "pip install 'yellowtor[reference]' adds the fourth job: the register by a reference table")
        return []
    console.print(
        f"\nThe register again, by a table of addresses instead of a service: {into / 'register.toml'}", soft_wrap=True
    )
    done = _run(into / "register.toml", Options(), stop)
    report.brief(console, done)
    return [done]


def stand_in_command(port: int, manners: "Manners", gazetteer: Path | None) -> None:
    from yellowtor.standin.server import StandIn, running

    ended = threading.Event()
    for name in (signal.SIGINT, signal.SIGTERM):
        signal.signal(name, lambda *_: ended.set())
    with as_file(files("yellowtor.demo") / "data") as data:
        try:
            standin = StandIn(gazetteer or data, manners)
        except OSError as error:
            raise BadSource(f"{gazetteer} has no gazetteer: {error}.") from error
        try:
            with running(standin, port) as address:
                write_out(address)
                stderr().print(
                    f"The stand-in answers at {address} in four shapes, each as its description says (stand-in*.toml); "
                    f"its counters are at {address}/counters. Ctrl-C ends it.",
                    soft_wrap=True,
                )
                ended.wait()
        except OSError as error:
            raise YellowtorError(f"Port {port} on 127.0.0.1 can't be used: {error.strerror}. Try --port 0.") from error
