"""One page with a map, all in one file: it asks no network for anything, and says so to the browser."""

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from importlib.resources import files
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape

from yellowtor.errors import BadJob
from yellowtor.files import written_aside
from yellowtor.markers import style
from yellowtor.markers.target import MarkerTarget

MOST = 20_000  # records that a browser still draws without stutter


class Page:
    """Collects records; more than 20,000 are counted, not shown."""

    def __init__(self) -> None:
        self.records: list[dict[str, Any]] = []
        self.left_out = 0

    def add(self, record: Mapping[str, Any]) -> None:
        if len(self.records) < MOST:
            self.records.append(dict(record))
        else:
            self.left_out += 1


@contextmanager
def page_file(
    path: Path,
    title: str,
    attribution: str,
    under: Sequence[Path],
    like: Path | None = None,
) -> Iterator[Page]:
    """Write the page to path. `under` are GeoJSON files. The page gets the permissions of the file `like`."""
    layers = [read_under(layer) for layer in under]
    page = Page()
    yield page
    assets = files("yellowtor.markers") / "assets"
    environment = Environment(
        loader=PackageLoader("yellowtor.markers", "assets"), autoescape=select_autoescape(), undefined=StrictUndefined
    )
    html = environment.get_template("page.html").render(
        title=title,
        attribution=attribution,
        style=style,
        left_out=page.left_out,
        total=len(page.records) + page.left_out,
        leaflet_css=re.sub(r"url\([^)]*\)", "none", _asset(assets / "leaflet.css")),  # its images are not used
        leaflet_js=_asset(assets / "leaflet.js"),
        page_css=_asset(assets / "page.css"),
        page_js=_asset(assets / "page.js"),
        data=_for_script({"records": page.records, "under": layers, "marks": _marks(), "order": _order()}),
    )
    with written_aside(path, like=like) as aside:
        aside.write_text(html, encoding="utf-8")


def read_under(path: Path) -> Any:
    """A GeoJSON file. Raises BadJob when it isn't one."""
    if path.exists() and not path.is_file():
        raise BadJob(f"{path}, which the job draws under its markers, is not a regular file.")
    try:
        layer = json.loads(path.read_text(encoding="utf-8-sig"))
    except (OSError, ValueError, RecursionError) as error:
        said = getattr(error, "strerror", None) or error
        raise BadJob(f"{path}, which the job draws under its markers, can't be read: {said}.") from error
    if not isinstance(layer, dict) or layer.get("type") not in {"FeatureCollection", "Feature"}:
        raise BadJob(f"{path}, which the job draws under its markers, is not GeoJSON.")
    if wrong := _wrong_in(layer):
        raise BadJob(f"{path}, which the job draws under its markers: {wrong}.")
    return layer


def _wrong_in(layer: Any) -> str:
    """What is wrong with the geometries of a layer (RFC 7946, section 3.1); empty where nothing is."""
    features = layer.get("features") if layer["type"] == "FeatureCollection" else [layer]
    if not isinstance(features, list):
        return "its features are not a list"
    for number, feature in enumerate(features, 1):
        geometries: list[Any] = [feature.get("geometry") if isinstance(feature, dict) else ""]
        while geometries:
            geometry = geometries.pop()
            if geometry is None:
                continue
            kind = geometry.get("type") if isinstance(geometry, dict) else None
            if kind == "GeometryCollection" and isinstance(geometry.get("geometries"), list):
                geometries += geometry["geometries"]
            elif kind not in DEPTHS:
                return f"feature {number} has no geometry that is known"
            elif not _are_positions(geometry.get("coordinates"), DEPTHS[kind]):
                return f"feature {number} has coordinates that are not longitude and latitude in degrees"
    return ""


def _are_positions(value: Any, depth: int) -> bool:
    """Whether this is a list of lists, so deep, of positions: longitude and latitude, and perhaps a height."""
    if depth:
        return isinstance(value, list) and all(_are_positions(inner, depth - 1) for inner in value)
    numbers = isinstance(value, list) and all(isinstance(n, int | float) and not isinstance(n, bool) for n in value)
    return numbers and len(value) >= 2 and -360 <= value[0] <= 360 and -90 <= value[1] <= 90


# How deeply positions are nested in lists.
DEPTHS = {"Point": 0, "MultiPoint": 1, "LineString": 1, "MultiLineString": 2, "Polygon": 2, "MultiPolygon": 3}


def open_file(target: MarkerTarget) -> AbstractContextManager[Page]:
    """The marker page of a job."""
    return page_file(target.path, target.title, target.attribution, target.under, target.like)


def _marks() -> dict[str, Any]:
    """How each outcome is drawn, and what it means."""
    return {
        outcome.value: {"colour": mark.colour, "path": mark.path, "meaning": outcome.meaning}
        for outcome, mark in style.MARKS.items()
    }


def _order() -> list[str]:
    """The outcomes, those first that a person should look at first."""
    return [outcome.value for outcome in sorted(style.MARKS, key=lambda outcome: style.MARKS[outcome].rank)]


def _asset(file: Any) -> str:
    return str(file.read_text(encoding="utf-8"))


def _for_script(data: Any) -> str:
    """JSON that can stand inside a script element: nothing in it can end the element."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"))
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026").replace("\u2028", "\\u2028")
