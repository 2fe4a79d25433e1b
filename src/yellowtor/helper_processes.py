"""Other processes of this program that take part of a run's work, so that it uses all cores.

A helper is a module of ours that is started anew (python -m …), not a copy of the calling process: a script of a user
that calls the Python API is not run once more. Each message is its length (8 bytes) and its bytes.
"""

import os
import signal
import subprocess
import sys
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO

LENGTH = 8  # bytes of the number before a message
CORES = "YELLOWTOR_CORES"  # how many a run may use, where others use the rest


def cores() -> int:
    """How many cores this process may use, with its helpers."""
    stated = os.environ.get(CORES, "")
    return int(stated) if stated.isdigit() and int(stated) else os.cpu_count() or 1


class HelperGone(Exception):
    """Raised when a helper was ended from outside."""


class HelperProcess:
    """One helper; used by one thread at a time."""

    def __init__(self, module: str, arguments: Sequence[str] = ()) -> None:
        paths = [str(Path(__file__).parents[1]), os.environ.get("PYTHONPATH", "")]
        surroundings = {**os.environ, "PYTHONPATH": os.pathsep.join(filter(None, paths))}
        command = [sys.executable, "-m", module, *arguments]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=surroundings)  # noqa: S603

    def send(self, message: bytes) -> None:
        """Give it a message. Raises HelperGone."""
        assert self._process.stdin is not None, "it has a pipe"
        try:
            _put(self._process.stdin, message)
        except OSError as error:
            raise HelperGone from error

    def reply(self) -> bytes:
        """Its reply to the oldest message without one. Raises HelperGone."""
        assert self._process.stdout is not None, "it has a pipe"
        try:
            found = _taken(self._process.stdout)
        except OSError as error:
            raise HelperGone from error
        if found is None:
            raise HelperGone
        return found

    def close(self) -> int:
        """End it, and wait until it has ended; with which code."""
        assert self._process.stdin is not None, "it has a pipe"
        assert self._process.stdout is not None, "it has a pipe"
        with suppress(OSError):  # it was ended, with a message unread
            self._process.stdin.close()
        self._process.stdout.close()
        return self._process.wait()


def serve(answer: Callable[[bytes], bytes]) -> None:
    """Answer messages until the process that started this one closes the pipe."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for that one
    while (message := _taken(sys.stdin.buffer)) is not None:
        try:
            _put(sys.stdout.buffer, answer(message))
        except BrokenPipeError:
            return


def _put(pipe: IO[bytes], message: bytes) -> None:
    pipe.write(len(message).to_bytes(LENGTH, "little") + message)
    pipe.flush()


def _taken(pipe: IO[bytes]) -> bytes | None:
    """The next message; None at the end."""
    head = pipe.read(LENGTH)
    if len(head) < LENGTH:
        return None
    size = int.from_bytes(head, "little")
    message = pipe.read(size)
    return message if len(message) == size else None
