"""The file with the answers of one file of a folder, and its entry in the manifest.

They are on this machine, or on another one.
"""

import hashlib
import json
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path, PurePosixPath
from tempfile import TemporaryDirectory
from typing import Any, Protocol

from yellowtor.contracts.table import AnyFile, Piece, RemoteFile
from yellowtor.errors import BadSource
from yellowtor.filelocks import locked
from yellowtor.files import announcing, fingerprint, written_aside
from yellowtor.run.phases.edit_detection import edited_files, keep_edited, noting
from yellowtor.run.ports import WrittenBook

Remark = Callable[[str], None]
Dated = Callable[[Path], Path] | None


class AnswerFile(Protocol):
    """The file with the answers; name is its path or URL. Its methods raise BadSource."""

    name: str

    def is_there(self) -> bool: ...
    def is_edited(self) -> bool:
        """Whether it is there, and not as a run wrote it."""

    def writing(self, dated: Dated, remark: Remark) -> AbstractContextManager[Path]:
        """A file of this machine to write to. At the end the answers are in place, whole.

        One that somebody has edited is kept beside itself, dated.
        """

    def sha256(self) -> str:
        """The digest of what was written."""


class LocalAnswers:
    """On this machine, where its lock holds off other runs."""

    def __init__(self, to: Path, ours: WrittenBook) -> None:
        self.name = str(to)
        self._to = to
        self._ours = ours

    def is_there(self) -> bool:
        return self._to.is_file()

    def is_edited(self) -> bool:
        return bool(edited_files([self._to], self._ours))

    @contextmanager
    def writing(self, dated: Dated, remark: Remark) -> Iterator[Path]:
        with locked([self._to], remark), announcing(noting(self._ours)):
            if dated:
                aside = lambda path: dated(hidden(path))  # noqa: E731
                for said in keep_edited(edited_files([self._to], self._ours), aside):
                    remark(said)
            yield self._to

    def sha256(self) -> str:
        return _sha256(self._to)


class RemoteAnswers:
    """On another machine: written into a folder of this one, then sent there."""

    def __init__(self, to: RemoteFile, ours: WrittenBook) -> None:
        self.name = to.name
        self._to = to
        self._ours = ours
        self._sha256 = ""

    def is_there(self) -> bool:
        return bool(self._to.state())

    def is_edited(self) -> bool:
        state = self._to.state()
        return bool(state) and not self._ours.is_ours(self.name, state, self._to.fingerprint)

    @contextmanager
    def writing(self, dated: Dated, remark: Remark) -> Iterator[Path]:
        if dated and self.is_edited():
            kept = self._to.keep(dated(hidden(Path(self.name))).name).name
            remark(f"{self.name} was changed by somebody else since it was written: it is kept as {kept}")
        with TemporaryDirectory(prefix="yellowtor-") as folder:
            local = Path(folder) / PurePosixPath(self.name).name
            with announcing(None):
                yield local
            digest = fingerprint(local)
            self._sha256 = _sha256(local)
            self._ours.note(self.name, "", digest)  # first, because a run may be killed while it sends
            self._to.put(local)
            self._ours.note(self.name, self._to.state(), digest)

    def sha256(self) -> str:
        return self._sha256


def hidden(path: Path) -> Path:
    """A name that those who read the folder pass over."""
    return path.with_name(f"_{path.name}")


def answers_of(piece: Piece, ours: WrittenBook) -> AnswerFile:
    """The file for the answers of a file of the source."""
    return LocalAnswers(piece.to, ours) if isinstance(piece.to, Path) else RemoteAnswers(piece.to, ours)


def read_entry(entry: AnyFile) -> Mapping[str, Any]:
    """What the manifest says of a file; nothing where it has no entry that can be read."""
    try:
        found = json.loads(entry.read_bytes() if isinstance(entry, Path) else entry.read())
    except (OSError, ValueError, BadSource):
        return {}
    return found if isinstance(found, dict) and isinstance(found.get("result"), dict) else {}


def write_entry(entry: AnyFile, state: Mapping[str, Any]) -> None:
    """Write what the manifest says of a file. Raises BadSource."""
    text = json.dumps(state, indent=2) + "\n"
    if isinstance(entry, Path):
        with written_aside(entry) as aside:
            aside.write_text(text)
        return
    with TemporaryDirectory(prefix="yellowtor-") as folder:
        local = Path(folder) / "entry.json"
        local.write_text(text)
        entry.put(local)


def _sha256(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
