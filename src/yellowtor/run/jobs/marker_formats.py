"""The registry of marker formats. A new format is a module in markers/formats and an entry here."""

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class MarkerFormat:
    """A format of marker files: its name, the endings of its files, and the module that writes it.

    The module has a function `open_file(target)`. It is imported when a job names such a file. draws_layers: it draws
    the GeoJSON files of `markers.under`. any_system: it can have coordinates of another system than WGS 84. needs is a
    library that it takes, and the extra that installs it. shows_alignment: question and answer, word by word.
    """

    name: str
    endings: tuple[str, ...]
    description: str
    module: str
    draws_layers: bool = False
    any_system: bool = False
    needs: tuple[str, str] | None = None
    shows_alignment: bool = False


AT = "yellowtor.markers.formats"
FORMATS = (
    MarkerFormat(
        "page",
        (".html", ".htm"),
        "a page with a map that needs no network",
        f"{AT}.page",
        draws_layers=True,
        shows_alignment=True,
    ),
    MarkerFormat("GeoJSON", (".geojson",), "a FeatureCollection (RFC 7946)", f"{AT}.geojson"),
    MarkerFormat("GeoJSON sequence", (".geojsons",), "a feature in each line (RFC 8142)", f"{AT}.geojson"),
    MarkerFormat("KML", (".kml",), "KML 2.3 with styles and folders", f"{AT}.kml"),
    MarkerFormat(
        "KMZ", (".kmz",), "KML with its pictures, in a ZIP file", f"{AT}.kml", needs=("matplotlib", "pictures")
    ),
    MarkerFormat("GPX", (".gpx",), "way points (GPX 1.1)", f"{AT}.gpx"),
    MarkerFormat(
        "labels", (".labels.pdf",), "sheets of postal labels", f"{AT}.labels", needs=("matplotlib", "pictures")
    ),
    MarkerFormat(
        "picture",
        (".png", ".svg", ".pdf"),
        "a map of all markers",
        f"{AT}.picture",
        draws_layers=True,
        needs=("matplotlib", "pictures"),
    ),
    MarkerFormat("GeoPackage", (".gpkg",), "a layer in a GeoPackage 1.3", f"{AT}.geopackage", any_system=True),
    MarkerFormat(
        "GeoParquet",
        (".parquet", ".geoparquet"),
        "GeoParquet 1.1",
        f"{AT}.geoparquet",
        any_system=True,
    ),
    MarkerFormat("WKT", (".wkt.csv",), "CSV with a column in well-known text", f"{AT}.delimited", any_system=True),
    MarkerFormat("CSV", (".csv",), "CSV with latitude and longitude", f"{AT}.delimited", any_system=True),
    MarkerFormat("JSON", (".json",), "an array for a page of one's own", f"{AT}.array", any_system=True),
    MarkerFormat("vCard", (".vcf",), "a card for each marker (vCard 4, RFC 6350)", f"{AT}.vcard"),
    MarkerFormat("geo URIs", (".uri", ".uris"), "a geo: URI in each line (RFC 5870)", f"{AT}.geo_uris"),
)


def format_of(path: Path) -> MarkerFormat:
    """The format that the name of a file means. Raises ValueError for an unknown ending."""
    name = path.name.lower()
    for known in FORMATS:
        if name.endswith(known.endings):
            return known
    endings = ", ".join(ending for known in FORMATS for ending in known.endings)
    raise ValueError(f"{path.name!r} has no ending of a marker format; known are {endings}")
