"""The surroundings of this process, read when they are used, and its clock."""

import os
import sys
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from yellowtor.contracts.ambient import Ambient
from yellowtor.run.clock import SystemClock

CLOCK = SystemClock()


@dataclass(frozen=True)
class ProcessAmbient:
    """The real surroundings. Variables in `more` take precedence over the environment."""

    more: Mapping[str, str] | None = None

    @property
    def environment(self) -> Mapping[str, str]:
        return {**os.environ, **self.more} if self.more else os.environ

    @property
    def folder(self) -> Path:
        return Path.cwd()

    @property
    def input(self) -> BinaryIO | None:
        return None if sys.stdin.isatty() else sys.stdin.buffer


PROCESS: Ambient = ProcessAmbient()
