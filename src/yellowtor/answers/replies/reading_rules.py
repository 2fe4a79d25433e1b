"""The reply section of a description, compiled: how replies are read."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.replies.formats.json_format import JsonFormat
from yellowtor.answers.replies.formats.reply_format import ReplyFormat
from yellowtor.answers.replies.json_paths import Fields, Finder, Getter, Holder
from yellowtor.answers.replies.kind_rules import Rule

JSON = JsonFormat()
UNKNOWN = (None, None)  # level and method


@dataclass(frozen=True, slots=True)
class Reading:
    """How a service's replies are read: compiled rules, paths and its words for levels.

    holder tells whether the list that the candidates are in is there; listed is the path to them, for messages.

    A position is in two fields, or is one (an array, or a text), its longitude first if lon_first. to_degrees turns
    a position in another coordinate system (epsg) into degrees (latitude, longitude). scale is how many units of a
    plain number make one degree, or one unit of that system. score is (worst, best).
    """

    rules: Sequence[Rule]
    candidates: Finder
    holder: Holder = lambda _: False
    listed: str = ""
    latitude: Getter | None = None
    longitude: Getter | None = None
    parts: Fields = lambda _: {}  # of an address, and level, label, score, partial, radius
    box: Sequence[Getter] = ()  # west, south, east, north; or one path to the four
    message: Finder | None = None
    levels: Mapping[str, tuple[Level, Method | None]] = field(default_factory=dict)
    level: tuple[Level | None, Method | None] = UNKNOWN  # of a candidate that does not say its own
    format: ReplyFormat = JSON
    position: Getter | None = None
    lon_first: bool = False
    decimal: str = "."
    scale: float = 1.0
    epsg: int | None = None
    to_degrees: Callable[[float, float], tuple[float, float]] | None = None
    score: tuple[float, float] = (0.0, 1.0)
    partial: frozenset[str] = frozenset()
    own: Fields | None = None  # fields that the description adds
    splits: Sequence[tuple[Getter, Any]] = ()  # texts, and the expressions whose named groups are parts
    looks: Mapping[str, Getter] = field(default_factory=dict)  # the way to each field, by its name
