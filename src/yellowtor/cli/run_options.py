"""Options of the command `run`, some of which other commands have too."""

from pathlib import Path
from typing import Annotated

import typer

SpendAtMost = Annotated[
    float | None,
    typer.Option(
        "--spend-at-most", min=0, metavar="AMOUNT", help="Spend at most this amount, in the currency of the prices."
    ),
]
Follow = Annotated[
    str | None,
    typer.Option("--follow", metavar="TIME", help="Keep running; look for new and changed records every 30s, 5m, 1h."),
]
Wait = Annotated[
    bool,
    typer.Option("--wait", help="Sleep while the quota is spent, then continue, to the end; this may take days."),
]
RunLog = Annotated[
    Path | None,
    typer.Option(
        "--log", metavar="FILE", help="Append a line for each request and decision; JSON lines if it ends in .jsonl."
    ),
]
MostMoved = Annotated[
    str | None,
    typer.Option(
        "--most-moved", metavar="SHARE", help="The share of records that may move, in place of write.most_moved."
    ),
]
On = Annotated[
    str,
    typer.Option(
        "--on",
        metavar="CLUSTER",
        help="Share the work among the workers of a Dask cluster (tcp://host:8786), or N processes (local:N).",
    ),
]
