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

    PLACED = "placed", "A point (in reverse: an address) whose confidence is high enough for the job."
    KEPT = "kept", "The record had coordinates of its own and its address has not changed; nothing was asked."
    DOUBTFUL = "doubtful", "An answer that a person should check: the reasons say why."
    UNPLACED = "unplaced", "The services do not know the address, or confirm only what the job fixed."
    INCOMPLETE = "incomplete", "A part that the job needs is missing or invalid; nothing was asked."
    FAILED = "failed", "No usable reply after all tries; `--again failed` asks again."
    WAITING = "waiting", "No reply yet: the quota is spent, no reply came, or the run was stopped."
