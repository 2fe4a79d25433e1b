"""Every way Yellowtor can end badly, in one tree.

    YellowtorError            1   an unexpected fault
    ├── BadJob                3   a job or a service description is wrong
    ├── BadSource             4   a table can't be read, or a target can't be written
    ├── KeyRefused            5   the service refuses the key, or none is set
    ├── Unconfirmed          10   a run may cost more than the job allows without consent
    ├── LedgerTrouble         8   the ledger can't be opened or written
    └── Busy                  9   another run works on this job, or writes one of its files

Each class has its exit code. A message gives the value, the rule, the fix, and what was or was not saved. Exceptions of
libraries become one of these in the package that uses the library.
"""

import re
from enum import IntEnum
from typing import Self

TWO_ENDS = re.compile(r"(?<=\w)\.\.(?= [A-Z]|$)")  # where a library's sentence is within one of ours


class Exit(IntEnum):
    """What a command's exit code means; docs/outcomes.md is made from these sentences."""

    meaning: str

    def __new__(cls, code: int, meaning: str) -> Self:
        member = int.__new__(cls, code)
        member._value_ = code
        member.meaning = meaning
        return member

    ENDED = 0, "The run ended normally, with or without doubtful records."
    FAULT = 1, "An unexpected fault. `--debug` shows where."
    USAGE = 2, "The command line is wrong."
    BAD_JOB = 3, "A job or a service description is wrong. Nothing was sent, nothing written."
    BAD_SOURCE = 4, "A table could not be read, a target not written, or a database refused some records."
    KEY_REFUSED = 5, "A key is missing, or the service refused it. Earlier answers are written."
    WAITING = (
        6,
        "Records are waiting: a quota is spent, no reply came, or `--at-most` is reached. Run the job again.",
    )
    DOUBTFUL = 7, "Only with `--strict`: the run ended, and some records are doubtful, unplaced or failed."
    LEDGER = 8, "The ledger could not be opened or written."
    BUSY = 9, "Another run works on this job, or another machine writes one of its files."
    UNCONFIRMED = 10, "The run may cost more than `ask.confirm_above`. Nothing was sent."
    INTERRUPTED = 130, "Stopped by a signal. The answers so far are written; the next run continues."


class YellowtorError(Exception):
    """Anything that Yellowtor knows how to explain."""

    exit_code: Exit = Exit.FAULT

    def __init__(self, message: str) -> None:
        super().__init__(TWO_ENDS.sub(".", message))


class BadJob(YellowtorError):
    """Raised when a job, a description or one of their variables breaks a rule."""

    exit_code = Exit.BAD_JOB


class BadSource(YellowtorError):
    """Raised when a table can't be read as it should be, or a target can't be written."""

    exit_code = Exit.BAD_SOURCE


class KeyRefused(YellowtorError):
    """Raised when a credential is missing or a service refuses it."""

    exit_code = Exit.KEY_REFUSED


class Unconfirmed(YellowtorError):
    """Raised when a run may cost more than the job allows, without consent."""

    exit_code = Exit.UNCONFIRMED


class LedgerTrouble(YellowtorError):
    """Raised when the ledger can't be opened, read or written."""

    exit_code = Exit.LEDGER


class Busy(YellowtorError):
    """Raised when a second run is started on a job that is being run, or a file is being written by another machine."""

    exit_code = Exit.BUSY
