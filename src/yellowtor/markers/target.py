"""What a marker file is made for."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class MarkerTarget:
    """A marker file: where it is written, and what a job says about it.

    attribution is the text that the services ask for; under are GeoJSON files to draw below the markers; whoever can
    read the file `like` can read the marker file.
    """

    path: Path
    title: str = ""
    attribution: str = ""
    under: Sequence[Path] = ()
    like: Path | None = None
