"""Reference tables: where they are, what their index is built from, and when it is built again.

An index has the name of its edition: a digest of the description's settings and of the bytes of the table. A table that
is changed has another edition. Of a database's table the content can't be told without reading all of it: its index
stays until `yellowtor index` builds it anew.
"""

import json
import os
import shutil
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from datetime import UTC
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import platformdirs

from yellowtor.addresses.keys import digest
from yellowtor.answers.judging.judgement import RULES
from yellowtor.contracts.ambient import Ambient
from yellowtor.contracts.table import Row
from yellowtor.database_url import DatabaseUrl
from yellowtor.errors import BadJob, BadSource
from yellowtor.filelocks import locked
from yellowtor.files import State, fingerprint, state_of
from yellowtor.run.ports import Watcher
from yellowtor.services.reference_settings import Reference, ReferenceDescription
from yellowtor.tables.file_table import FileOptions
from yellowtor.tables.geopackage import GeoPackageRows
from yellowtor.tables.json_files.geojson_features import GeoJsonFeatures
from yellowtor.tables.json_files.json_records import LATITUDE, LONGITUDE
from yellowtor.tables.point_in_area import AREA
from yellowtor.tables.registry import ENDINGS, open_file
from yellowtor.tables.stated_dialect import StatedDialect
from yellowtor.wiring.process import CLOCK, PROCESS
from yellowtor.wiring.tables import database_password

if TYPE_CHECKING:
    from yellowtor.answers.geography.projection import Projection
    from yellowtor.reference.build import IndexCounts
    from yellowtor.reference.columns import RowColumns, RowRules

NEEDS = "Reference tables need {}: pip install 'yellowtor[reference]'. Nothing was sent."
STATES = "sources.json"  # the digests of files, with the states that they were computed in


class RowSource(Protocol):
    """What an index is built from."""

    name: str
    header: list[str]

    @property
    def decimal(self) -> str: ...
    def batches(self) -> Iterator[Sequence[Row]]: ...


@dataclass(frozen=True)
class ReferencePlace:
    """A reference with its folder, its edition, and the folder of the index of this edition.

    states are those of its files when the edition was found; none of a database.
    """

    description: ReferenceDescription
    folder: Path
    edition: str
    index: Path
    states: Sequence[State]

    @property
    def lock(self) -> Path:
        """What is locked while an index of this reference is built, of whatever edition."""
        return self.index.parent / "index"

    @property
    def version(self) -> str:
        """What questions are asked with: the edition; of a database's table, also which building of its index."""
        if self.states:
            return self.edition
        from yellowtor.reference.index_files import which_building

        return digest(self.edition, which_building(self.index))

    @property
    def shown_as(self) -> str:
        reference = self.description.reference
        return (
            str(reference.file) if reference.file else f"{reference.table} in {DatabaseUrl(reference.database or '')}"
        )


def check_installed() -> None:
    """Raise BadJob without the packages that an index needs."""
    for name in ("numpy", "scipy"):
        if find_spec(name) is None:
            raise BadJob(NEEDS.format(name))


def reference_place(description: ReferenceDescription, path: Path) -> ReferencePlace:
    """Where the index of a reference is, whether it was built or not. Raises BadJob, BadSource."""
    check_installed()
    from yellowtor.reference.index_files import FORMAT

    folder = path.absolute().parent
    reference = description.reference
    root = folder / reference.index if reference.index else _cache_folder(path)
    files = _files(reference, folder)
    states = [state_of(file) for file in files]
    content = [_digest_of(file, root) for file in files]
    settings = reference.model_dump_json(exclude={"index", "password_from"})
    edition = digest(str(FORMAT), RULES, settings, *content)  # other words and rules of parsing have other keys
    return ReferencePlace(description, folder, edition, root / edition, states)


def ensure_index(place: ReferencePlace, watch: Watcher | None, ambient: Ambient = PROCESS) -> None:
    """Build the index if this edition has none yet."""
    from yellowtor.reference.index_files import has_index

    if has_index(place.index):
        return
    with _locked(place, watch):
        if not has_index(place.index):
            _build(place, watch, ambient)


def build_index_of(place: ReferencePlace, watch: Watcher | None, ambient: Ambient = PROCESS) -> "IndexCounts":
    """Build the index anew, in place of one that is there."""
    with _locked(place, watch):
        return _build(place, watch, ambient)


@contextmanager
def _locked(place: ReferencePlace, watch: Watcher | None) -> Iterator[None]:
    """Build alone. Raises BadSource if nothing can be written there."""
    folder = place.index.parent
    try:
        folder.mkdir(parents=True, exist_ok=True)
        is_writable = os.access(folder, os.W_OK)
    except OSError:
        is_writable = False
    if not is_writable:
        raise BadSource(
            f'The folder {folder} for the index can\'t be written. Name another one: reference.index = "…". No index '
            "was made."
        )
    with locked([place.lock], watch.remark if watch else _silent):
        yield


def index_counts(place: ReferencePlace) -> "IndexCounts":
    """What the index of this edition contains. Raises BadSource if it can't be read."""
    from yellowtor.reference.build import IndexCounts
    from yellowtor.reference.index_files import read_index

    _, head = read_index(place.index)
    return IndexCounts(**head["counts"])


def check_columns(place: ReferencePlace, ambient: Ambient = PROCESS) -> None:
    """Raise BadSource where a table of the reference can't be opened, or lacks a column."""
    for source in _sources(place, ambient):
        _rules(place, source)


def _build(place: ReferencePlace, watch: Watcher | None, ambient: Ambient) -> "IndexCounts":
    from yellowtor.reference.build import build_index
    from yellowtor.reference.index_files import write_index

    if watch:
        watch.phase("Reading the reference")
    rows, own = _rows(place, watch, ambient)
    if [state_of(file) for file in _files(place.description.reference, place.folder)] != list(place.states):
        raise BadSource(f"{place.shown_as} was changed while it was read: try again. No index was made.")
    if watch:
        watch.phase("Indexing", rows.rows)
    projection = _projection(place.description.reference.crs or own)
    y, x = rows.array("y"), rows.array("x")
    lat, lon = projection.all_degrees(y, x) if projection else (y, x)
    arrays, counts = build_index(rows, lat, lon, project=projection.area_in_degrees if projection else str)
    head = {"edition": place.edition, "name": place.description.service.name, "counts": asdict(counts)}
    files = _files(place.description.reference, place.folder)
    private = not files or any(not file.stat().st_mode & stat.S_IROTH for file in files)
    write_index(place.index, arrays, head, private=private)  # like the table that it is made of
    for other in place.index.parent.iterdir():  # other editions, and what a killed process left
        if other.is_dir() and other != place.index and ((other / "index.json").is_file() or other.suffix == ".part"):
            with suppress(OSError):  # another process may be reading it, on a system where this prevents it
                shutil.rmtree(other)
    return counts


def _rows(place: ReferencePlace, watch: Watcher | None, ambient: Ambient) -> "tuple[RowColumns, str]":
    """The rows of all sources, and their coordinate system if they state it themselves."""
    from yellowtor.reference.columns import RowColumns

    rows: RowColumns | None = None
    systems = set[str]()
    for source in _sources(place, ambient):
        rules = _rules(place, source)
        rows = rows or RowColumns(rules)
        rows.rules = rules
        systems.add(source.crs if isinstance(source, GeoPackageRows) else "")
        if len(systems) > 1:
            raise BadSource(
                f"The files of {place.shown_as} are in several coordinate systems ({', '.join(sorted(systems))}): make "
                "a description for each. No index was made."
            )
        for batch in source.batches():
            rows.add(batch)
            if watch:
                watch.advanced(len(batch))
    assert rows is not None, "there is a source"
    return rows, systems.pop()


def _rules(place: ReferencePlace, source: RowSource) -> "RowRules":
    from yellowtor.reference.columns import RowRules

    reference = place.description.reference
    named = reference.columns.named()
    if "latitude" not in named:
        named |= {"latitude": LATITUDE, "longitude": LONGITUDE}
        if LATITUDE not in source.header:
            raise BadJob(
                f"reference.columns has no latitude and longitude, and {source.name} has no points of its own (it has: "
                f"{', '.join(filter(None, source.header))}). No index was made."
            )
    if repeated := [column for column in named.values() if source.header.count(column) > 1]:
        raise BadSource(
            f"{source.name} has more than one column called {repeated[0]!r}, which reference.columns names. Give each "
            "a different name. No index was made."
        )
    if missing := [column for column in named.values() if column not in source.header]:
        raise BadSource(
            f"{source.name} has no column {', '.join(map(repr, missing))}, which reference.columns names (it has: "
            f"{', '.join(filter(None, source.header))}). No index was made."
        )
    if AREA in source.header:
        named |= {"area": AREA}
    return RowRules(
        {name: source.header.index(column) for name, column in named.items()},
        {name: text for name, text in reference.fixed if text},
        reference.level,
        reference.level_words(),
        decimal=source.decimal,
        valid_on=CLOCK.now().astimezone(UTC).date().isoformat() if named.keys() & {"valid_from", "valid_until"} else "",
    )


def _projection(crs: str) -> "Projection | None":
    """The coordinate system of the positions; None: degrees."""
    if not crs or crs.upper() == "EPSG:4326":
        return None
    from yellowtor.answers.geography.projection import Projection

    try:
        return Projection(crs)
    except ValueError as error:
        raise BadSource(f"The coordinate system of the reference: {error}. No index was made.") from error


def _sources(place: ReferencePlace, ambient: Ambient) -> Iterator[RowSource]:
    reference = place.description.reference
    if reference.file is None:
        yield _database_rows(reference, place.folder, ambient)
        return
    for file in _files(reference, place.folder):
        if file.suffix.lower() == ".gpkg":
            yield GeoPackageRows(file, reference.table)
            continue
        if file.suffix.lower() == ".geojson":
            yield GeoJsonFeatures(file)
            continue
        options = FileOptions(
            dialect=StatedDialect(**dict(reference.text)), sheet=reference.sheet, table=reference.table
        )
        table = open_file(file, options)
        if table is None:
            raise BadJob(
                f"reference.file = {str(reference.file)!r}: a table is a folder or a file {', '.join(ENDINGS)}, .gpkg "
                "(text and JSON lines also .gz). No index was made."
            )
        yield table


def _database_rows(reference: Reference, folder: Path, ambient: Ambient) -> RowSource:
    from yellowtor.tables.database.database import DatabaseTable
    from yellowtor.tables.database.database_source import DatabaseLocation, Named

    url = DatabaseUrl(reference.database or "", database_password(reference.password_from, folder, ambient=ambient))
    columns = list(reference.columns.named().values())
    location = DatabaseLocation(url, Named.parse(reference.table or ""), keys=tuple(columns))
    return DatabaseTable(location, columns, {}, folder, create=False)


def _files(reference: Reference, folder: Path) -> list[Path]:
    """The files that are read, in order; none of a database."""
    if reference.file is None:
        return []
    path = folder / reference.file.expanduser()
    if not path.is_dir():
        if not path.exists():
            raise BadSource(f"There is no file {path} (reference.file). Nothing was sent.")
        return [path]
    endings = (*ENDINGS, ".gpkg", *(f"{ending}.gz" for ending in ENDINGS))
    found = sorted(file for file in path.iterdir() if file.is_file() and file.name.lower().endswith(endings))
    if not found:
        raise BadSource(f"The folder {path} (reference.file) has no file of a known kind. Nothing was sent.")
    return found


def _digest_of(file: Path, root: Path) -> str:
    """The digest of a file, computed again only if its state is another."""
    states = root / STATES
    known: dict[str, list[object]] = {}
    with suppress(OSError, ValueError):
        known = dict(json.loads(states.read_text()))
    name, state = str(file.resolve()), list(state_of(file) or ())
    if (entry := known.get(name)) and entry[:-1] == state:
        return str(entry[-1])
    found = fingerprint(file)
    known[name] = [*state, found]
    with suppress(OSError):  # it is computed again the next time
        root.mkdir(parents=True, exist_ok=True)
        aside = states.with_suffix(f".{digest(name)[:8]}.part")
        aside.write_text(json.dumps(known))
        aside.replace(states)
    return found


def index_size(place: ReferencePlace) -> int:
    """The size of the index in bytes."""
    return sum(file.stat().st_size for file in place.index.iterdir())


def _silent(what: str) -> None:
    del what


def _cache_folder(path: Path) -> Path:
    base = Path(platformdirs.user_cache_dir("yellowtor", appauthor=False))
    return base / "references" / digest(str(path.resolve()))[:16]
