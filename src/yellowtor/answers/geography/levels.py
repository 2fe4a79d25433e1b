"""How fine a position is, in the terms of INSPIRE's data specification on addresses (D2.8.I.5),
code list GeometrySpecificationValue, with a rank and the reach that we assume when a reply gives none.
"""

from enum import StrEnum
from typing import Self


class Level(StrEnum):
    """What the point of a candidate represents, with its rank: 1 is the finest."""

    reach_m: float
    rank: int

    def __new__(cls, name: str, reach_m: float) -> Self:
        member = str.__new__(cls, name)
        member._value_ = name
        member.reach_m = reach_m
        member.rank = len(cls.__members__) + 1
        return member

    ENTRANCE = "entrance", 5.0
    BUILDING = "building", 12.0
    PARCEL = "parcel", 25.0
    THOROUGHFARE_ACCESS = "thoroughfare access", 25.0
    SEGMENT = "segment", 250.0
    POSTAL_DESCRIPTOR = "postal descriptor", 600.0
    ADDRESS_AREA = "address area", 1_500.0
    ADMIN_UNIT_6 = "admin unit 6th order", 3_000.0
    ADMIN_UNIT_5 = "admin unit 5th order", 5_000.0
    ADMIN_UNIT_4 = "admin unit 4th order", 10_000.0
    ADMIN_UNIT_3 = "admin unit 3rd order", 25_000.0
    ADMIN_UNIT_2 = "admin unit 2nd order", 75_000.0
    ADMIN_UNIT_1 = "admin unit 1st order", 250_000.0


LEVELS = {level.value: level for level in Level}


class Method(StrEnum):
    """How the point was come by."""

    SURVEYED = "surveyed"
    INTERPOLATED = "interpolated"
    CENTRE = "centre"
