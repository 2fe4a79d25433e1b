"""One page with a map, all in one file: it asks no network for anything but tiles, if the job wants some."""

import base64
import html
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import Any

from yellowtor.contracts.marker import Look, Marker
from yellowtor.contracts.outcome import Outcome
from yellowtor.files import written_aside
from yellowtor.markers import style
from yellowtor.markers.html_page import rendered
from yellowtor.markers.layers import read_layer
from yellowtor.markers.page_data import PackedColumn, pack
from yellowtor.markers.target import MarkerTarget

MOST = 200_000  # markers that a page shows
MOST_PICTURE_BYTES = 100_000
PICTURES = {".png": "png", ".jpg": "jpeg", ".jpeg": "jpeg", ".gif": "gif", ".webp": "webp"}


class Page:
    """Collects markers; more than 200,000 are counted, not shown."""

    def __init__(self, target: MarkerTarget) -> None:
        self._target = target
        self._columns: dict[str, list[Any]] = {name: [] for name in (*SIMPLE, *target.head.columns)}
        self._looks: dict[Look, int] = {}
        self._aligned: dict[int, Any] = {}
        self._before: dict[int, Sequence[float]] = {}
        self._circles: dict[int, float] = {}
        self.count = 0
        self.left_out = 0

    def add(self, marker: Marker) -> None:
        """Take a marker."""
        if self.count >= MOST:
            self.left_out += 1
            return
        at = self.count
        self.count += 1
        lat, lon = marker.position or (None, None)
        simple = {
            "$key": marker.key,
            "$name": marker.name if marker.name != marker.key else "",
            "$outcome": marker.outcome.value,
            "$look": self._looks.setdefault(marker.look, len(self._looks)),
            "$lat": lat,
            "$lon": lon,
            "$asked": marker.asked,
            "$matched": marker.matched if marker.matched != marker.asked else "",
            "$level": marker.level,
            "$confidence": marker.confidence,
            "$basis": marker.basis,
            "$reasons": "\n".join(marker.reasons),
            "$description": marker.description,
            "$uncertainty": marker.uncertainty_m,
        }
        for name, value in simple.items():
            self._columns[name].append(value)
        for name in self._target.head.columns:
            text = marker.columns[name]
            self._columns[name].append(self._picture(text) if name == self._target.view.picture else text)
        if marker.aligned:
            self._aligned[at] = marker.aligned
        if marker.before:
            self._before[at] = marker.before
        if marker.circle_m:
            self._circles[at] = marker.circle_m

    def _picture(self, text: str) -> str:
        """A picture of a record as a data: URL, if it is a small file in the page's folder; else the text."""
        kind = PICTURES.get(Path(text).suffix.lower())
        if not text or kind is None or "://" in text:
            return text
        try:
            folder = self._target.path.parent.resolve()
            path = (folder / text).resolve()
            if path.is_relative_to(folder) and path.is_file() and path.stat().st_size <= MOST_PICTURE_BYTES:
                return f"data:image/{kind};base64,{base64.b64encode(path.read_bytes()).decode()}"
        except (OSError, ValueError):
            return text
        return text

    def data(self) -> dict[str, Any]:
        """All that the page's script needs."""
        target = self._target
        view = target.view
        shown = [name for name in target.head.columns if name != view.picture]
        packed: dict[str, PackedColumn] = {name: pack(values) for name, values in self._columns.items()}
        return {
            "count": self.count,
            "columns": packed,
            "shown": shown,
            "searched": list(view.search or shown),
            "looks": [packed_look(look) for look in self._looks],
            "legend": [{"name": look.name, "look": self._in_legend(look)} for look in target.head.legend],
            "paths": {shape.value: path for shape, path in style.PATHS.items()},
            "outcomes": [outcome.value for outcome in sorted(style.MARKS, key=lambda one: style.MARKS[one].rank)],
            "marks": {o.value: {"colour": mark.colour, "path": mark.path} for o, mark in style.MARKS.items()},
            "meanings": {outcome.value: outcome.meaning for outcome in Outcome},
            "aligned": self._aligned,
            "before": self._before,
            "circles": self._circles,
            "under": [read_layer(layer) for layer in target.under],
            "view": {name: value for name, value in asdict(view).items() if name != "embed"},
            "attribution": target.attribution,
        }

    def _in_legend(self, look: Look) -> dict[str, Any]:
        """The look that the legend shows: that of the first marker with it."""
        return packed_look(next((one for one in self._looks if one.name == look.name), look))


def packed_look(look: Look) -> dict[str, Any]:
    """A look as the page's script has it."""
    return {**asdict(look), "text_colour": look.text_colour}


SIMPLE = (
    "$key", "$name", "$outcome", "$look", "$lat", "$lon", "$asked", "$matched", "$level", "$confidence", "$basis",
    "$reasons", "$description", "$uncertainty",
)  # fmt: skip


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[Page]:
    """Write the page."""
    page = Page(target)
    yield page
    with written_aside(target.path, like=target.like) as aside:
        made = html_of(page, target)
        aside.write_text(_embedded(made, target) if target.view.embed else made, encoding="utf-8")


def html_of(page: Page, target: MarkerTarget) -> str:
    """The page as it is written."""
    return rendered(
        "page.html",
        ["leaflet.markercluster.css", "page.css"],
        [
            ["leaflet.js", "leaflet.markercluster.js"],
            ["page.js", "page-many.js", "page-map.js", "page-list.js"],
        ],
        page.data(),
        tiles=target.view.tiles,
        title=target.head.title,
        language=target.view.language,
        text=target.view.texts,
        count=page.count,
        total=page.count + page.left_out,
        attribution="; ".join(filter(None, (target.attribution, target.view.tile_credit))),
    )


def _embedded(page: str, target: MarkerTarget) -> str:
    """The page inside an element for another page, which it can't touch."""
    width, height = target.view.size
    look = f"width:{width};height:{height};border:0"
    return (
        f'<iframe title="{html.escape(target.head.title)}" style="{look}" loading="lazy" '
        f'sandbox="allow-scripts allow-popups allow-modals allow-downloads" allow="clipboard-write" '
        f'srcdoc="{html.escape(page)}"></iframe>\n'
    )
