"""Rows of a reference table grouped: the houses of each street, and for each street its middle and its extent.

A street is a name in a town, a region and a country. Namesakes in one town are several streets if they are apart: the
cells of a grid (about 2 km) that touch are connected components.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowtor.contracts.position import EARTH_RADIUS_M
from yellowtor.reference.csr import run_starts

CELL_DEGREES = 0.02
UNIT = 1e7  # positions are kept in this part of a degree, 11 mm, in 32 bits
METRES = np.pi / 180 * EARTH_RADIUS_M  # of a degree of latitude
SAME_M = 1.0  # equal addresses so near are one
Ints = NDArray[Any]
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class StreetGroups:
    """order sorts the rows by street and number; starts has the first place of each street in it, and the end.

    middle is the row of each street that is nearest to the mean of its houses; reach_m half the diagonal of their box.
    """

    order: Ints
    starts: Ints
    middle: Ints
    reach_m: Floats


def group_streets(names: list[Ints], numbers: list[Ints], lat: Floats, lon: Floats) -> StreetGroups:
    """Group rows by names (of country, region, town, street), then by place; sort by numbers inside a group."""
    if not len(lat):
        empty = np.zeros(0, np.int64)
        return StreetGroups(empty, np.zeros(1, np.int64), empty, np.zeros(0))
    group = _numbered(names)
    group = _apart(group, lat, lon)
    order = np.lexsort((*reversed(numbers), group))
    starts = run_starts(group[order])
    ends = np.append(starts, len(order))
    middle, reach = middles(order, ends, lat, lon)
    return StreetGroups(order, ends, middle, reach)


def _numbered(names: list[Ints]) -> Ints:
    """The rank of each row's names among all that are different."""
    order = np.lexsort(tuple(reversed(names)))
    changed = np.zeros(len(order), bool)
    for name in names:
        own = name[order]
        changed[1:] |= own[1:] != own[:-1]
    ranks = np.empty(len(order), np.int64)
    ranks[order] = np.cumsum(changed)
    return ranks


def _apart(group: Ints, lat: Floats, lon: Floats) -> Ints:
    """The groups, those apart whose cells do not touch: numbered in the same order."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    y = np.floor(lat / CELL_DEGREES).astype(np.int64) + 10_000
    x = np.floor(lon * np.cos(np.radians(np.round(lat))) / CELL_DEGREES).astype(np.int64) + 10_000
    cell = (group << 30) + (y << 15) + x
    nodes, node = np.unique(cell, return_inverse=True)
    pairs = []
    for step in (1, (1 << 15) - 1, 1 << 15, (1 << 15) + 1):
        at = np.minimum(np.searchsorted(nodes, nodes + step), len(nodes) - 1)
        touching = np.flatnonzero(nodes[at] == nodes + step)
        pairs.append((touching, at[touching]))
    ones, others = (np.concatenate(side) for side in zip(*pairs, strict=True))
    graph = coo_matrix((np.ones(len(ones), bool), (ones, others)), shape=(len(nodes), len(nodes)))
    _, component = connected_components(graph, directed=False)
    return _numbered([group, component[node]])


def middles(order: Ints, ends: Ints, lat: Floats, lon: Floats) -> tuple[Ints, Floats]:
    """For each run of rows, the row nearest to their mean, and half the diagonal of their box in metres."""
    starts = ends[:-1]
    counts = np.diff(ends)
    y, x = lat[order], lon[order]
    mean_y = np.add.reduceat(y, starts) / counts
    mean_x = np.add.reduceat(x, starts) / counts
    off = (y - np.repeat(mean_y, counts)) ** 2 + ((x - np.repeat(mean_x, counts)) * np.cos(np.radians(y))) ** 2
    run = np.repeat(np.arange(len(starts)), counts)
    nearest = np.lexsort((off, run))[starts]
    height = np.maximum.reduceat(y, starts) - np.minimum.reduceat(y, starts)
    width = (np.maximum.reduceat(x, starts) - np.minimum.reduceat(x, starts)) * np.cos(np.radians(mean_y))
    return order[nearest], np.hypot(height, width) / 2 * METRES
