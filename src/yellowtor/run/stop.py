"""A wish to stop, made by a signal and heeded wherever a run can stop without losing anything."""

from collections.abc import Callable


class StopWish:
    """Asked once: no new questions, what is in flight comes home. Asked twice: at once."""

    def __init__(self) -> None:
        self.times = 0
        self._listeners: list[Callable[[], object]] = []

    def __bool__(self) -> bool:
        return self.times > 0

    def ask(self) -> None:
        self.times += 1
        for listener in self._listeners:
            listener()

    def listen(self, listener: Callable[[], object]) -> None:
        self._listeners.append(listener)
        if self.times:
            listener()
