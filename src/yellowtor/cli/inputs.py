"""Parses values of the command line."""

from pathlib import Path

import typer

from yellowtor.answers.geography.cell_coordinates import Finding, read_coordinates
from yellowtor.contracts.position import WRITTEN_DECIMALS, Position
from yellowtor.errors import BadJob


def check_ending(path: Path, option: str, *endings: str) -> None:
    """Raise BadJob for an output whose name does not say what is in it: it may be a job, a ledger, a table."""
    if path.suffix.lower() not in endings:
        raise BadJob(f"{option} {path}: the name must end in {' or '.join(endings)}. Nothing was written.")


def position_of(text: str) -> Position:
    """Latitude and longitude as people write them, for `--at`. Raises BadParameter."""
    lat, mark, lon = text.partition(",")
    held = read_coordinates(lat, lon, ".", None)
    if not mark or held.position is None or held.finding not in {None, Finding.SEXAGESIMAL}:
        said = f": {held.finding.value}" if held.finding else ""
        raise typer.BadParameter(f"{text!r} is not a latitude, longitude in degrees{said}", param_hint="--at")
    return Position(round(held.position.lat, WRITTEN_DECIMALS), round(held.position.lon, WRITTEN_DECIMALS))
