"""Writing files so that a reader sees the old one or the new one, never half of one."""

import filecmp
import hashlib
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from yellowtor.errors import BadSource

State = tuple[int, int] | None


@contextmanager
def written_aside(path: Path, backup: Path | None = None) -> Iterator[Path]:
    """A path in the same folder to write to; at the end it is synced and takes the place of path.

    What stood at path before is kept at backup, if one is named. Nothing is replaced by the same bytes.

    If the body raises, or the disk is full, path is as it was and nothing is left beside it. Raises
    BadSource when the folder or the file can't be written, or somebody else wrote to the file meanwhile.
    """
    aside: Path | None = None
    before = state_of(path)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        aside = path.with_name(f".{path.name}.new")  # always this name, so that one left by a kill is used up
        aside.touch()
        aside.chmod(path.stat().st_mode & 0o777 if path.exists() else 0o644)
        yield aside
        check_unwritten(path, before)
        if path.exists():
            if filecmp.cmp(aside, path, shallow=False):
                return
            if backup:
                shutil.copy2(path, backup)
                _sync(backup)
        _sync(aside)
        aside.replace(path)
        aside = None
        _sync(path.parent)
    except OSError as error:
        raise BadSource(
            f"{path} can't be written: {error.strerror or error}. It is as it was; the answers are kept in "
            "the ledger, and the next run writes them without asking again."
        ) from error
    finally:
        if aside is not None:
            with suppress(OSError):
                aside.unlink()


def fingerprint(path: Path) -> str:
    """A digest of the file's bytes: equal before and after means that nobody wrote to it."""
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "blake2b").hexdigest()
    except OSError as error:
        raise BadSource(f"{path} can't be read: {error.strerror or error}. Nothing was written.") from error


def state_of(path: Path) -> State:
    """What changes when somebody writes the file: when it was written, and its size. None where there is none."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size


def check_unwritten(path: Path, before: State) -> None:
    """Raise BadSource where somebody has written to the file since it was in this state."""
    if state_of(path) != before:
        raise BadSource(
            f"{path} was written to by another program while the answers were put in. It is as that left it; the "
            "answers are kept in the ledger, and the next run writes them without asking again."
        )


def _sync(path: Path) -> None:
    flags = os.O_RDONLY if path.is_dir() else os.O_RDWR
    try:
        handle = os.open(path, flags)
    except PermissionError:
        if path.is_dir():  # Windows opens no folder
            return
        raise
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
