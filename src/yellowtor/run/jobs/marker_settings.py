"""The part of a job that says which markers there are, how they look, and which files they are written to."""

import re
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Literal, NamedTuple

from pydantic import AfterValidator, Field, model_validator

from yellowtor.answers.geography.levels import Level
from yellowtor.contracts.marker import SIZE_PX, Shape
from yellowtor.contracts.outcome import Outcome
from yellowtor.run.jobs.marker_formats import MarkerFormat, format_of
from yellowtor.settings import Settings

# Any two of them can be told apart by people with protanopia and deuteranopia too (run/phases/colour_vision.py).
COLOURS = {
    "blue": "#003987", "sky": "#79c1f2", "green": "#156a56", "yellow": "#dcc709", "orange": "#e18222",
    "red": "#bf0a00", "purple": "#aa47bf", "grey": "#8b98a1", "black": "#17242e",
}  # fmt: skip
SCALE = ("#00224e", "#35456c", "#666970", "#948e77", "#c8b866", "#fee838")  # cividis: Nuñez, Anderton, Renslow 2018
MOST_CLASSES = 12


def _colour(text: str) -> str:
    """A colour as #rrggbb. Raises ValueError."""
    low = text.lower()
    if re.fullmatch("#[0-9a-f]{6}", low):
        return low
    if low not in COLOURS:
        raise ValueError(f"a colour is #rrggbb or one of {', '.join(COLOURS)}")
    return COLOURS[low]


def _short(text: str) -> str:
    if "{" not in text and len(text) > 3:
        raise ValueError("at most three characters")
    return text


Colour = Annotated[str, AfterValidator(_colour)]


class LookRule(Settings):
    """How the markers look for which the condition holds. Of several rules, the first that holds counts."""

    name: str = Field("", description="Its name in the legend. Default: the condition.")
    when: str | dict[str, str | list[str]] = Field(
        "",
        description='Which markers: `{ Status = "broken" }` (a column and its text, or a list of texts; '
        "`answer.outcome` and the like are the answer's), or a SQL condition over the columns and over "
        "`answer.outcome`, `answer.confidence`, `answer.level` and so on. Default: all that are left.",
    )
    colour: Colour | None = Field(None, description=f"`#rrggbb`, or {', '.join(COLOURS)}. Default: as the outcome.")
    shape: Shape | None = Field(None, description=f"One of {', '.join(Shape)}. Default: as the outcome.")
    size: int = Field(SIZE_PX, ge=6, le=64, description="Width and height in pixels.")
    text: Annotated[str, AfterValidator(_short)] = Field(
        "", description="Up to three characters inside the marker, or a template: `{{ number }}` counts the markers."
    )
    turn: float | str = Field(0.0, description="Degrees clockwise, or the column that has them.")
    icon: Path | None = Field(None, description="A picture (PNG, SVG, JPEG, GIF, WebP; at most 100 kB) as the marker.")

    def title(self) -> str:
        """Its name in the legend."""
        if self.name:
            return self.name
        if isinstance(self.when, str):
            return self.when or "others"
        texts = (", ".join([text] if isinstance(text, str) else text) for text in self.when.values())
        return "; ".join(texts)


class ColourScale(Settings):
    """Colours by the number in a column, where no rule of `looks` holds."""

    column: str = Field(description="A column of the source with numbers, or `answer.confidence`.")
    breaks: list[float] = Field(
        default_factory=list,
        max_length=MOST_CLASSES - 1,
        description="The numbers between two colours, rising. Default: five round ones between least and most.",
    )
    colours: list[Colour] = Field(
        default_factory=list, description="One more than `breaks`. Default: dark blue to yellow (cividis)."
    )
    unit: str = Field("", description="Stands behind the numbers of the legend.")

    @model_validator(mode="after")
    def _rising(self) -> "ColourScale":
        if sorted(set(self.breaks)) != self.breaks:
            raise ValueError("breaks must rise")
        if self.colours and len(self.colours) != len(self.breaks) + 1:
            raise ValueError(f"colours: {len(self.breaks) + 1} are needed, one more than breaks")
        return self


class MarkerOutput(NamedTuple):
    """A marker file, and the setting that names it."""

    format: MarkerFormat
    path: Path
    setting: str


def _known(path: Path) -> Path:
    format_of(path)
    return path


def _one_of(ending: str, other: str) -> AfterValidator:
    def check(path: Path) -> Path:
        if path.suffix.lower() not in {ending, other}:
            raise ValueError(f"{path.name!r} must end in {ending} or {other}")
        return path

    return AfterValidator(check)


LANGUAGES = ("en", "de", "fr", "es", "da")


class MapSettings(Settings):
    """The page with the map."""

    centre: tuple[float, float] | None = Field(
        None, description="Latitude and longitude of the middle of the map. Default: fitted to the markers."
    )
    zoom: float | None = Field(None, ge=0, le=22, description="Zoom at the beginning. Default: fitted.")
    size: tuple[str, str] = Field(
        ("100%", "600px"), description="Width and height of an embedded page, such as `640px`, `80%` or `60vh`."
    )
    scroll_wheel: bool = Field(True, description="The scroll wheel zooms.")
    cluster: bool = Field(True, description="Markers that would overlap are shown as one circle with their number.")
    search: list[str] = Field(
        default_factory=list,
        description="Columns of `markers.columns` that the search looks at, beside name, key and address. "
        "Default: all.",
    )
    label: Literal["never", "hover", "always"] = Field("hover", description="When a marker shows its name.")
    picture: str = Field(
        "",
        description="Column with a picture for the popup: a file in the page's folder (at most 100 kB), or an address.",
    )
    language: str = Field("en", description=f"Language of the page: {', '.join(LANGUAGES)}, or that of `texts`.")
    texts: Path | None = Field(None, description="TOML file with the texts of the page in another language.")
    tiles: str = Field(
        "",
        pattern=r"^(https?://[^\s\"'<>]+)?$",
        description="Address of background tiles: `https://tiles.example/{z}/{x}/{y}.png`. The page then needs a "
        "network.",
    )
    tile_credit: str = Field("", description="Who is to be named for the tiles.")
    most_zoom: int = Field(19, ge=1, le=22, description="The closest zoom.")
    pages: str = Field("", description="Column of the source: a PDF map has a page for each of its texts.")
    embed: bool = Field(False, description="Write a fragment for another page: an `<iframe>` that holds the page.")

    @model_validator(mode="after")
    def _known(self) -> "MapSettings":
        if self.texts is None and self.language not in LANGUAGES:
            raise ValueError(f'language is one of {", ".join(LANGUAGES)}; another one needs texts = "FILE.toml"')
        if self.centre and not (-90 <= self.centre[0] <= 90 and -180 <= self.centre[1] <= 180):
            raise ValueError("centre is latitude and longitude in degrees")
        if self.tiles and not all(name in self.tiles for name in ("{z}", "{x}", "{y}")):
            raise ValueError("tiles needs {z}, {x} and {y}")
        if not all(re.fullmatch(r"[0-9]{1,5}(px|%|vh|vw|em|rem)", length) for length in self.size):
            raise ValueError("size is two lengths, such as 640px, 80% or 60vh")
        return self


class PictureSettings(Settings):
    """A small map for each marker, as PNG files named by key."""

    folder: Path = Field(description="Folder of the pictures. Only those that changed are drawn.")
    radius_m: float = Field(300.0, gt=0, le=1e6, description="What is shown around the marker, in metres.")
    size: int = Field(480, ge=100, le=4000, description="Width and height in pixels.")


class LabelSettings(Settings):
    """Sheets of postal labels: a file in `to` that ends in `.labels.pdf`."""

    paper: Literal["A4", "Letter"] = Field("A4", description="Size of a sheet.")
    across: int = Field(3, ge=1, le=10, description="Labels side by side.")
    down: int = Field(8, ge=1, le=40, description="Labels one below the other.")
    margin_mm: float = Field(8.0, ge=0, le=50, description="Margin of the sheet in millimetres.")
    text: str = Field("", description="Template of a label. Default: the name, then the parts of the matched address.")


class Markers(Settings):
    to: list[Annotated[Path, AfterValidator(_known)]] = Field(
        default_factory=list,
        description="Files of markers. The ending says the format: see docs/markers.md.",
    )
    geojson: Annotated[Path, _one_of(".geojson", ".json")] | None = Field(None, description="One more, as GeoJSON.")
    page: Annotated[Path, _one_of(".html", ".htm")] | None = Field(None, description="One more, as a page.")
    title: str = Field("Markers", description="Title of page and map.")
    name: str = Field(
        "",
        description='Template of a marker\'s name (Jinja): `{{ Cabinet }}`, `{{ record["Door no."] }}` are columns, '
        "`{{ answer.confidence }}` is the answer's. Default: `records.name`, else the key.",
    )
    description: str = Field("", description="Template of a marker's description, as `name`.")
    columns: list[str] = Field(
        default_factory=list, description="Columns of the source that each marker shows; `*` means all of them."
    )
    outcomes: list[Outcome] = Field(default_factory=list, description="Only markers with these outcomes. Default: all.")
    level: Level | None = Field(None, description="Only answers of this level or a finer one.")
    confidence: float | None = Field(None, ge=0, le=1, description="Only answers with at least this confidence.")
    only: str = Field("", description="Only markers for which this SQL condition holds, as `looks.when`.")
    without_position: bool = Field(
        False,
        description="Records without a position are written too, with an empty geometry, where the format can: "
        "GeoJSON, GeoPackage, GeoParquet, CSV, JSON. The page always lists them.",
    )
    order: list[str] = Field(
        default_factory=list,
        description="Columns to order by; `-` before a name turns the order around. Without it, they come in the "
        "source's order and memory stays flat.",
    )
    decimals: int | None = Field(
        None,
        ge=0,
        le=9,
        description="Decimals of a coordinate, in `system` if set. Default: six of a degree, three of a metre.",
    )
    system: str = Field(
        "",
        pattern="^(EPSG:[0-9]{4,6})?$",
        description="Coordinate system such as `EPSG:25832`, for GeoPackage, GeoParquet, CSV and JSON. The other "
        "formats are always WGS 84.",
    )
    folders: str = Field("", description="KML: a folder for each text in this column, or for each `outcome`.")
    circle: float | str = Field(
        0.0,
        description="Radius in metres of a circle around each marker; or a column that has it; or `uncertainty`, for "
        "how far off the point may be.",
    )
    moved: bool = Field(True, description="A line from the position before to the new one, if a run moved a record.")
    looks: list[LookRule] = Field(default_factory=list, description="How markers look; the first rule that holds.")
    scale: ColourScale | None = Field(None, description="Colours by a number.")
    pictures: PictureSettings | None = Field(None, description="A small map for each marker.")
    labels: LabelSettings = Field(LabelSettings(), description="Sheets of postal labels.")
    map: MapSettings = Field(MapSettings(), description="How the page shows its map.")
    under: list[Path] = Field(
        default_factory=list, description="GeoJSON files drawn under the markers: coastlines, roads."
    )

    def writes(self) -> bool:
        """Whether any file or picture is to be written."""
        return bool(self.files()) or self.pictures is not None

    def files(self) -> Sequence[MarkerOutput]:
        """The files to be written."""
        found = [MarkerOutput(format_of(path), path, "markers.to") for path in self.to]
        for name, ending in (("geojson", "x.geojson"), ("page", "x.html")):
            if (path := getattr(self, name)) is not None:
                found.append(MarkerOutput(format_of(Path(ending)), path, f"markers.{name}"))
        return found
