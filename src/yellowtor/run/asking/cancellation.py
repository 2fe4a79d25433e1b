"""Cancellation by a signal, checked wherever a run can stop without loss."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from threading import Event


class Cancellation:
    """Asked once: no new questions, what is in flight comes home. Asked twice: at once."""

    def __init__(self) -> None:
        self.times = 0
        self._asked = Event()
        self._listeners: list[Callable[[], object]] = []

    def __bool__(self) -> bool:
        return self.times > 0

    def ask(self) -> None:
        self.times += 1
        self._asked.set()
        for listener in self._listeners:
            listener()

    def wait(self, seconds: float) -> None:
        """Sleep so long, or until the wish is made."""
        self._asked.wait(seconds)

    @contextmanager
    def heard_by(self, listener: Callable[[], object]) -> Iterator[None]:
        """While the body runs, listener is called for each time it is asked; at once if it was before."""
        self._listeners.append(listener)
        if self.times:
            listener()
        try:
            yield
        finally:
            self._listeners.remove(listener)
