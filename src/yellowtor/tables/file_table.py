"""What all tables in files have in common."""

import stat
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yellowtor.contracts.table import Answering, OnWritten, Row
from yellowtor.errors import BadSource
from yellowtor.files import State, check_writable, fingerprint, state_of
from yellowtor.tables.cells import ignore_written
from yellowtor.tables.stated_dialect import StatedDialect


@dataclass(frozen=True)
class FileOptions:
    """What a job says about its file; each format uses what concerns it.

    backup is where a file is kept before it is changed in place; answers are the columns that will be written, each
    with its part of the answer.
    """

    backup: Path | None = None
    answers: Mapping[str, str] = field(default_factory=dict)
    dialect: StatedDialect = field(default_factory=StatedDialect)
    sheet: str | None = None
    block: str | None = None
    table: str | None = None


class FileTable(ABC):
    """Records in a file. The header names the columns; `name` is the file's name in messages.

    A file has no key of its own, and a decimal point unless a subclass says otherwise. `state` is the state of the file
    when its header was read.
    """

    endings: frozenset[str]  # that the name of a copy may have
    keys: Sequence[str] = ()
    decimal = "."
    header: list[str]
    exact_keys = False  # blanks around a key mean nothing in a file
    is_chosen_from = False  # not every row is a record
    writes_in_order = True  # rows are answered as they are read

    def __init__(self, path: Path, backup: Path | None = None, name: str = "") -> None:
        self.path = path
        self.backup = backup
        self.name = name or str(path)
        self.state = self._state()
        self.remarks: list[str] = []

    @abstractmethod
    def _open(self) -> None:
        """Read the header, and what else is to be known before the records are read. Raises BadSource."""

    def refresh(self) -> bool:
        """Read the header anew if somebody has written to the file since; whether that is so. Raises BadSource."""
        if (state := self._state()) == self.state:
            return False
        self.state = state
        self._open()
        return True

    def _state(self) -> State:
        """What changes when somebody writes the file."""
        return state_of(self.path)

    @abstractmethod
    def batches(self) -> Iterator[Sequence[Row]]:
        """The records as rows of texts, some thousands at a time. Raises BadSource."""

    @abstractmethod
    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """Write a copy to `to` (or over itself) in which these columns hold what answering gives; then call on_written.

        Raises BadSource where somebody has written to the file since its header was read.
        """

    def fingerprint(self) -> str:
        return fingerprint(self.path)

    def check_target(self, to: Path | None) -> list[str]:
        """Raise BadSource when `to` can't be written now; give back remarks about it."""
        if to and not to.name.lower().endswith(tuple(self.endings)):
            raise BadSource(
                f"write.to = {to.name!r}: a copy of {self.path.name} ends in {' or '.join(sorted(self.endings))}. "
                "Nothing was sent."
            )
        return check_writable(to or self.path)


def check_readable(path: Path, name: str) -> None:
    """Raise BadSource where a file is none that can be read more than once: a pipe, a device, a folder."""
    found = path.stat()
    if not stat.S_ISREG(found.st_mode):
        pipe = stat.S_ISFIFO(found.st_mode)
        hint = 'say file = "-" and pipe the records in' if pipe else "only regular files are read"
        kind = "a pipe" if pipe else "a folder" if stat.S_ISDIR(found.st_mode) else "a device or a socket"
        raise BadSource(f"{name} is {kind}: {hint}. Nothing was sent.")
