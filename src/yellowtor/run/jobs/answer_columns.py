"""What goes into the columns that a job maps: made from how its records stand."""

import math
from collections.abc import Mapping, Sequence
from typing import Any

from yellowtor.addresses.line import LineTemplate
from yellowtor.answers.geography.projection import Point, Projection, ewkb
from yellowtor.answers.ledger_rows import EXTRA, NO_PARTS, Answer, Answers
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position, distance_m
from yellowtor.contracts.subject import AskedPosition
from yellowtor.run.jobs.job import Job

MATCHED = "matched_"  # begins the names of columns for the parts of the matched address
POSTAL = "postal"  # and of those for the lines of a postal address
TEXTS: dict[Outcome | None, str] = {None: "", **{outcome: outcome.value for outcome in Outcome}}


class Columns:
    """Makes the cells of one job's columns. leave is what a cell that is not to be touched is given as.

    stale counts records whose coordinates are not ours, and are those of an address that is no longer theirs.
    """

    def __init__(self, job: Job, leave: object) -> None:
        self._job = job
        self._leave = leave
        self.names = list(job.write.columns.mapped())
        self.sure = {Outcome.PLACED, Outcome.DOUBTFUL} if job.write.doubtful else {Outcome.PLACED}
        self.stale = 0
        self._parts = [name for name in self.names if name.startswith((MATCHED, EXTRA))]
        self._postal = [name for name in self.names if name.startswith(POSTAL)]
        self._lines = [LineTemplate(line) for line in job.write.postal]
        self._projection = Projection(job.write.crs) if job.write.crs else None
        made = {"parts"} if self._parts or self._postal else set()
        made |= {"address"} if "distance_m" in self.names else set()
        self.wanted = frozenset([*self.names, *made])  # what of an answer they are made from

    def make(self, answers: Answers) -> list[list[Any]]:
        """The cells of each column, for so many records."""
        by_name: dict[str, Sequence[Any]] = {
            name: answers.column(name) for name in Answer._fields if name in self.names
        }
        if "reasons" in self.names:
            by_name["reasons"] = ["; ".join(reasons) for reasons in by_name["reasons"]]
        if "outcome" in self.names:
            by_name["outcome"] = [TEXTS[outcome] for outcome in by_name["outcome"]]
        points = self._points(answers)
        by_name |= self._of_address(answers, points)
        if "geo" in self.names:
            by_name["geo"] = [f"geo:{point[0]},{point[1]}" if point else None for point in points]
        if "geometry" in self.names:
            by_name["geometry"] = [ewkb(*point) if point else None for point in points]
        if "x" in self.names:
            by_name["x"], by_name["y"] = self._projected(points)
        if "latitude" in self.names:
            cells = points
            if None in points:
                cells = [point or self._unsure(answer) for point, answer in zip(points, answers, strict=True)]
            by_name["latitude"], by_name["longitude"] = zip(*cells, strict=True)
        if "distance_m" in self.names:
            by_name["distance_m"] = [_distance(a, point) for a, point in zip(answers, points, strict=True)]
        return [list(by_name[name]) for name in self.names]

    def _points(self, answers: Answers) -> list[Point | None]:
        """Where each record is; None where that is not sure."""
        outcomes, lats, lons = map(answers.column, ("outcome", "lat", "lon"))
        if self.sure.issuperset(outcomes) and None not in lats and None not in lons:
            return list(zip(lats, lons, strict=True))
        return [
            (lat, lon) if outcome in self.sure and lat is not None and lon is not None else None
            for outcome, lat, lon in zip(outcomes, lats, lons, strict=True)
        ]

    def _of_address(self, answers: Answers, points: Sequence[Point | None]) -> dict[str, list[Any]]:
        """What is said of the address that was answered. In reverse it is the answer: only where that is sure."""
        made: dict[str, list[Any]] = {}
        only_sure = self._job.in_reverse
        if only_sure and "matched" in self.names:
            made["matched"] = [a.matched if point else None for a, point in zip(answers, points, strict=True)]
        if not self._parts and not self._postal:
            return made
        parts: list[Mapping[str, str]] = [
            a.parts if a.parts and (point or not only_sure) else NO_PARTS
            for a, point in zip(answers, points, strict=True)
        ]
        made |= {name: [p.get(name.removeprefix(MATCHED)) for p in parts] for name in self._parts}
        if self._postal:
            lines = [self._letter(p) for p in parts]
            made |= {f"postal_{at + 1}": [line[at] if at < len(line) else None for line in lines] for at in range(4)}
            made["postal"] = ["\n".join(line) or None for line in lines]
        return made

    def _letter(self, parts: Mapping[str, str]) -> list[str]:
        """The lines of a postal address; none that is empty."""
        return [line for template in self._lines if (line := template.fill(lambda name: parts.get(name, "")))]

    def _projected(self, points: Sequence[Point | None]) -> tuple[list[Any], list[Any]]:
        """Eastings and northings; None where there is no point, or none in that coordinate system."""
        assert self._projection is not None, "the job sees to it"
        there = iter(self._projection.project([point for point in points if point]))
        found = [next(there) if point else None for point in points]
        cells = [pair if pair and all(map(math.isfinite, pair)) else (None, None) for pair in found]
        return [x for x, _ in cells], [y for _, y in cells]

    def _unsure(self, answer: Answer) -> tuple[Any, Any]:
        """What goes into the coordinate columns of a record that has no point: nothing, or no change."""
        foreign = answer.held is not None and answer.held != answer.written
        self.stale += foreign and answer.outcome is Outcome.UNPLACED
        stays = (foreign or answer.outcome is Outcome.KEPT) and not self._job.write.table
        return (self._leave, self._leave) if stays else (None, None)


def _distance(answer: Answer, point: Point | None) -> float | None:
    """Metres from the point that was asked about to the place answered."""
    asked = answer.address
    if point is None or not isinstance(asked, AskedPosition) or not asked.lat:
        return None
    return round(distance_m(asked.position, Position(*point)), 1)
