"""One writer at a time for each file that runs write.

The lock is a file beside the written one, with the machine and the process that hold it. The system frees it when the
process ends in any way. On one machine the second writer waits. A network drive may hide the lock of another machine:
there the name in the file tells, and the second writer stops.
"""

import errno
import json
import os
import platform
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from yellowtor.errors import BadSource, Busy
from yellowtor.files import beside, real_path, remove_left_over

PAUSE_S = 0.05
UNSUPPORTED = {errno.ENOLCK, errno.EOPNOTSUPP, errno.ENOSYS, errno.EINVAL}
Waiting = Callable[[str], None]  # called once, with what the run waits for


@contextmanager
def locked(paths: Iterable[Path], waiting: Waiting) -> Iterator[None]:
    """Lock these files. Raises Busy if another machine has one, BadSource if one can't be locked."""
    with ExitStack() as stack:
        for real in sorted({real_path(path) for path in paths}):  # all in one order, so that none waits in a circle
            stack.enter_context(_locked(real, waiting))
            remove_left_over(real)
        yield


def check_free(path: Path) -> None:
    """Raise Busy where another machine is writing this file."""
    with suppress(OSError), _lock_file(real_path(path)).open("rb") as file:
        _check_machine(real_path(path), file.read(1000))


@contextmanager
def _locked(real: Path, waiting: Waiting) -> Iterator[None]:
    path = _lock_file(real)
    waiting_shown = False
    try:
        real.parent.mkdir(parents=True, exist_ok=True)
        while (handle := _taken(path)) is None:
            with suppress(OSError):
                _check_machine(real, path.read_bytes())
            if not waiting_shown:
                waiting(f"waiting for another run that writes {real}")
                waiting_shown = True
            time.sleep(PAUSE_S)
    except OSError as error:
        raise BadSource(
            f"{real} can't be written: {error.strerror or error}. It was not changed. The answers are kept in the "
            "ledger, and the next run writes them without asking again."
        ) from error
    try:
        _check_machine(real, _content(handle))
        note = {"host": platform.node(), "process": os.getpid(), "since": time.strftime("%Y-%m-%dT%H:%M:%S%z")}
        with suppress(OSError):  # of another user, who let us lock it
            os.ftruncate(handle, 0)
            os.lseek(handle, 0, os.SEEK_SET)
            os.write(handle, json.dumps(note).encode())
        yield
    finally:
        with suppress(OSError):
            path.unlink()
        os.close(handle)


def _taken(path: Path) -> int | None:
    """An open lock file with our lock; None while another process has it."""
    if sys.platform == "win32":  # there a file can be one that only one process opens, and that ends with it
        try:
            return os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR | os.O_TEMPORARY)
        except (FileExistsError, PermissionError):
            return None
    import fcntl

    flags = os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
    try:
        handle = os.open(path, flags | os.O_RDWR, 0o666)
    except PermissionError:  # another user made it: it can be locked without writing to it
        handle = os.open(path, flags & ~os.O_CREAT | os.O_RDONLY)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        if error.errno not in UNSUPPORTED or _is_running(_content(handle)):
            os.close(handle)
            if error.errno in {errno.EWOULDBLOCK, errno.EACCES, *UNSUPPORTED}:
                return None
            raise
    here = os.fstat(handle)
    with suppress(FileNotFoundError):
        there = path.stat(follow_symlinks=False)
        if (there.st_dev, there.st_ino) == (here.st_dev, here.st_ino):
            return handle
    os.close(handle)  # its holder has removed it meanwhile
    return None


def _content(handle: int) -> bytes:
    os.lseek(handle, 0, os.SEEK_SET)
    return os.read(handle, 1000)


def _is_running(content: bytes) -> bool:
    """Whether a lock file, on a drive that knows no locks, is that of another process here which has not ended."""
    try:
        process = int(json.loads(content)["process"])
        os.kill(process, 0)
    except (ValueError, KeyError, TypeError, ProcessLookupError, OverflowError):
        return False
    except PermissionError:
        return True
    return process != os.getpid()


def _check_machine(real: Path, content: bytes) -> None:
    """Raise Busy where a lock file says that it is another machine's."""
    try:
        note = json.loads(content)
        host, process, since = (str(note[name]) for name in ("host", "process", "since"))
    except (ValueError, KeyError, TypeError):
        return
    if host != platform.node():
        raise Busy(
            f"{real} is being written by another machine ({host}, process {process}, since {since}). Unchanged; "
            "the answers are kept in the ledger. Run the job again when that run has ended. If it was killed, delete "
            f"{_lock_file(real)} first."
        )


def _lock_file(real: Path) -> Path:
    return beside(real, "yellowtor-lock")
