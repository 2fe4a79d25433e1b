"""What a marker file is made for."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class MarkerTarget:
    """A marker file: its path and the settings of the job.

    attribution is the credit that the services require; under are GeoJSON files to draw below the markers. The marker
    file gets the permissions of the file `like`.
    """

    path: Path
    title: str = ""
    attribution: str = ""
    under: Sequence[Path] = ()
    like: Path | None = None
