"""Records as JSON: a line for each (JSON lines, plain or compressed), an array of them, or the features of GeoJSON.

A member of a member is a column with a dot in its name: `address.street`. Answers are spliced into the text; all
else in it keeps its bytes.
"""

import gzip
import json
import re
import zlib
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, BinaryIO, cast

from yellowtor.contracts.table import LEAVE, Answering, OnWritten, Row
from yellowtor.errors import BadSource
from yellowtor.files import check_unwritten, written_aside
from yellowtor.tables.cells import as_text, ignore_written, sound
from yellowtor.tables.file_table import FileOptions, FileTable, check_readable
from yellowtor.tables.header import checked_header
from yellowtor.tables.json_files.json_text import TextSpan, edited, edits, elements, members

BATCH = 2_000
BOM = b"\xef\xbb\xbf"
_HALF = re.compile(rb"\\u[dD][89a-fA-F]")
LATITUDE, LONGITUDE = POINT = ("geometry.latitude", "geometry.longitude")  # columns of a feature's point


class JsonTable(FileTable):
    """Records that are JSON objects."""

    @contextmanager
    def _reading(self) -> Iterator[BinaryIO]:
        try:
            check_readable(self.path, self.name)
            packed = self.path.suffix.lower() == ".gz"
            with cast(BinaryIO, gzip.open(self.path)) if packed else self.path.open("rb") as file:
                yield file
        except FileNotFoundError as error:
            raise BadSource(f"There is no file {self.name}. Nothing was sent.") from error
        except (OSError, EOFError, zlib.error) as error:
            raise BadSource(f"{self.name} can't be read: {error}. Nothing was written.") from error

    def _find_header(self, records: Iterable[Mapping[str, Any]], always: Sequence[str] = ()) -> None:
        names: dict[str, None] = {}
        for record in records:
            names.update(dict.fromkeys(record))
        names.update(dict.fromkeys(always))
        self.header = checked_header(list(names), self.name)

    def _row(self, record: Mapping[str, Any]) -> Row:
        return [_as_text(record.get(name)) for name in self.header]

    def _changes(self, columns: Sequence[str], cells: Sequence[Any]) -> dict[str, Any]:
        """What a record's new cells are in JSON; cells that are to be left are not among them."""
        pairs = zip(columns, cells, strict=True)
        return {name: None if cell == "" else cell for name, cell in pairs if cell is not LEAVE}


class JsonArrayTable(JsonTable):
    """A file with an array of JSON objects, held in memory. Raises BadSource."""

    endings = frozenset({".json"})
    always: Sequence[str] = ()  # columns that are there even if no record has them

    def __init__(self, path: Path, backup: Path | None = None) -> None:
        super().__init__(path, backup)
        self._open()

    def _open(self) -> None:
        self._load()
        self._find_header(self._records, self.always)

    def _load(self) -> None:
        with self._reading() as file:
            data = file.read()
        try:
            value = load_json(data.removeprefix(BOM))
        except ValueError as error:
            raise BadSource(f"{self.name}: not JSON ({error}). Nothing was sent.") from error
        self._records = [self._record(each, number) for number, each in enumerate(self._array(value), 1)]
        self._text = data.decode()

    def _array(self, value: Any) -> Sequence[Any]:
        if not isinstance(value, list):
            raise BadSource(f"{self.name} is not an array of JSON objects any more. Nothing was written.")
        return value

    def _array_at(self) -> int:
        return self._text.index("[")

    def _record(self, value: Any, number: int) -> dict[str, Any]:
        if not isinstance(value, dict):
            raise BadSource(f"{self.name}: element {number} is not a JSON object, but {value!r:.40}. Nothing was sent.")
        return flat(value)

    def batches(self) -> Iterator[Sequence[Row]]:
        for at in range(0, len(self._records), BATCH):
            yield [self._row(record) for record in self._records[at : at + BATCH]]

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        before = self.state
        text = self._text
        done = list[tuple[TextSpan, str]]()
        spans = elements(text, self._array_at())
        for batch in self.batches():
            for row, cells, span in zip(batch, zip(*answering(batch), strict=True), spans, strict=False):
                try:
                    done += edits(text, span.start, self._paths(row, span, self._changes(columns, cells)))
                except ValueError as error:
                    said = text[span.start : span.start + 60]
                    raise BadSource(f"{self.name}: a record's {error}: {said!r}. Nothing was written.") from error
        with written_aside(to or self.path, self.backup, self.path) as aside:
            aside.write_bytes(edited(text, done).encode())
            check_unwritten(self.path, before)
        on_written()

    def _paths(self, row: Row, span: TextSpan, changes: dict[str, Any]) -> dict[Sequence[str], Any]:
        """The changes of a record by their paths."""
        del row
        there = members(self._text, span.start).values
        return {path_of(name, there): value for name, value in changes.items()}


class GeoJsonTable(JsonArrayTable):
    """The features of a collection. Columns are the properties, the id, and the coordinates of the point.

    Raises BadSource, also for a geometry other than a point.
    """

    endings = frozenset({".geojson", ".json"})
    always: Sequence[str] = POINT

    def _array(self, value: Any) -> Sequence[Any]:
        features = value.get("features") if isinstance(value, dict) else None
        if not isinstance(features, list):
            other = ", nor an array of records" if self.path.suffix.lower() == ".json" else ""
            raise BadSource(f"{self.name} is not a GeoJSON feature collection (RFC 7946){other}. Nothing was sent.")
        return features

    def _array_at(self) -> int:
        return members(self._text, self._text.index("{")).values["features"].start

    def _record(self, value: Any, number: int) -> dict[str, Any]:
        if not isinstance(value, dict) or value.get("type") != "Feature":
            raise BadSource(f"{self.name}: element {number} of its features is not a feature. Nothing was sent.")
        geometry = value.get("geometry") or {"type": "Point"}
        properties = value.get("properties") or {}
        coordinates = geometry.get("coordinates") or [] if isinstance(geometry, dict) else None
        if not isinstance(properties, dict) or not isinstance(coordinates, list):
            raise BadSource(f"{self.name}: feature {number} is not valid by RFC 7946. Nothing was sent.")
        if geometry.get("type") != "Point":
            raise BadSource(
                f"{self.name}: feature {number} has a {geometry.get('type')}; only points are records. "
                "Nothing was sent."
            )
        own = {"id": value["id"]} if "id" in value else {}
        lon, lat = (*coordinates, None, None)[:2]
        return {**own, **flat(properties), LATITUDE: lat, LONGITUDE: lon}

    def _paths(self, row: Row, span: TextSpan, changes: dict[str, Any]) -> dict[Sequence[str], Any]:
        """Its point is one value of two numbers, and a height behind them that stays."""
        at = span.start
        lat, lon = (changes.pop(name, LEAVE) for name in POINT)
        paths: dict[Sequence[str], Any] = {("properties", *path_of(name, ())): value for name, value in changes.items()}
        there = [row[self.header.index(name)] for name in POINT]
        if LEAVE not in {lat, lon} and [lat, lon] != [float(text) if text else None for text in there]:
            where, rest = self._point(at)
            if lat is None:
                paths[("geometry",)] = None
            elif where == ("geometry",):
                paths[where] = {"type": "Point", "coordinates": [lon, lat]}
            else:
                paths[where] = [lon, lat, *rest]
        return paths

    def _point(self, at: int) -> tuple[Sequence[str], Sequence[Any]]:
        """The path of a feature's point, and its other coordinates (a height)."""
        try:
            geometry = members(self._text, members(self._text, at).values["geometry"].start)
            numbers = list(elements(self._text, geometry.values["coordinates"].start))
        except (KeyError, ValueError, IndexError, StopIteration):  # it has none
            return ("geometry",), ()
        return ("geometry", "coordinates"), [json.loads(self._text[one.start : one.end]) for one in numbers[2:]]


def open_table(path: Path, options: FileOptions) -> FileTable:
    """The table in a .geojson or .json file; in .json, the first character tells an array of records from GeoJSON."""
    backup = options.backup
    if path.suffix.lower() == ".geojson":
        return GeoJsonTable(path, backup)
    start = b""
    if not path.is_file():
        return JsonArrayTable(path, backup)  # which says what is wrong
    with suppress(OSError), path.open("rb") as file:
        start = file.read(1024).removeprefix(BOM).lstrip()[:1]
    return JsonArrayTable(path, backup) if start == b"[" else GeoJsonTable(path, backup)


def load_json(text: bytes) -> Any:
    """JSON as it is written: a number with a point or an exponent stays a text. Raises ValueError.

    Of a character whose other half is missing (RFC 8259, section 8.2) U+FFFD is read.
    """
    try:
        value = json.loads(text, parse_float=str, parse_constant=_no_constant)
    except RecursionError as error:
        raise ValueError("it is nested too deep") from error
    return _sound(value) if _HALF.search(text) else value


def _sound(value: Any) -> Any:
    if isinstance(value, str):
        return sound(value)
    if isinstance(value, dict):
        return {_sound(name): _sound(inner) for name, inner in value.items()}
    return list(map(_sound, value)) if isinstance(value, list) else value


def _no_constant(name: str) -> Any:
    raise ValueError(f"{name} is not a JSON value")


def flat(record: Mapping[str, Any], before: str = "") -> dict[str, Any]:
    """A record's members by the names of columns: those of a member of it after its name and a dot."""
    found = dict[str, Any]()
    left = [iter([(name, before + name, value) for name, value in record.items()])]
    while left:  # no recursion: records may be nested deeper than that reaches
        _, column, value = next(left[-1], ("", None, None))
        if column is None:
            left.pop()
        elif isinstance(value, dict) and value:
            left.append(iter([(name, f"{column}.{name}", inner) for name, inner in value.items()]))
        else:
            found[column] = value
    return found


def path_of(column: str, there: Container[str]) -> tuple[str, ...]:
    """Where in a record a column's value stands; a name that is there with its dots is one step."""
    return (column,) if column in there else tuple(column.split("."))


def _as_text(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict) else as_text(value)
