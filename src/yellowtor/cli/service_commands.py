"""The commands about services, whether a job uses them or not: try, demo, stand-in."""

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from yellowtor.cli.completion import address_parts, description_files, job_files


class Shown(StrEnum):
    """What `try` shows."""

    REQUEST = "request"
    REPLY = "reply"
    READING = "reading"
    ALL = "all"


class Hints(StrEnum):
    """What replies of the stand-in say of its limits."""

    WAIT = "wait"
    NONE = "none"
    LIMITS = "limits"


class Fault(StrEnum):
    """How a reply of the stand-in can be broken."""

    ERROR = "error"
    SLOW = "slow"
    CUT = "cut"
    PAGE = "page"
    BUSY = "busy"
    ITEM = "item"


Part = Annotated[
    list[str],
    typer.Option(
        "--part",
        metavar="NAME=TEXT",
        help="Or a part of it, such as street=…; may be repeated.",
        autocompletion=address_parts,
    ),
]
Services = Annotated[
    list[Path],
    typer.Option(
        "--service",
        metavar="FILE.toml",
        help="The service description; several are shown side by side.",
        autocompletion=description_files,
    ),
]
OfJob = Annotated[
    Path | None,
    typer.Option(
        "--job",
        metavar="JOB.toml",
        help="Ask as this job does, with its service and ledger.",
        autocompletion=job_files,
    ),
]


def try_(
    address: Annotated[str, typer.Argument(metavar="[ADDRESS]", help="An address in one line.")] = "",
    part: Part = [],  # noqa: B006
    at: Annotated[
        str | None,
        typer.Option("--at", metavar="LAT,LON", help="Or a position, in degrees, WGS 84."),
    ] = None,
    service: Services = [],  # noqa: B006
    job: OfJob = None,
    record: Annotated[
        str | None,
        typer.Option("--record", metavar="KEY", help="The address of this record of the job."),
    ] = None,
    show: Annotated[Shown, typer.Option("--show", help="What to show; with `request`, nothing is sent.")] = Shown.ALL,
    reply: Annotated[
        Path | None,
        typer.Option("--reply", metavar="FILE", help="Read this saved reply; nothing is sent."),
    ] = None,
    save: Annotated[
        Path | None,
        typer.Option("--save", metavar="FILE", help="Save the reply, for --reply."),
    ] = None,
    tolerance: Annotated[float, typer.Option("--tolerance", min=1, help="The tolerance in metres.")] = 50,
    anew: Annotated[bool, typer.Option("--anew", help="Ask even if the ledger has the reply.")] = False,
    ledger: Annotated[
        Path | None, typer.Option("--ledger", metavar="FILE", help="Another ledger instead of your own.")
    ] = None,
) -> None:
    """Ask one question; show the request, the reply, what was read, and the confidence."""
    from yellowtor.cli.trying import Wish, try_command

    wish = Wish(address, part, at, service, job, record, reply, save, show.value, tolerance, anew, ledger)
    try_command(wish)


def index(
    description: Annotated[
        Path,
        typer.Argument(
            metavar="DESCRIPTION.toml",
            help="The description of a reference table.",
            autocompletion=description_files,
            show_default=False,
        ),
    ],
    stats: Annotated[
        bool, typer.Option("--stats", help="Show what the index contains; build it only if needed.")
    ] = False,
    json: Annotated[bool, typer.Option("--json", help="Print what it contains as JSON.")] = False,
) -> None:
    """Build the index of a reference table anew. The first run builds it, too."""
    from yellowtor.cli.indexing import index_command

    index_command(description, stats=stats, as_json=json)


def demo(
    into: Annotated[Path, typer.Option("--into", metavar="FOLDER", help="The folder for the example.")] = Path(
        "yellowtor-demo"
    ),
) -> None:
    """Run the whole example: made-up records and a simulated service, without network."""
    from yellowtor.cli.commands import demo_command

    demo_command(into)


def stand_in(
    port: Annotated[
        int, typer.Option("--port", min=0, max=65535, help="Port on 127.0.0.1; 0 takes a free one.")
    ] = 8640,
    key: Annotated[str, typer.Option("--key", help="The key that it accepts.")] = "demo-key-0001",
    pace: Annotated[int, typer.Option("--pace", min=0, help="Its limit of requests a second; 0 means no limit.")] = 40,
    per_day: Annotated[int | None, typer.Option("--per-day", min=0, help="Its limit of requests in all.")] = None,
    fault: Annotated[
        list[Fault], typer.Option("--fault", help="Break every n-th reply like this (see --every); may be repeated.")
    ] = [],  # noqa: B006
    every: Annotated[int, typer.Option("--every", min=1, help="Break every n-th reply.")] = 5,
    slow: Annotated[float, typer.Option("--slow", min=0, help="The delay of a slow reply in seconds.")] = 3.0,
    hints: Annotated[Hints, typer.Option("--hints", help="What replies say about its limits.")] = Hints.WAIT,
    unfriendly: Annotated[bool, typer.Option("--unfriendly", help="After too many requests, answer 0,0.")] = False,
    gazetteer: Annotated[
        Path | None, typer.Option("--gazetteer", metavar="FOLDER", help="Another made-up gazetteer.")
    ] = None,
) -> None:
    """Run the simulated service in the foreground, until Ctrl-C."""
    from yellowtor.cli.commands import stand_in_command
    from yellowtor.standin.server import Manners

    faults = {f.value: every for f in fault}
    manners = Manners(key, pace or None, per_day, unfriendly, slow, faults, hints.value)
    stand_in_command(port, manners, gazetteer)
