"""One place that a reply offers."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from yellowtor.answers.levels import LEVELS, Level, Method
from yellowtor.answers.position import Area, Position


@dataclass(frozen=True, slots=True)
class Candidate:
    """A place as a service gave it, in our words; `parts` may hold `country_code` beside an address's parts."""

    position: Position
    level: Level | None = None
    method: Method | None = None
    label: str = ""
    parts: Mapping[str, str] = field(default_factory=dict)
    box: Area | None = None

    @property
    def reach_m(self) -> float:
        """How far from the point the place may lie, in metres: of its box, else of its level."""
        level = self.level.reach_m if self.level else Level.ADDRESS_AREA.reach_m
        return max(self.box.radius_m(), level) if self.box else level

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
        )
