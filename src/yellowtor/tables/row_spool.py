"""Pages of rows as they were read, kept in a temporary file without a name until they are needed again."""

import marshal
import pickle
import tempfile
import weakref
from collections.abc import Iterator, Sequence
from typing import Any

Page = Sequence[Sequence[Any]]  # column by column
FAST = b"m"
ANY = b"p"  # how a page is kept
PLAIN = 2  # of marshal's formats the one that does not look whether it met a text before


class Spool:
    """Pages in the order in which they were added. Raises OSError when the disk is full."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile(prefix="yellowtor-")  # noqa: SIM115 - goes with us
        weakref.finalize(self, self._file.close)

    def add(self, page: Page) -> None:
        """Keep a page as it was read."""
        fast: Any = page
        try:
            content = FAST + marshal.dumps(fast, PLAIN)  # texts and numbers
        except ValueError:
            content = ANY + pickle.dumps(page, pickle.HIGHEST_PROTOCOL)
        self._file.write(len(content).to_bytes(8, "big") + content)

    def pages(self) -> Iterator[Page]:
        """All of them, from the first on."""
        self._file.seek(0)
        while length := self._file.read(8):
            how = self._file.read(1)
            content = self._file.read(int.from_bytes(length, "big") - 1)
            yield marshal.loads(content) if how == FAST else pickle.loads(content)  # noqa: S301, S302 - only we write it
