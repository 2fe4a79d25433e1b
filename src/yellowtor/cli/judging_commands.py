"""The commands about judgements: explain, calibrate."""

from pathlib import Path
from typing import Annotated

import typer

from yellowtor.cli.completion import AsJson, JobArgument


def explain(
    job: JobArgument,
    key: Annotated[str, typer.Argument(metavar="KEY", help="The key of the record.")],
    history: Annotated[
        bool, typer.Option("--history", help="Instead, every position that the record had, and why.")
    ] = False,
    json: AsJson = False,
) -> None:
    """Show the whole story of one record, from its columns to its outcome; send nothing."""
    from yellowtor.cli.explaining import explain_command
    from yellowtor.cli.history import history_command

    (history_command if history else explain_command)(job, key, as_json=json)


def calibrate(
    job: JobArgument,
    png: Annotated[
        Path | None,
        typer.Option("--png", metavar="FILE.png", help="Draw the reliability of each service, before and after."),
    ] = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Show what would be learned; write nothing.")] = False,
    json: AsJson = False,
) -> None:
    """Correct the confidences of a job's services by your pins (at least 50); send nothing."""
    from yellowtor.cli.calibrating import calibrate_command

    calibrate_command(job, png=png, dry_run=dry_run, as_json=json)
