"""How a record ends. Each record ends with exactly one outcome."""

from enum import StrEnum
from typing import Self

Reason = str  # one sentence that explains an outcome or a confidence


class Outcome(StrEnum):
    """How a record ended, in the order in which reports list them."""

    meaning: str

    def __new__(cls, name: str, meaning: str) -> Self:
        member = str.__new__(cls, name)
        member._value_ = name
        member.meaning = meaning
        return member

    PLACED = "placed", "A point (in reverse: an address) with enough confidence."
    KEPT = "kept", "Had its own coordinates, address unchanged; not asked."
    DOUBTFUL = "doubtful", "An answer to check by a person; the reasons say why."
    UNPLACED = "unplaced", "The services do not know it, or confirm only fixed parts."
    INCOMPLETE = "incomplete", "A needed part is missing or invalid; not asked."
    FAILED = "failed", "No usable reply after all tries; `--again failed` asks again."
    WAITING = "waiting", "No reply yet: quota spent, no reply came, or run stopped."
