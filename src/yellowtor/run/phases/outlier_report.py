"""Finds kept records whose coordinates are far from all others: they may be swapped or wrong."""

from collections.abc import Sequence
from dataclasses import dataclass

from yellowtor.answers.geography.outliers import Cluster, area_of, cluster_of
from yellowtor.contracts.position import Position, distance_m
from yellowtor.run.phases.row_reader import shown_key
from yellowtor.run.ports import JudgeBook

SAMPLE = 2_000  # positions that tell where the records lie
NAMED = 5


@dataclass(frozen=True)
class Far:
    """A kept record far from the others: its key, metres from their middle, whether it would be near if swapped."""

    key: str
    distance_m: float
    is_swapped: bool


def find_far(book: JudgeBook) -> tuple[list[Far], str]:
    """The kept records far from the others, and a remark about them; both empty if there are none."""
    sample = book.some_positions(SAMPLE)
    cluster = cluster_of(sample)
    far = [] if cluster is None else _far(book, cluster)
    return far, _remark(far, sample) if far else ""


def _far(book: JudgeBook, cluster: Cluster) -> list[Far]:
    found = []
    for page in book.kept_positions():
        for key, position in page:
            if cluster.is_far(position):
                distance = distance_m(cluster.middle, position)
                found.append(Far(shown_key(key), distance, cluster.holds_swapped(position)))
    return found


def _remark(far: Sequence[Far], sample: Sequence[Position]) -> str:
    named = ", ".join(
        f"{one.key} {one.distance_m / 1000:,.0f} km{' (not if latitude and longitude were swapped)' * one.is_swapped}"
        for one in far[:NAMED]
    )
    more = " …" if len(far) > NAMED else ""
    count = "1 kept record lies" if len(far) == 1 else f"{len(far):,} kept records lie"
    area = area_of(sample)
    box = f" With judge.area = {[round(end, 1) for end in area]} they would be listed as outside it." if area else ""
    return f"{count} far from all the others: {named}{more}.{box}"
