"""The commands with which people decide: pin, review, compare."""

from pathlib import Path
from typing import Annotated

import typer

from yellowtor.cli.completion import AsJson, JobArgument
from yellowtor.contracts.outcome import Outcome


def pin(
    job: JobArgument,
    key: Annotated[
        str | None,
        typer.Argument(metavar="KEY", help="The record's key; without it, the pins are listed."),
    ] = None,
    at: Annotated[
        str | None,
        typer.Option("--at", metavar="LAT,LON", help="The position, in degrees, WGS 84, or a geo: URI."),
    ] = None,
    why: Annotated[str | None, typer.Option("--why", metavar="TEXT", help="How you know; needed with --at.")] = None,
    by: Annotated[
        str | None,
        typer.Option("--by", metavar="NAME", help="Who decided; default: your login name."),
    ] = None,
    address: Annotated[
        bool, typer.Option("--address", help="Pin the record's address: for every record that has it, in all jobs.")
    ] = False,
    candidate: Annotated[
        str | None,
        typer.Option("--candidate", metavar="LETTER", help="Or a candidate of the services, as `review` letters them."),
    ] = None,
    off: Annotated[bool, typer.Option("--off", help="Remove the record's pin.")] = False,
) -> None:
    """Pin a record to a position. The next run writes it and asks no service."""
    from yellowtor.cli.pinning import PinWish, pin_command

    pin_command(job, key, PinWish(at, candidate, why, by, address, off))


def review(
    job: JobArgument,
    to: Annotated[
        list[Path] | None,
        typer.Option("--to", metavar="FILE", help="A workbook (.xlsx), .csv or page (.html) to decide in."),
    ] = None,
    apply: Annotated[
        Path | None,
        typer.Option("--apply", metavar="FILE", help="Take the decisions of such a file, or of any table of yours."),
    ] = None,
    serve: Annotated[
        bool, typer.Option("--serve", help="Decide on a page in your browser; each decision is stored at once.")
    ] = False,
    ask: Annotated[bool, typer.Option("--ask", help="Decide in the terminal.")] = False,
    also: Annotated[
        list[Outcome] | None,
        typer.Option("--also", metavar="OUTCOME", help="Also addresses that are unplaced; may be repeated."),
    ] = None,
    by: Annotated[
        str | None, typer.Option("--by", metavar="NAME", help="Who decides; default: your login name.")
    ] = None,
    port: Annotated[
        int, typer.Option("--port", min=0, max=65535, help="The loopback port of --serve; 0: a free one.")
    ] = 0,
    json: AsJson = False,
) -> None:
    """Settle doubtful records: write them out, grouped, to decide about; take the decisions. Send nothing."""
    from yellowtor.cli.reviewing import ReviewWish, review_command

    review_command(job, ReviewWish(tuple(to or ()), apply, serve, ask, tuple(also or ()), by, port), as_json=json)


def pairs(
    job: JobArgument,
    other: Annotated[
        Path | None, typer.Argument(metavar="[OTHER.toml]", help="Another job, to compare with.", show_default=False)
    ] = None,
    at_least: Annotated[
        float, typer.Option("--at-least", min=0.05, max=1, help="The lowest confidence of a pair.")
    ] = 0.5,
    to: Annotated[Path | None, typer.Option("--to", metavar="FILE.csv", help="Write all pairs into this file.")] = None,
    most: Annotated[int, typer.Option("--most", min=1, help="The number of pairs that a terminal shows.")] = 50,
) -> None:
    """Find addresses of a job, or of two, that are one address written differently. Send nothing."""
    from yellowtor.cli.pairing import pairs_command

    pairs_command(job, other, at_least=at_least, to=to, most=most)


def compare(
    one: Annotated[str, typer.Argument(metavar="A", help="A job, JOB.toml@2026-11-27, JOB.toml@-1, or a table.")],
    other: Annotated[str, typer.Argument(metavar="B", help="The other one; at least one is a job.")],
    sample: Annotated[
        int | None,
        typer.Option("--sample", min=1, metavar="N", help="Ask both about N records only; estimate the whole."),
    ] = None,
    seed: Annotated[int, typer.Option("--seed", help="Another seed draws another sample.")] = 1,
    png: Annotated[
        Path | None, typer.Option("--png", metavar="FILE.png", help="Draw the distances and the outcomes.")
    ] = None,
    page: Annotated[
        Path | None,
        typer.Option("--page", metavar="FILE.html", help="A map with a line between both positions of what moved."),
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Allow a cost of the sample above ask.confirm_above.")] = False,
    json: AsJson = False,
) -> None:
    """Compare two jobs, a job with how it was before, or with known positions: what moved, and who is right."""
    from yellowtor.cli.comparing import CompareWish, compare_command

    compare_command(CompareWish(one, other, sample, seed, png, page, yes), as_json=json)
