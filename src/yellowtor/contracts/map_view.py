"""How a page shows its map."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class MapView:
    """The settings of a page.

    centre is latitude and longitude, zoom the level of the map; None: fitted to the markers. size is width and height
    of an embedded page as CSS has them. search are the columns that the search looks at, beside name, key and address;
    label is what stands beside a marker (never, hover, always); picture is the column with a picture. texts are the
    texts of the page by their names; language is their code (BCP 47). tiles is the address of XYZ tiles. pages is the
    column by whose texts a PDF map has a page each.
    """

    centre: tuple[float, float] | None = None
    zoom: float | None = None
    size: tuple[str, str] = ("100%", "600px")
    scroll_wheel: bool = True
    cluster: bool = True
    search: Sequence[str] = ()
    label: str = "hover"
    picture: str = ""
    language: str = "en"
    texts: Mapping[str, str] = field(default_factory=dict)
    tiles: str = ""
    tile_credit: str = ""
    most_zoom: int = 19
    embed: bool = False
    pages: str = ""


@dataclass(frozen=True, slots=True)
class LabelSheet:
    """A sheet of postal labels: its paper (A4 or Letter), columns and rows, and its margin in millimetres."""

    paper: str = "A4"
    across: int = 3
    down: int = 8
    margin_mm: float = 8.0
