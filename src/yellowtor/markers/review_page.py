"""The page on which people decide about doubtful addresses: candidates on a map, their differences word by word.

All in one file. It saves the decisions to a file, or gives them to the server that it came from.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from yellowtor.answers.judging.offers import Offer
from yellowtor.answers.review import ReviewGroup, ReviewItem
from yellowtor.contracts.map_view import MapView
from yellowtor.contracts.review_file import ReviewHead
from yellowtor.files import written_aside
from yellowtor.markers.html_page import rendered
from yellowtor.markers.layers import read_layer

PART = 500  # addresses of one page


class ReviewPage:
    """One page: at most PART addresses. parts are its number and how many pages there are (0: not known)."""

    def __init__(self, head: ReviewHead, view: MapView, under: Sequence[Path]) -> None:
        self._head = head
        self._view = view
        self._under = under
        self._items: list[dict[str, Any]] = []
        self._groups: dict[int, ReviewGroup] = {}

    def add(self, item: ReviewItem, group: ReviewGroup) -> None:
        """Take an address."""
        self._groups[group.number] = group
        row = item.row
        self._items.append(
            {
                "id": row.id,
                "group": group.number,
                "key": row.key.replace("\x1f", " / "),
                "records": row.records,
                "asked": row.subject.line(),
                "parts": row.subject.as_dict(),
                "reasons": list(row.reasons),
                "offers": [_offer(offer) for offer in item.offers],
            }
        )

    @property
    def is_full(self) -> bool:
        return len(self._items) >= PART

    @property
    def count(self) -> int:
        return len(self._items)

    def html(self, parts: tuple[int, int], *, serves: bool) -> str:
        """The page as text. serves: it gives its decisions to where it came from."""
        head = self._head
        data = {
            "items": self._items,
            "groups": {number: {"title": group.title} for number, group in self._groups.items()},
            "parts": list(head.parts),
            "part": parts,
            "serves": serves,
            "tolerance": head.tolerance_m,
            "credit": head.credit,
            "tiles": self._view.tiles,
            "tile_credit": self._view.tile_credit,
            "most_zoom": self._view.most_zoom,
            "under": [read_layer(layer) for layer in self._under],
        }
        return rendered(
            "review.html",
            ["review.css"],
            [["leaflet.js"], ["review.js", "review-map.js", "review-decide.js"]],
            data,
            tiles=self._view.tiles,
            asks=serves,
            title=head.title,
            language="en",
        )


def _offer(offer: Offer) -> dict[str, Any]:
    return {
        "letter": offer.letter,
        "at": list(offer.position),
        "service": offer.service,
        "level": offer.level,
        "matched": offer.matched,
        "confidence": offer.confidence,
        "differences": [list(one) for one in offer.differences],
        "words": [list(word) for word in offer.words],
        "away": offer.away_m,
        "reach": offer.reach_m,
    }


class ReviewPages:
    """Pages of a review beside each other: name.html, name-2.html and so on."""

    def __init__(self, path: Path, head: ReviewHead, view: MapView, under: Sequence[Path]) -> None:
        self._path = path
        self._what = (head, view, under)
        self._page = ReviewPage(*self._what)
        self._all = -(-head.questions // PART) or 1
        self.written: list[Path] = []

    def add(self, item: ReviewItem, group: ReviewGroup) -> None:
        """Take an address; a full page is written."""
        if self._page.is_full:
            self._write()
        self._page.add(item, group)

    def end(self) -> None:
        """Write the last page."""
        if self._page.count or not self.written:
            self._write()

    def _write(self) -> None:
        number = len(self.written) + 1
        name = self._path.name if number == 1 else f"{self._path.stem}-{number}{self._path.suffix}"
        path = self._path.with_name(name)
        with written_aside(path) as aside:
            aside.write_text(self._page.html((number, self._all), serves=False), encoding="utf-8", errors="replace")
        self.written.append(path)
        self._page = ReviewPage(*self._what)
