"""What a job accepts."""

from dataclasses import dataclass

from yellowtor.addresses.keys import digest
from yellowtor.answers.geography.levels import Level
from yellowtor.contracts.position import Area


@dataclass(frozen=True, slots=True)
class Calibration:
    """How a person's decisions correct the log-odds of a service: slope times the log-odds plus shift.

    decisions is their number.
    """

    slope: float
    shift: float
    decisions: int


@dataclass(frozen=True, slots=True)
class Thresholds:
    """What a job accepts: tolerance in metres, the confidence from which a point is placed, its area.

    level is the coarsest that is accepted (None: the finest part asked); must_agree are the parts that no placed answer
    contradicts.
    """

    tolerance_m: float
    place_at: float
    area: Area | None = None
    level: Level | None = None
    must_agree: tuple[str, ...] = ("country", "number")
    calibration: Calibration | None = None

    def key(self) -> str:
        """The digest of all of it."""
        return digest(repr(self))
