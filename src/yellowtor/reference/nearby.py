"""The addresses nearest to a position: houses are sorted by cells of a grid, and a cell is one range of an array."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.position import EARTH_RADIUS_M, Position
from yellowtor.reference.areas import containing
from yellowtor.reference.candidates import of_area, of_house
from yellowtor.reference.csr import ranges
from yellowtor.reference.field_names import AREA
from yellowtor.reference.index import ReferenceIndex
from yellowtor.reference.streets import METRES, UNIT

Ints = NDArray[Any]
CELL = 50_000  # units of a cell's side: 0.005°, 556 m from south to north
ROW = 1 << 20  # more than there are cells in a row
MOST = 5


def grid_arrays(lat: Ints, lon: Ints) -> dict[str, Ints]:
    """The cell of each house (positions in units), in order, and the house."""
    cells = _cells(lat, lon)
    order = np.argsort(cells, kind="stable")
    return {"grid_cell": cells[order], "grid_house": order.astype(np.int32)}


def _cells(lat: Ints, lon: Ints) -> Ints:
    rows = (lat.astype(np.int64) + round(90 * UNIT)) // CELL
    return rows * ROW + (lon.astype(np.int64) + round(180 * UNIT)) // CELL


def near(index: ReferenceIndex, here: Position, within_m: float) -> list[Candidate]:
    """The nearest houses, the nearest first, at most MOST, none farther than within_m; then the areas around."""
    houses = _in_reach(index, here, within_m)
    lat = np.radians(index.arrays["house_lat"][houses] / UNIT)
    lon = np.radians(index.arrays["house_lon"][houses] / UNIT)
    half = np.sin((lat - np.radians(here.lat)) / 2) ** 2
    half += np.cos(lat) * np.cos(np.radians(here.lat)) * np.sin((lon - np.radians(here.lon)) / 2) ** 2
    metres = 2 * EARTH_RADIUS_M * np.arcsin(np.sqrt(np.minimum(1.0, half)))
    order = np.lexsort((houses, metres))[:MOST]
    areas = [of_area(index, place, here, AREA) for place in containing(index, here)]
    return [
        of_house(index, house, f"the nearest address, {away:,.0f} m away" if not at else f"{away:,.0f} m away")
        for at, (house, away) in enumerate(zip(houses[order].tolist(), metres[order].tolist(), strict=True))
        if away <= within_m
    ] + areas


def _in_reach(index: ReferenceIndex, here: Position, within_m: float) -> Ints:
    """The houses in the cells that are within this distance."""
    height = within_m / METRES
    width = min(360.0, height / max(1e-6, np.cos(np.radians(min(89.9, abs(here.lat) + height)))))
    south, north = (np.clip(here.lat + side, -90, 90) for side in (-height, height))
    rows = np.arange(int((south + 90) * UNIT) // CELL, int((north + 90) * UNIT) // CELL + 1)
    spans = [(here.lon - width, here.lon + width)]
    if width >= 180:
        spans = [(-180.0, 180.0)]
    elif spans[0][0] < -180:
        spans = [(-180.0, spans[0][1]), (spans[0][0] + 360, 180.0)]
    elif spans[0][1] > 180:
        spans = [(spans[0][0], 180.0), (-180.0, spans[0][1] - 360)]
    found = []
    for west, east in spans:
        begin = rows * ROW + int((west + 180) * UNIT) // CELL
        end = rows * ROW + int((east + 180) * UNIT) // CELL + 1
        low, high = (index.arrays["grid_cell"].searchsorted(cells) for cells in (begin, end))
        found.append(index.arrays["grid_house"][ranges(low, high - low)])
    return np.concatenate(found)
