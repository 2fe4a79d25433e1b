"""What a file of `review` has beside its addresses, and how it names its columns."""

from collections.abc import Sequence
from typing import NamedTuple

ID = "id"
NEW = "new "  # begins the columns of a corrected address
AT = " at"  # ends the columns with the coordinates of the candidates
ALL = "all "  # begins a decision for the whole group
LETTERS = "abcde"
CHOICES = (
    *LETTERS,
    *(f"{ALL}{letter}" for letter in LETTERS[:3]),
    "nothing",
    "all nothing",
    "place",
    "address",
    "skip",
)


class ReviewHead(NamedTuple):
    """Its title, the parts that an address has, the credit of the services, and how many addresses there are."""

    title: str
    parts: Sequence[str]
    credit: str
    questions: int
    records: int
    tolerance_m: float
