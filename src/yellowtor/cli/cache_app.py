"""The options of `cache …`."""

from pathlib import Path
from typing import Annotated

import typer

from yellowtor.cli.completion import job_files, service_names

app = typer.Typer(
    help="Show, correct, delete, export and import what the ledger knows about addresses.",
    no_args_is_help=True,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"]},
)
JobOption = Annotated[
    Path | None,
    typer.Option(
        "--job", metavar="JOB.toml", help="The ledger of this job; default: your own.", autocompletion=job_files
    ),
]
LedgerOption = Annotated[Path | None, typer.Option("--ledger", metavar="FILE", help="Or this file of a ledger.")]
JsonOption = Annotated[bool, typer.Option("--json", help="Print it as JSON on standard output.")]
ByOption = Annotated[
    str | None,
    typer.Option("--by", metavar="NAME", help="Who decided; default: your login name."),
]
AddressArgument = Annotated[str, typer.Argument(metavar="ADDRESS", help="An address, or its number from `find`.")]


@app.command()
def sizes(job: JobOption = None, ledger: LedgerOption = None, json: JsonOption = False) -> None:
    """Show the number, size and age of replies, by service."""
    from yellowtor.cli.caching import sizes_command

    sizes_command(job, ledger, as_json=json)


@app.command()
def find(
    text: Annotated[str, typer.Argument(metavar="TEXT", help="An address, or some of its words.")],
    most: Annotated[int, typer.Option("--most", min=1, metavar="N", help="The number of addresses to show.")] = 10,
    job: JobOption = None,
    ledger: LedgerOption = None,
    json: JsonOption = False,
) -> None:
    """Find similar addresses in the ledger; each has a number."""
    from yellowtor.cli.caching import find_command

    find_command(job, ledger, text, most, as_json=json)


@app.command()
def show(
    address: AddressArgument, job: JobOption = None, ledger: LedgerOption = None, json: JsonOption = False
) -> None:
    """Show everything about an address: replies, candidates, requests, cost, pins, records."""
    from yellowtor.cli.caching import show_command

    show_command(job, ledger, address, as_json=json)


@app.command()
def pin(
    address: AddressArgument,
    why: Annotated[str, typer.Option("--why", metavar="TEXT", help="How you know.")],
    at: Annotated[
        str | None,
        typer.Option("--at", metavar="LAT,LON", help="The position, in degrees, WGS 84."),
    ] = None,
    like: Annotated[
        str | None,
        typer.Option("--like", metavar="ADDRESS", help="Or the position of this other known address."),
    ] = None,
    by: ByOption = None,
    job: JobOption = None,
    ledger: LedgerOption = None,
) -> None:
    """Pin an address to a position, for the records of every job. The next run writes it and asks no service."""
    from yellowtor.cli.caching import pin_command

    pin_command(job, ledger, address, at=at, like=like, why=why, by=by)


@app.command()
def unpin(address: AddressArgument, job: JobOption = None, ledger: LedgerOption = None) -> None:
    """Remove the pin of an address."""
    from yellowtor.cli.caching import unpin_command

    unpin_command(job, ledger, address)


@app.command()
def forget(
    address: Annotated[list[str], typer.Argument(metavar="ADDRESS…", help="Addresses, or their numbers.")],
    every_trace: Annotated[
        bool, typer.Option("--every-trace", help="Delete the address itself too, as a person may demand.")
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask for confirmation.")] = False,
    job: JobOption = None,
    ledger: LedgerOption = None,
) -> None:
    """Delete the replies about addresses; records that still need them are asked and paid again."""
    from yellowtor.cli.caching import forget_command

    forget_command(job, ledger, address, every_trace=every_trace, yes=yes)


@app.command()
def expire(
    older_than: Annotated[
        int | None,
        typer.Option(
            "--older-than", min=0, metavar="DAYS", help="Delete all older replies, whatever the services' terms."
        ),
    ] = None,
    service: Annotated[
        str | None,
        typer.Option(
            "--service", metavar="NAME", help="With --older-than: of this service only.", autocompletion=service_names
        ),
    ] = None,
    job: JobOption = None,
    ledger: LedgerOption = None,
) -> None:
    """Delete replies that are too old (service.keep_days, keep_nothing_days), as every run does."""
    from yellowtor.cli.caching import expire_command

    expire_command(job, ledger, older_than, service)


@app.command()
def export(
    into: Annotated[Path, typer.Argument(metavar="FILE.geojson", help="The file to write.")],
    job: JobOption = None,
    ledger: LedgerOption = None,
) -> None:
    """Write every reply and pin with its provenance, as GeoJSON for `import`."""
    from yellowtor.cli.caching import export_command

    export_command(job, ledger, into)


@app.command(name="import")
def import_(
    file: Annotated[
        Path, typer.Argument(metavar="FILE.geojson", help="A file from `export`, or points with addresses.")
    ],
    why: Annotated[
        str, typer.Option("--why", metavar="TEXT", help="For points: where they come from.")
    ] = "taken over from another system",
    by: ByOption = None,
    job: JobOption = None,
    ledger: LedgerOption = None,
) -> None:
    """Import the export of another ledger, or old coordinates as pins."""
    from yellowtor.cli.caching import import_command

    import_command(job, ledger, file, why=why, by=by)
