"""One place that a reply offers."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, NamedTuple

from yellowtor.answers.geography.levels import LEVELS, Level, Method
from yellowtor.contracts.position import Area, Position

NONE: Mapping[str, str] = MappingProxyType({})


class Candidate(NamedTuple):
    """A place in a reply; `parts` may have `country_code` in addition to the parts of an address.

    The service states radius_m (the uncertainty), score (0 to 1) and partial (only a part of the question matched).
    extra are the description's own fields.
    """

    position: Position
    level: Level | None = None
    method: Method | None = None
    label: str = ""
    parts: Mapping[str, str] = NONE
    box: Area | None = None
    radius_m: float | None = None
    score: float | None = None
    partial: bool = False
    extra: Mapping[str, str] = NONE

    @property
    def reach_m(self) -> float:
        """How far from the point the place may lie, in metres: by its radius and box, and its level."""
        level = self.level.reach_m if self.level else Level.ADDRESS_AREA.reach_m
        return max(self.box.radius_m() if self.box else 0.0, self.radius_m or 0.0, level)

    def as_dict(self) -> dict[str, Any]:
        """As JSON can hold it."""
        box = self.box
        return {
            "position": {"lat": self.position.lat, "lon": self.position.lon},
            "level": self.level,
            "method": self.method,
            "label": self.label,
            "parts": dict(self.parts),
            "box": box and {"west": box.west, "south": box.south, "east": box.east, "north": box.north},
            "radius_m": self.radius_m,
            "score": self.score,
            "partial": self.partial,
            "extra": dict(self.extra),
        }

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> "Candidate":
        return cls(
            position=Position(**data["position"]),
            level=LEVELS.get(data["level"]),
            method=Method(data["method"]) if data["method"] else None,
            label=data["label"],
            parts=data["parts"],
            box=Area(**data["box"]) if data["box"] else None,
            radius_m=data["radius_m"],
            score=data["score"],
            partial=data["partial"],
            extra=data["extra"],
        )
