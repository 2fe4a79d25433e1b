"""The surroundings of the process, as a Protocol: environment, current folder, standard input."""

from collections.abc import Mapping
from pathlib import Path
from typing import BinaryIO, Protocol


class Ambient(Protocol):
    """The surroundings of a run."""

    @property
    def environment(self) -> Mapping[str, str]:
        """Environment variables."""

    @property
    def folder(self) -> Path:
        """The current folder."""

    @property
    def input(self) -> BinaryIO | None:
        """Standard input; None if it is a terminal."""
