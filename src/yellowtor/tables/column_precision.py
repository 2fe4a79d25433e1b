"""What a column gives back of a coordinate that was written into it: types of few digits change it a little.

Without knowing that, what we wrote ourselves would be taken for somebody else's at the next look.
"""

import struct
from collections.abc import Callable, Sequence
from decimal import ROUND_HALF_UP, Decimal
from typing import NamedTuple

from yellowtor.contracts.table import AsStored

METRES = 111_320.0  # a degree of the equator
WORTH_SAYING_M = 1.0


class Coarse(NamedTuple):
    """A type that holds fewer digits than we write: what it gives back, and how far that may be off, in degrees."""

    back: Callable[[float], float]
    error: float


def of_decimals(count: int) -> Coarse:
    """A type with this number of decimals."""
    unit = Decimal(1).scaleb(-count)
    return Coarse(lambda degrees: float(Decimal(repr(degrees)).quantize(unit, ROUND_HALF_UP)), float(unit) / 2)


def as_stored(columns: Sequence[Coarse | None]) -> AsStored | None:
    """What two columns give back of a latitude and a longitude; None where just those."""
    if not any(columns):
        return None
    north, east = (column.back if column else float for column in columns)
    return lambda lat, lon: (north(lat), east(lon))


def remark(names: Sequence[str], columns: Sequence[Coarse | None]) -> str:
    """How far off coordinates are in columns of few digits; empty if that is negligible."""
    off_m = METRES * max(column.error if column else 0.0 for column in columns)
    if off_m <= WORTH_SAYING_M:
        return ""
    return f"the columns {' and '.join(names)} hold so few digits that positions in them may be {off_m:.0f} m off"


def single(value: float) -> float:
    """The nearest number of single precision (IEEE 754)."""
    return float(struct.unpack("f", struct.pack("f", value))[0])


def shortest(value: float) -> float:
    """The number of single precision, read from its shortest unique text."""
    kept = single(value)
    texts = (f"{kept:.{digits}g}" for digits in range(6, 10))
    return next(float(text) for text in texts if single(float(text)) == kept)


SINGLE = Coarse(single, 2.0**-17)  # as Arrow gives it
SHORTEST = Coarse(shortest, 2.0**-17)  # as PostgreSQL does
SIX_DIGITS = Coarse(lambda degrees: float(f"{single(degrees):.6g}"), 0.0005)  # MariaDB shows no more of it
