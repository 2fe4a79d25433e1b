"""The clock of a server, as a run knows it."""

from datetime import UTC, datetime

from yellowtor.contracts.clock import Clock

DRIFT = 50e-6  # seconds a second


class ServerClock:
    """The server's clock, as a run knows it between two transactions; never ahead of it.

    A reading came at the latest when it arrived, so the one that was delayed least says most. How much this machine's
    clock may drift since is allowed for.
    """

    def __init__(self, local: Clock) -> None:
        self._local = local
        self._ahead = local.now().timestamp() - local.boot()
        self._heard_at: float | None = None

    def follow(self, epoch: float) -> None:
        """The server's time now, in seconds since 1970."""
        now = self._local.boot()
        ahead = epoch - now
        if self._heard_at is None or abs(ahead - self._ahead) > 1:  # nothing was known, or its clock was set
            self._ahead = ahead
        else:
            self._ahead = max(ahead, self._ahead - DRIFT * (now - self._heard_at))
        self._heard_at = now

    def boot(self) -> float:
        return self._local.boot() + self._ahead

    def now(self) -> datetime:
        return datetime.fromtimestamp(self.boot(), UTC)

    def boot_id(self) -> str:
        return "server"
