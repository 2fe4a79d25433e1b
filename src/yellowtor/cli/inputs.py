"""Parses values of the command line."""

from pathlib import Path

import typer

from yellowtor.answers.geography.cell_coordinates import read_place
from yellowtor.contracts.position import Position
from yellowtor.errors import BadJob


def check_ending(path: Path, option: str, *endings: str) -> None:
    """Raise BadJob for an output whose name does not say what is in it: it may be a job, a ledger, a table."""
    if path.suffix.lower() not in endings:
        raise BadJob(f"{option} {path}: the name must end in {' or '.join(endings)}. Nothing was written.")


def position_of(text: str) -> Position:
    """Latitude and longitude as people write them, or a `geo:` URI, for `--at`. Raises BadParameter."""
    held = read_place(text)
    if held.position is None or held.finding is not None:
        said = f": {held.finding.value}" if held.finding else ""
        raise typer.BadParameter(f"{text!r} is not a latitude, longitude in degrees{said}", param_hint="--at")
    return held.position.rounded()
