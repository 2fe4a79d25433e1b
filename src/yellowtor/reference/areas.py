"""The areas of places: which of them contain a position."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from yellowtor.contracts.position import Position

if TYPE_CHECKING:
    from yellowtor.reference.index import ReferenceIndex


def area_arrays(areas: Sequence[tuple[int, str]]) -> dict[str, NDArray[Any]]:
    """The areas (well-known binary in hexadecimal, degrees) of places by their numbers, with their boxes."""
    import shapely

    shapes = [shapely.from_wkb(text) for _, text in areas]
    outlines = [shapely.to_wkb(shape) for shape in shapes]
    return {
        "area_place": np.array([place for place, _ in areas], np.int32),
        "area_box": np.array([shape.bounds for shape in shapes], np.float64).reshape(-1, 4),
        "area_outlines": np.frombuffer(b"".join(outlines), np.uint8),
        "area_starts": np.concatenate([[0], np.cumsum([len(one) for one in outlines])]).astype(np.int64),
    }


def containing(index: "ReferenceIndex", here: Position) -> list[int]:
    """The places whose areas contain the position, the smallest box first."""
    box = index.arrays["area_box"]
    if not len(box):
        return []
    import shapely

    west, south, east, north = box.T
    inside = np.flatnonzero((west <= here.lon) & (here.lon <= east) & (south <= here.lat) & (here.lat <= north))
    sizes = (east - west)[inside] * (north - south)[inside]
    point = shapely.Point(here.lon, here.lat)
    starts = index.arrays["area_starts"]
    outlines = index.arrays["area_outlines"]
    return [
        index.arrays["area_place"].item(at)
        for at in inside[np.argsort(sizes, kind="stable")].tolist()
        if shapely.from_wkb(outlines[starts[at] : starts[at + 1]].tobytes()).covers(point)
    ]
