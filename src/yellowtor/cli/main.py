"""The command line: parses, calls the verbs, hands results to the console. No rule of the domain is here.

Heavy parts are imported inside the commands, so that --help and --version are quick.
"""

import codecs
import gc
import os
import sys
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from yellowtor.ascii_fallback import NEAREST, nearest_ascii
from yellowtor.cli import cache_app, judging_commands, marker_commands, review_commands, service_commands
from yellowtor.cli.completion import AsJson, JobArgument, description_files
from yellowtor.cli.debugging import DEBUG
from yellowtor.cli.run_options import Follow, MostMoved, On, RunLog, SpendAtMost, Wait
from yellowtor.version import __version__

SELDOM = 100_000  # new objects between two looks for unused cycles: a run makes many objects, and hardly a cycle
app = typer.Typer(
    name="yellowtor",
    help="Geocoding in bulk: turns stored address records into coordinates that can be trusted.",
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


app.add_typer(cache_app.app, name="cache")


class DraftedAs(StrEnum):
    """What `draft` writes."""

    JOB = "job"
    REFERENCE = "reference"


class Again(StrEnum):
    """What to ask for again although it was asked before."""

    FAILED = "failed"


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"yellowtor {__version__}")
        raise typer.Exit


@app.callback()
def common(
    debug: Annotated[bool, typer.Option("--debug", help="Show where an error came from.")] = False,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and end.")
    ] = False,
) -> None:
    """`yellowtor COMMAND --help` shows the options of a command."""
    del version
    DEBUG.set(debug)


@app.command()
def run(
    job: JobArgument,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Read and plan; send and write nothing.")] = False,
    at_most: Annotated[
        int | None, typer.Option("--at-most", min=1, metavar="N", help="Ask at most N questions, to try the job.")
    ] = None,
    spend_at_most: SpendAtMost = None,
    yes: Annotated[bool, typer.Option("--yes", help="Allow a cost above ask.confirm_above.")] = False,
    again: Annotated[Again | None, typer.Option("--again", help="Ask the failed questions again.")] = None,
    repair: Annotated[
        bool,
        typer.Option(
            "--repair", help="Rewrite coordinates of the source as plain degrees, if their meaning is certain."
        ),
    ] = False,
    follow: Follow = None,
    wait: Wait = False,
    share: Annotated[
        bool,
        typer.Option("--share", help="If another run works on the job, help it (needs a PostgreSQL ledger)."),
    ] = False,
    on: On = "",
    strict: Annotated[
        bool, typer.Option("--strict", help="End with code 7 if a record is doubtful, unplaced or failed.")
    ] = False,
    most_moved: MostMoved = None,
    log: RunLog = None,
    json: Annotated[bool, typer.Option("--json", help="Print the summary as JSON on standard output.")] = False,
) -> None:
    """Run a job: read the records, ask the open questions, write coordinates and markers."""
    from yellowtor.allowance.price import MILLION
    from yellowtor.cli.commands import follow_command, run_command, share_command
    from yellowtor.run.parts import Options

    limit = None if spend_at_most is None else round(spend_at_most * MILLION)
    options = Options(
        dry_run, at_most, again is not None, repair, limit, agreed=yes, log=log, most_moved=_share(most_moved), on=on
    )
    if wait and (dry_run or follow is not None):
        raise typer.BadParameter(
            "a dry run has nothing to wait for, and --follow waits without it", param_hint="--wait"
        )
    if share and (wait or dry_run or follow is not None or on):
        raise typer.BadParameter("--share ends with the other run", param_hint="--share")
    if share and share_command(job, options, as_json=json):
        return
    if follow is not None:
        follow_command(job, options, every_s=_seconds(follow), as_json=json)
    else:
        run_command(job, options, strict=strict, as_json=json, wait=wait)


def _seconds(text: str) -> float:
    """30s, 5m, 1h or a plain number of seconds."""
    number, unit = (text[:-1], text[-1]) if text[-1:] in {"s", "m", "h"} else (text, "s")
    try:
        seconds = float(number) * {"s": 1, "m": 60, "h": 3600}[unit]
    except ValueError:
        seconds = 0
    if not 0 < seconds < 1e6:
        raise typer.BadParameter(f"{text!r} is not a time such as 30s, 5m or 1h", param_hint="--follow")
    return seconds


@app.command()
def check(
    job: JobArgument,
    ask: Annotated[bool, typer.Option("--ask", help="Also send one request, about the first record.")] = False,
    json: Annotated[bool, typer.Option("--json", help="Print the result as JSON.")] = False,
) -> None:
    """Check a job, its descriptions, keys, columns, records and ledger; list all problems."""
    from yellowtor.cli.checking import check_command

    check_command(job, ask=ask, as_json=json)


@app.command()
def draft(
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="A file or folder with records, or a URL.")],
    into: Annotated[
        Path | None, typer.Option("--into", metavar="JOB.toml", help="The job file to write; default: standard output.")
    ] = None,
    service: Annotated[
        Path | None,
        typer.Option(
            "--service", metavar="FILE.toml", help="The service description.", autocompletion=description_files
        ),
    ] = None,
    table: Annotated[str | None, typer.Option("--table", help="The table of a database.")] = None,
    sheet: Annotated[str | None, typer.Option("--sheet", help="The sheet of a workbook.")] = None,
    password_from: Annotated[
        str | None, typer.Option("--password-from", metavar="NAME", help="Variable with a database's password.")
    ] = None,
    as_: Annotated[
        DraftedAs | None,
        typer.Option("--as", help="What to write; default: a reference if nearly all rows have coordinates."),
    ] = None,
) -> None:
    """Write a job for a source, or describe it as a reference table: columns are guessed; send nothing."""
    from yellowtor.cli.drafting import DraftWish, draft_command

    draft_command(DraftWish(source, into, service, table, sheet, password_from, as_ and as_.value))


@app.command()
def plan(
    job: JobArgument,
    what_if: Annotated[
        list[str],
        typer.Option(
            "--what-if",
            metavar="LIMIT=N",
            help="Also with another limit: day=8000, pace=20, month=none; may be repeated.",
        ),
    ] = [],  # noqa: B006
    at_most: Annotated[
        int | None, typer.Option("--at-most", min=1, metavar="N", help="As a run with --at-most N.")
    ] = None,
    again: Annotated[Again | None, typer.Option("--again", help="As a run with --again failed.")] = None,
    png: Annotated[
        Path | None,
        typer.Option("--png", metavar="FILE.png", help="Draw the requests over time, and the windows."),
    ] = None,
    on: On = "",
    json: AsJson = False,
) -> None:
    """Show the requests, cost and end of a run, with every window and cap; send nothing."""
    from yellowtor.cli.planning import plan_command
    from yellowtor.run.parts import Options

    options = Options(dry_run=True, at_most=at_most, again_failed=again is not None, on=on)
    plan_command(job, options, what_if, as_json=json, png=png)


@app.command()
def quota(
    job: JobArgument,
    png: Annotated[
        Path | None,
        typer.Option("--png", metavar="FILE.png", help="Draw the requests by day, and how full the windows are."),
    ] = None,
    requests: Annotated[
        Path | None,
        typer.Option(
            "--requests", metavar="FILE.csv", help="Write every request as a row instead; - is standard output."
        ),
    ] = None,
    json: AsJson = False,
) -> None:
    """Show what is left of the quota of a job's services, and what was used; send nothing."""
    from yellowtor.cli.quota import quota_command, requests_command

    if requests:
        requests_command(job, requests)
    else:
        quota_command(job, as_json=json, png=png)


@app.command()
def preview(
    job: JobArgument,
    show: Annotated[
        int, typer.Option("--show", min=0, metavar="N", help="The number of records to show completely.")
    ] = 3,
    json: AsJson = False,
) -> None:
    """Show the composed addresses, and the records that are not asked; send nothing."""
    from yellowtor.cli.commands import preview_command

    preview_command(job, show=show, as_json=json)


app.command()(marker_commands.markers)
app.command()(marker_commands.nearby)
app.command()(review_commands.pin)
app.command()(review_commands.review)
app.command()(review_commands.compare)
app.command()(review_commands.pairs)
app.command()(judging_commands.explain)
app.command()(judging_commands.calibrate)
app.command(name="try")(service_commands.try_)
app.command()(service_commands.index)
app.command()(service_commands.demo)
app.command(name="stand-in")(service_commands.stand_in)


def _share(text: str | None) -> float | None:
    """A share of the command line: 5%, 0.05."""
    from yellowtor.run.jobs.record_settings import read_share

    if text is None:
        return None
    try:
        share = float(read_share(text))
    except ValueError:
        share = -1.0
    if not 0 <= share <= 1:
        raise typer.BadParameter(f"{text!r} is not a share, such as 5% or 0.05", param_hint="--most-moved")
    return share


def main(arguments: Sequence[str] | None = None) -> None:
    """The entry point: every exception becomes one message and one exit code here."""
    from yellowtor.errors import Exit, YellowtorError

    words = sys.argv[1:] if arguments is None else list(arguments)
    gc.set_threshold(SELDOM)
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # looking for plugins takes 0.05 s
    os.environ.setdefault("ARROW_DEFAULT_MEMORY_POOL", "system")  # the others keep 70 MiB for later
    codecs.register_error(NEAREST, nearest_ascii)
    try:
        jobs = [Path(word) for word in words if word.endswith(".toml")]
        if "run" in words and jobs:  # before everything that takes time to import
            from yellowtor.tables.workbook.read_ahead import read_ahead

            read_ahead(jobs[0])
        app(args=words)
    except YellowtorError as error:
        _fail(error, f"yellowtor: {error}", error.exit_code, words)
    except KeyboardInterrupt as error:
        said = "yellowtor: stopped. What was settled is kept; the next run continues from there."
        _fail(error, said, Exit.INTERRUPTED, words)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(Exit.FAULT)
    except Exception as error:  # noqa: BLE001 - the last door
        said = f"yellowtor: an unexpected fault: {type(error).__name__}: {error}. --debug shows where."
        _fail(error, said, Exit.FAULT, words)


def _harmless(text: str) -> str:
    """Without what would control a terminal: a message quotes files and replies."""
    return "".join(c if c in "\n\t" or c.isprintable() else "\ufffd" for c in text)


def _fail(error: BaseException, message: str, code: int, words: Sequence[str]) -> None:
    if "--debug" in words:
        import traceback

        traceback.print_exception(error)
    typer.echo(_harmless(message), err=True)
    if "--json" in words:  # for the program that reads the results
        import json

        typer.echo(json.dumps({"error": {"message": message.removeprefix("yellowtor: "), "exit_code": int(code)}}))
    sys.exit(int(code))
