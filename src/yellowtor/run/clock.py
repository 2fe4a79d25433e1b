"""The machine's clocks. The boot clock is never set, and counts while the machine sleeps."""

import time
from datetime import UTC, datetime
from functools import cache
from pathlib import Path


class SystemClock:
    """The real clock. boot() is seconds of a clock that all processes of this machine share."""

    def now(self) -> datetime:
        return datetime.now(UTC)

    def boot(self) -> float:
        if hasattr(time, "CLOCK_BOOTTIME"):
            return time.clock_gettime(time.CLOCK_BOOTTIME)
        return time.monotonic()

    @cache  # noqa: B019 - there is one clock
    def boot_id(self) -> str:
        """What tells this boot from the last one, after which the clock began anew."""
        try:
            return Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
        except OSError:
            return f"{time.time() - self.boot():.0f}"[:-2]  # the instant of boot, to a hundred seconds
