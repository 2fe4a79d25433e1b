"""The commands about markers."""

from pathlib import Path
from typing import Annotated

import typer

from yellowtor.cli.completion import AsJson, JobArgument
from yellowtor.contracts.outcome import Outcome


def markers(
    job: JobArgument,
    to: Annotated[
        list[Path] | None,
        typer.Option(
            "--to", metavar="FILE", help="A file of markers, in place of the job's; its ending says the format."
        ),
    ] = None,
    outcome: Annotated[
        list[Outcome] | None,
        typer.Option(
            "--outcome", metavar="OUTCOME", help=f"Only records that are {', '.join(Outcome)}; may be repeated."
        ),
    ] = None,
    level: Annotated[
        str | None, typer.Option("--level", metavar="LEVEL", help="Only answers of this level or a finer one.")
    ] = None,
    confidence: Annotated[
        float | None, typer.Option("--confidence", min=0, max=1, help="Only answers with at least this confidence.")
    ] = None,
    only: Annotated[
        str | None, typer.Option("--only", metavar="SQL", help="Only records for which this SQL condition holds.")
    ] = None,
    json: AsJson = False,
) -> None:
    """Write marker files from what the ledger knows: a page, GeoJSON, KML, GPX and more; send nothing."""
    from yellowtor.cli.marking import MarkerWishes, markers_command

    wishes = MarkerWishes(to or (), outcome or (), level, confidence, only)
    markers_command(job, wishes, as_json=json)


def nearby(
    job: JobArgument,
    to: Annotated[
        str | None,
        typer.Option(
            "--to", metavar="PLACE", help="The key of a record, an address, or LAT,LON: the records nearest to it."
        ),
    ] = None,
    within: Annotated[
        str | None, typer.Option("--within", metavar="LENGTH", help="No farther away than this, such as 500m or 2km.")
    ] = None,
    count: Annotated[int, typer.Option("--count", min=1, help="The largest number of records.")] = 5,
    each: Annotated[bool, typer.Option("--each", help="Each record with the nearest other one, as CSV.")] = False,
    sites: Annotated[
        Path | None,
        typer.Option("--sites", metavar="JOB.toml", help="Each record with the nearest record of this other job."),
    ] = None,
    suspicious: Annotated[
        bool,
        typer.Option("--suspicious", help="Different addresses at one position, and one address at several positions."),
    ] = False,
    into: Annotated[
        Path | None, typer.Option("--into", metavar="FILE", help="Write it to a .csv or .geojson file.")
    ] = None,
    json: AsJson = False,
) -> None:
    """Show which records are near a place, by geodesic distance; only an address that is new is asked, once."""
    from yellowtor.cli.finding_near import NearbyWish, nearby_command

    nearby_command(job, NearbyWish(to, within, count, each, sites, suspicious, into), as_json=json)
