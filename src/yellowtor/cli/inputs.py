"""What people say on the command line, understood."""

import typer

from yellowtor.answers.coordinates import Finding, read_coordinates
from yellowtor.answers.position import WRITTEN_DECIMALS, Position


def position_of(text: str) -> Position:
    """Latitude and longitude as people write them, for `--at`. Raises BadParameter."""
    lat, mark, lon = text.partition(",")
    held = read_coordinates(lat, lon, ".", None)
    if not mark or held.position is None or held.finding not in {None, Finding.SEXAGESIMAL}:
        said = f": {held.finding.value}" if held.finding else ""
        raise typer.BadParameter(f"{text!r} is no latitude, longitude in degrees{said}", param_hint="--at")
    return Position(round(held.position.lat, WRITTEN_DECIMALS), round(held.position.lon, WRITTEN_DECIMALS))
