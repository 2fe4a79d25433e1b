"""What all tables in files have in common."""

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from pathlib import Path

from yellowtor.answers.work import Kept
from yellowtor.errors import BadSource
from yellowtor.files import fingerprint
from yellowtor.tables.cells import Answering, AsHeld, Row, unheard


class FileTable(ABC):
    """Records in a file. The header names the columns of each row; `name` is what messages call the file.

    A file knows no key of its own, and holds its numbers with a decimal point unless it says otherwise.
    """

    endings: frozenset[str] = frozenset()  # that a copy may have; none: any
    keys: Sequence[str] = ()
    into = ""
    decimal = "."
    header: list[str]
    as_held: AsHeld | None = None

    def __init__(self, path: Path, backup: Path | None = None, name: str = "") -> None:
        self.path, self.backup, self.name = path, backup, name or str(path)
        self.remarks: list[str] = []

    @abstractmethod
    def batches(self) -> Iterator[Sequence[Row]]:
        """The records as rows of texts, some thousands at a time. Raises BadSource."""

    @abstractmethod
    def rewrite(self, to: Path | None, columns: Sequence[str], answering: Answering, kept: Kept = unheard) -> None:
        """Write a copy to `to` (or over itself) in which these columns hold what answering gives; then call kept."""

    def fingerprint(self) -> str:
        return fingerprint(self.path)

    def check_target(self, to: Path | None) -> str:
        """Raise BadSource when `to` can't be written now; give back a remark about it, or nothing."""
        if to and self.endings and to.suffix.lower() not in self.endings:
            raise BadSource(
                f"write.to = {to.name!r}: a copy of {self.path.name} ends in {' or '.join(sorted(self.endings))}. "
                "Nothing was sent."
            )
        return ""
