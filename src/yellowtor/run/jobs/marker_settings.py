"""The part of a job that names marker files, and the registry of their formats."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import Field, ValidationInfo, create_model, field_validator

from yellowtor.settings import Settings


@dataclass(frozen=True)
class MarkerFormat:
    """A format of marker files: its key in a job, the endings of its files, and the module that writes it.

    The module has a function `open_file(target)`. It is imported when a job names such a file. draws_layers: it draws
    the GeoJSON files of `markers.under`.
    """

    name: str
    endings: tuple[str, ...]
    description: str
    module: str
    draws_layers: bool = False


# A new format is a module in markers/ and an entry here.
FORMATS = (
    MarkerFormat("geojson", (".geojson", ".json"), "GeoJSON (RFC 7946) of the points.", "yellowtor.markers.geojson"),
    MarkerFormat("page", (".html", ".htm"), "A page with a map that needs no network.", "yellowtor.markers.page", True),
)


class MarkerSettings(Settings):
    """What every job has; the keys of the formats are added below."""

    if TYPE_CHECKING:
        title: str = ""
        under: list[Path] = []

    def files(self) -> Sequence[tuple[MarkerFormat, Path]]:
        """The files to be written, in the order of the registry."""
        named = ((known, getattr(self, known.name)) for known in FORMATS)
        return [(known, path) for known, path in named if path is not None]

    @field_validator(*(known.name for known in FORMATS), check_fields=False)
    @classmethod
    def _ending(cls, path: Path | None, info: ValidationInfo) -> Path | None:
        endings = next(known.endings for known in FORMATS if known.name == info.field_name)
        if path is not None and path.suffix.lower() not in endings:
            raise ValueError(f"{path.name!r} must end in {' or '.join(endings)}")
        return path


_FIELDS: dict[str, Any] = {
    **{known.name: (Path | None, Field(None, description=known.description)) for known in FORMATS},
    "title": (str, Field("Markers", description="Title of the page.")),
    "under": (
        list[Path],
        Field(default_factory=list, description="GeoJSON files drawn under the markers: coastlines, roads."),
    ),
}
if TYPE_CHECKING:
    Markers = MarkerSettings
else:
    Markers = create_model("Markers", __base__=MarkerSettings, **_FIELDS)
