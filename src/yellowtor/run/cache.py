"""The verb `cache`: find an address that the ledger knows, also roughly; take answers out, and take others over."""

import base64
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from heapq import nlargest
from pathlib import Path
from typing import IO, Any, NamedTuple

from rapidfuzz import fuzz, process

from yellowtor.addresses.canonical import canonical
from yellowtor.addresses.keys import subject_key
from yellowtor.answers.cache_entry import Exported
from yellowtor.contracts.address import PARTS, Address
from yellowtor.contracts.position import WRITTEN_DECIMALS, Position
from yellowtor.contracts.subject import subject_from
from yellowtor.errors import BadSource
from yellowtor.run.ports import CacheBook, Watcher

LIKE = 60.0  # of 100: below, two lines have little in common
AT_ONCE = 500
PROVENANCE = (
    "question_key",
    "asking",
    "service",
    "kind",
    "status",
    "message",
    "received_at",
    "cost",
    "attempt",
    "job",
    "who",
    "host",
)


class Match(NamedTuple):
    """An address that is like what was looked for, by so much of 100."""

    likeness: float
    number: int
    line: str


def find(book: CacheBook, text: str, most: int, watch: Watcher) -> list[Match]:
    """The addresses that are most similar to a text: the same words in any order first, then similar ones."""
    wanted = canonical(text)
    found = list[Match]()
    watch.phase("Looking")
    for page in book.addresses():
        lines = [subject.line() for _, subject in page]
        folded = [canonical(line) for line in lines]
        for _, likeness, at in process.extract(
            wanted, folded, scorer=fuzz.token_set_ratio, score_cutoff=LIKE, limit=most
        ):
            whole = fuzz.ratio(wanted, folded[at])  # of those that have all the words, the ones with few others
            found.append(Match((likeness * 3 + whole) / 4, page[at][0], lines[at]))
        found = nlargest(most, found)
        watch.advanced(len(page))
    return sorted(found, reverse=True)


def write_export(book: CacheBook, file: IO[str]) -> tuple[int, int]:
    """Write every reply and pin as a GeoJSON FeatureCollection (RFC 7946), a feature a line; how many of each."""
    replies = pins = 0
    between = ""
    file.write('{"type": "FeatureCollection", "features": [')
    for page in book.export():
        for one in page:
            file.write(f"{between}\n{json.dumps(_feature(one), ensure_ascii=False)}")
            between = ","
            replies = replies + bool(one.question_key)
            pins = pins + (not one.question_key)
    file.write("\n]}\n")
    return replies, pins


def _feature(one: Exported) -> dict[str, Any]:
    point = None if one.lat is None else {"type": "Point", "coordinates": [one.lon, one.lat]}
    decided = {"who": one.who, "why": one.why, "when": one.received_at}
    if one.corrected is not None:
        properties: dict[str, Any] = {"correction": {"address": one.corrected.as_dict(), **decided}}
    elif not one.question_key:
        properties = {"pin": decided}
    else:
        properties = {name: getattr(one, name) for name in PROVENANCE} | {"headers": dict(one.headers)}
        try:
            properties["body"] = one.body.decode()
        except UnicodeDecodeError:
            properties["body_base64"] = base64.b64encode(one.body).decode("ascii")
    return {"type": "Feature", "geometry": point, "properties": {"address": one.subject.as_dict(), **properties}}


def take_over(
    book: CacheBook, path: Path, who: str, why: str, fixed: Mapping[str, str], now: datetime, watch: Watcher
) -> tuple[int, int, int]:
    """Import the export of another ledger, or points with addresses, which become pins by who and why.

    Returns the new replies, the new pins and the features read. Raises BadSource; what came before the fault is
    imported.
    """
    taken = [0, 0]
    read = 0
    source = f"import of {path.name}"
    watch.phase("Taking over")
    pages = _pages(_exported(feature, who, why, fixed, now) for feature in _features(path))
    while True:
        try:
            page = next(pages, None)
        except (KeyError, TypeError, ValueError) as error:
            raise BadSource(
                f"{path}: feature {read + 1} or one of the {AT_ONCE} after it is not valid: {error}. What came "
                f"before is taken over: {taken[0]:,} replies, {taken[1]:,} decisions."
            ) from error
        if page is None:
            return taken[0], taken[1], read
        replies, pins = book.take_over(page, source)
        taken = [taken[0] + replies, taken[1] + pins]
        read = read + len(page)
        watch.advanced(len(page))


def _features(path: Path) -> Iterator[dict[str, Any]]:
    """The features of a collection: of one that has a feature a line, a line at a time."""
    try:
        with path.open(encoding="utf-8") as file:
            if file.readline().rstrip().endswith('"features": ['):
                for line in file:
                    if (text := line.strip().rstrip(",")).startswith("{"):
                        yield json.loads(text)
                return
        whole = json.loads(path.read_text(encoding="utf-8-sig"))
    except (OSError, UnicodeDecodeError, json.JSONDecodeError) as error:
        raise BadSource(f"{path} can't be read as GeoJSON: {error}.") from error
    if not isinstance(whole, dict) or not isinstance(whole.get("features"), list):
        raise BadSource(f"{path} is not a GeoJSON FeatureCollection.")
    yield from whole["features"]


def _exported(feature: Mapping[str, Any], who: str, why: str, fixed: Mapping[str, str], now: datetime) -> Exported:
    properties = feature["properties"]
    point = feature.get("geometry")
    position = _position(point) if point else None
    subject = subject_from(_parts(properties, fixed))
    lat, lon = (position.lat, position.lon) if position else (None, None)
    one = Exported(subject, subject_key(subject), lat, lon)
    if "question_key" in properties:
        body = (
            base64.b64decode(properties["body_base64"]) if "body_base64" in properties else properties["body"].encode()
        )
        kept = {name: properties[name] for name in PROVENANCE}
        return one._replace(**kept, headers=dict(properties["headers"]), body=body)
    corrected = properties.get("correction")
    pinned = corrected or properties.get("pin") or {}
    if position is None and not pinned:
        raise ValueError("it has neither a point nor a reply")
    return one._replace(
        corrected=subject_from(_parts(corrected, {})) if corrected else None,
        who=str(pinned.get("who") or properties.get("who") or who),
        why=str(pinned.get("why") or properties.get("why") or why),
        received_at=str(pinned.get("when") or now.astimezone(UTC).isoformat(timespec="milliseconds")),
    )


def _parts(properties: Mapping[str, Any], fixed: Mapping[str, str]) -> dict[str, str]:
    """The parts of the address, or in reverse of the position."""
    own = properties.get("address")
    if isinstance(own, Mapping):
        return {name: str(text) for name, text in own.items()}
    named = {"whole": own} if isinstance(own, str) else {name: properties.get(name) for name in PARTS}
    parts = {name: str(text).strip() for name, text in named.items() if text not in {None, ""}}
    if not parts:
        raise ValueError(f"it has no address: a property `address`, or {', '.join(PARTS[1:])}")
    return Address(**{**fixed, **parts}).as_dict()


def _position(point: Mapping[str, Any]) -> Position:
    if point.get("type") != "Point":
        raise ValueError(f"its geometry is a {point.get('type')}, not a Point")
    lon, lat = map(float, point["coordinates"][:2])
    return Position(lat=round(lat, WRITTEN_DECIMALS), lon=round(lon, WRITTEN_DECIMALS))


def _pages(rows: Iterable[Exported]) -> Iterator[Sequence[Exported]]:
    page = []
    for row in rows:
        page.append(row)
        if len(page) == AT_ONCE:
            yield page
            page = []
    if page:
        yield page
