"""Which machine this is: containers, and machines of one image, may all have one host name."""

import platform
from pathlib import Path


def this_machine() -> str:
    """The boot of the kernel and the namespace of processes: where the number of a process means one process."""
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
        return f"{boot} {Path('/proc/self/ns/pid').readlink()}"
    except OSError:
        return platform.node()
