"""Replacing files: a reader sees the old file or the new one, never half of one.

A symbolic link stays, and the file that it leads to is replaced. Only regular files are replaced. Mode, owner, group
and extended attributes stay as far as the system allows; check_writable() tells beforehand what can't stay.
"""

import errno
import filecmp
import hashlib
import os
import secrets
import shutil
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from datetime import datetime
from pathlib import Path

from yellowtor.errors import BadSource

State = tuple[object, ...] | None
Announce = Callable[[Path, Path], None]  # called with the final path of a new file, and its temporary one
_announce: ContextVar[Announce | None] = ContextVar("announce", default=None)
LONGEST = 180  # bytes of a file's name that names made from it begin with; file systems allow 255


@contextmanager
def written_aside(path: Path, backup: Path | None = None, like: Path | None = None) -> Iterator[Path]:
    """A new file in the same folder to write to; at the end it is synced and replaces path.

    The old file is kept at backup, if that is given. A file with equal bytes is not replaced. A new file gets the
    permissions of `like`, the file that it is made from.

    If the body raises, or the disk is full, path stays unchanged and nothing is left beside it. Raises BadSource if the
    folder or the file can't be written, or somebody else wrote to the file meanwhile.
    """
    real = real_path(path)
    aside = None
    before = state_of(real)
    try:
        check_regular(path)
        real.parent.mkdir(parents=True, exist_ok=True)
        aside = _new_beside(real, like)
        yield aside
        check_unwritten(path, before)
        if before:
            if filecmp.cmp(aside, real, shallow=False):
                return
            if backup:
                keep_copy(real, backup)
            _take_over(real, aside)
        _sync(aside)
        if announce := _announce.get():
            announce(real, aside)
        aside.replace(real)
        aside = None
        _sync(real.parent)
    except OSError as error:
        raise BadSource(
            f"{path} can't be written: {error.strerror or error}. It was not changed. The answers are kept in "
            "the ledger, and the next run writes them without asking again."
        ) from error
    finally:
        if aside is not None:
            with suppress(OSError):
                aside.unlink()


@contextmanager
def announcing(announce: Announce | None) -> Iterator[None]:
    """In the body, each new file is announced just before it takes its place."""
    token = _announce.set(announce)
    try:
        yield
    finally:
        _announce.reset(token)


def check_writable(path: Path) -> list[str]:
    """Try to make a new file beside path; remarks about attributes of path that it can't have.

    Raises BadSource if the file can't be made, or path is not a regular file.
    """
    check_regular(path)
    real = real_path(path)
    aside = None
    there = next(folder for folder in real.parents if folder.exists())
    try:
        aside = _new_beside(real if there == real.parent else there / real.name, None)
        lost = _take_over(real, aside) if real.exists() else []
        links = real.stat().st_nlink if real.exists() else 1
    except OSError as error:
        raise BadSource(f"{path} can't be written: {error.strerror or error} ({there}). Nothing was sent.") from error
    finally:
        if aside is not None:
            with suppress(OSError):
                aside.unlink()
    if links > 1:
        others = (
            "another name (hard link), which keeps"
            if links == 2
            else f"{links - 1} other names (hard links), which keep"
        )
        lost.append(f"has {others} the file as it is")
    return [f"{path} {what}" for what in lost]


def check_regular(path: Path) -> None:
    """Raise BadSource if path is not a regular file: a folder, a device, a pipe."""
    try:
        mode = real_path(path).stat().st_mode
    except FileNotFoundError:
        return
    except OSError as error:
        raise BadSource(f"{path} can't be written: {error.strerror or error}. Nothing was written.") from error
    if not stat.S_ISREG(mode):
        kind = "a folder" if stat.S_ISDIR(mode) else "a pipe" if stat.S_ISFIFO(mode) else "a device or a socket"
        raise BadSource(f"{path} is {kind}, and only regular files are written. Nothing was written.")


def real_path(path: Path) -> Path:
    """Where a file is, symbolic links followed."""
    return Path(os.path.realpath(path))


def beside(path: Path, ending: str) -> Path:
    """A hidden name in the same folder, made from a file's name."""
    name = os.fsdecode(os.fsencode(path.name)[:LONGEST])
    return path.with_name(f".{name}.{ending}")


def keep_copy(path: Path, backup: Path) -> None:
    """Keep a file, with its attributes, at a place where none is yet. Raises BadSource."""
    try:
        with announcing(None), written_aside(backup, like=path) as aside:
            shutil.copyfile(path, aside)
            _take_over(real_path(path), aside)
    except OSError as error:
        raise BadSource(f"{path} can't be kept as {backup}: {error.strerror or error}. Nothing was written.") from error


def dated(path: Path, now: datetime) -> Path:
    """A name beside path that is free, with the date in it."""
    stem, *endings = path.name.split(".")
    stamps = [f"{now:%Y-%m-%d}", f"{now:%Y-%m-%dT%H%M%S}", *(f"{now:%Y-%m-%dT%H%M%S}-{n}" for n in range(2, 100))]
    names = (path.with_name(".".join([stem, stamp, *endings])) for stamp in stamps)
    return next((name for name in names if not name.exists()), path.with_name(f"{path.name}.{now.timestamp()}"))


def remove_left_over(path: Path) -> None:
    """Remove what runs that were killed have left beside path. Only the holder of the lock of path may."""
    real = real_path(path)
    start = beside(real, "yellowtor-").name
    with suppress(OSError), os.scandir(real.parent) as entries:
        for entry in entries:
            if entry.name.startswith(start) and entry.name.endswith(".new") and entry.is_file(follow_symlinks=False):
                with suppress(OSError):
                    Path(entry.path).unlink()


def fingerprint(path: Path) -> str:
    """A digest of the file's bytes."""
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "blake2b").hexdigest()
    except OSError as error:
        raise BadSource(f"{path} can't be read: {error.strerror or error}. Nothing was written.") from error


def state_of(path: Path) -> State:
    """What changes when somebody writes the file: which one it is, when it was written, its size. None without one."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_ino, found.st_mtime_ns, found.st_size


def check_unwritten(path: Path, before: State) -> None:
    """Raise BadSource where somebody has written to the file since it was in this state."""
    if state_of(path) != before:
        raise BadSource(
            f"{path} was changed by another program while the answers were written. That change was kept; the "
            "answers are kept in the ledger, and the next run writes them without asking again."
        )


def _new_beside(real: Path, like: Path | None) -> Path:
    """A new file beside this one, with a random name; existing files and links are never opened."""
    mode = 0o666
    with suppress(OSError):
        mode &= real.stat().st_mode if real.exists() else like.stat().st_mode if like else 0o666
    aside = beside(real, f"yellowtor-{secrets.token_hex(8)}.new")
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0)
    os.close(os.open(aside, flags, mode | 0o600))
    return aside


def _take_over(real: Path, aside: Path) -> list[str]:
    """Give a new file the owner, group, mode and extended attributes of the one that it replaces; what it can't get."""
    found = real.stat()
    lost = list[str]()
    if hasattr(os, "chown"):
        for what, uid, gid in (("owner", found.st_uid, -1), ("group", -1, found.st_gid)):
            try:
                os.chown(aside, uid, gid)
            except OSError:
                lost.append(f"can't keep its {what}: only an administrator may give files to others")
    if hasattr(os, "listxattr"):
        lost += _take_over_attributes(real, aside)
    mode = stat.S_IMODE(found.st_mode)
    if lost:  # what was for the owner or the group must not be for others
        mode &= 0o777
    aside.chmod(mode)
    return lost


def _take_over_attributes(real: Path, aside: Path) -> list[str]:
    try:
        names = os.listxattr(real)
    except OSError:
        return []
    lost = []
    for name in names:
        try:
            os.setxattr(aside, name, os.getxattr(real, name))
        except OSError as error:
            if error.errno not in {errno.ENODATA, errno.ENOTSUP} or name.startswith("user."):
                lost.append(f"can't keep its attribute {name}")
    return lost


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
