"""The job: a TOML file that says where the records are, whom to ask and what to write.

The models here are the language; docs/job-file.md is made from them.
"""

import codecs
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, field_validator, model_validator

from yellowtor.addresses.address import PARTS, Composing
from yellowtor.addresses.line import LineTemplate
from yellowtor.answers.outcome import Thresholds
from yellowtor.answers.position import Area
from yellowtor.answers.projection import Projection
from yellowtor.answers.work import EXTRA
from yellowtor.settings import Settings

Column = Annotated[str, Field(min_length=1)]
Name = Annotated[str, Field(pattern=r"^[^.]+(\.[^.]+)?$")]
STANDARD = Path("-")  # standard input as a source, standard output as a target
Character = Annotated[str, StringConstraints(min_length=1, max_length=1, strip_whitespace=False)]  # a tab is one


class TextFile(Settings):
    """Needed only where what was found is wrong: a run says what it found."""

    encoding: str | None = Field(None, description="Encoding, such as `windows-1252`.")
    delimiter: Character | None = Field(None, description="What parts the fields: one character.")
    quote: Character | None = Field(None, description="What fields are quoted by: one character.")
    decimal: Literal[".", ","] | None = Field(None, description="Decimal mark of its numbers.")

    @field_validator("encoding")
    @classmethod
    def _known(cls, encoding: str | None) -> str | None:
        if encoding is None:
            return None
        try:
            return codecs.lookup(encoding).name
        except LookupError as error:
            raise ValueError(f"there is no encoding {encoding!r}") from error


class Records(Settings):
    """Either a file or a table of a database."""

    file: Path | None = Field(
        None,
        description="The file, from the job's folder: a workbook (.xlsx, .xlsm, .ods; to be read only .xls, .xlsb), "
        "delimited text (.csv, .tsv, .txt, also .gz), JSON lines (.jsonl, .ndjson, also .gz), GeoJSON points "
        "(.geojson, .json) or .parquet. `-` is standard input: delimited text.",
    )
    database: str | None = Field(
        None,
        description="URL of a database: `postgresql://user@host/name`, or `sqlite:///file.db` from the job's folder.",
    )
    password_from: str | None = Field(
        None, description="Environment variable (or line of `.env`) with the password of the database."
    )
    table: Name | None = Field(
        None,
        description="Table or view of the database, with its schema or without: `public.sites`; or a named table "
        "of a workbook.",
    )
    query: str | None = Field(
        None, description="Instead of `table`, a SELECT that gives the records; the answers go into `write.table`."
    )
    only: str | None = Field(
        None,
        description="SQL condition on the records: the others are left alone. The database runs it; for files DuckDB, "
        "to which every column is text and an empty cell NULL (`pip install 'yellowtor[select]'`).",
    )
    first: str | None = Field(
        None,
        description="What the records are put in order by (SQL): who goes first if not all can be asked.",
    )
    sheet: str | None = Field(None, description="The sheet of a workbook; else its first.")
    block: str | None = Field(
        None, description="Where the records stand on the sheet, header first: `B4`, `B4:H` or `B4:H200`."
    )
    key: Column | Annotated[list[Column], Field(min_length=1)] | None = Field(
        None,
        description="The column that tells records apart, or a list of them. Needed for files; of a table, else its "
        "primary key.",
    )
    name: Column | None = Field(None, description="The column with what people call a record; shown beside markers.")
    latitude: Column | None = Field(
        None, description="Column with the latitude that a record has already; else that of `write.columns`."
    )
    longitude: Column | None = Field(None, description="The same for the longitude.")
    keep: bool = Field(
        True,
        description="Records that have coordinates, not ours, are *kept* and not asked about as long as their "
        "address stays as it is. `false` asks about them as well.",
    )
    text: TextFile = Field(TextFile(), description="How delimited text is written; what is not said is found.")

    @model_validator(mode="after")
    def _one_source(self) -> "Records":
        if (self.file is None) == (self.database is None):
            raise ValueError('needs either file = "…" or database = "…", not both')
        if self.file is not None and self.key is None:
            raise ValueError("key is missing: which column of the file tells records apart?")
        if self.database is not None and (self.table is None) == (self.query is None):
            raise ValueError('needs either table = "…" or query = "SELECT …" with a database, not both')
        tables = ("password_from", "query")
        if self.file is not None and (stray := [name for name in tables if getattr(self, name) is not None]):
            raise ValueError(f"{stray[0]} belongs to a database, and the records are in a file")
        if (self.latitude is None) != (self.longitude is None):
            raise ValueError("latitude and longitude belong together")
        return self

    def keys(self) -> list[str]:
        """The columns of the key that the job names."""
        return [self.key] if isinstance(self.key, str) else self.key or []


class Fixed(Settings):
    """Parts that hold for every record whose own is empty."""

    number: str = Field("", description="House number.")
    street: str = Field("", description="Street.")
    town: str = Field("", description="Town.")
    postcode: str = Field("", description="Postcode.")
    region: str = Field("", description="Region.")
    country: str = Field("", description="Country, by name or ISO 3166-1 alpha-2 code: what most tables leave out.")


class AddressColumns(Settings):
    """The column of each part. A part without a column may be fixed for all records."""

    whole: Column | None = Field(None, description="The whole address in one cell; it may have line breaks.")
    line: str | None = Field(
        None,
        description="Or the whole address as a line of columns: `{Street} {No}, {Town}`. What is empty takes its "
        "punctuation along.",
    )
    number: Column | None = Field(None, description="House number, where it has a column of its own.")
    street: Column | None = Field(None, description="Street; it may carry the number too.")
    town: Column | None = Field(None, description="Town.")
    postcode: Column | None = Field(None, description="Postcode.")
    region: Column | None = Field(None, description="Region.")
    country: Column | None = Field(None, description="Country, by name or ISO 3166-1 alpha-2 code.")
    needed: list[Literal["whole", "number", "street", "town", "postcode", "region", "country"]] = Field(
        default_factory=list, description="Parts without which a record is *incomplete* and not asked about."
    )
    fixed: Fixed = Field(Fixed(), description="Parts that hold for every record whose own is empty, such as `country`.")
    words: dict[str, dict[str, str]] = Field(
        default_factory=dict,
        description="By column, words of its cells that stand for others: "
        '`words = { "Street" = { "Str." = "Street" } }`. Case does not matter.',
    )

    @field_validator("line")
    @classmethod
    def _line(cls, line: str | None) -> str | None:
        if line is not None:
            LineTemplate(line)
        return line

    @model_validator(mode="after")
    def _some_column(self) -> "AddressColumns":
        if self.line and self.whole:
            raise ValueError("whole and line are two ways to say the same: keep one")
        read = self.composing().raw_columns()
        if not read:
            raise ValueError('names no column: at least one part needs one, such as street = "Street"')
        if stray := [column for column in self.words if column not in read]:
            raise ValueError(f"words speaks of the column {stray[0]!r}, which is no part of the address")
        return self

    def columns(self) -> dict[str, str]:
        return {part: column for part in PARTS if (column := getattr(self, part, None))}

    def composing(self) -> Composing:
        fixed = {part: text for part, text in self.fixed if text}
        words = {column: {old.casefold(): new for old, new in change.items()} for column, change in self.words.items()}
        line = LineTemplate(self.line) if self.line else None
        return Composing(self.columns(), fixed, frozenset(self.needed), line, words)


class Ask(Settings):
    service: Path = Field(description="The service description, from the job's folder.")
    language: str = Field("", description="Language of the answers: the variable `language` of the description.")


class Judge(Settings):
    tolerance_m: float = Field(gt=0, description="Metres from the true place within which a point is right.")
    place_at: float = Field(0.8, gt=0, le=1, description="Confidence from which a point is *placed*.")
    area: list[float] | None = Field(
        None, description="Where the records lie: west, south, east, north, in degrees. No point outside is placed."
    )

    @field_validator("area")
    @classmethod
    def _box(cls, area: list[float] | None) -> list[float] | None:
        if area is None:
            return None
        if len(area) != 4:
            raise ValueError(f"area takes four numbers: west, south, east, north (got {len(area)})")
        west, south, east, north = area
        if not (-180 <= west <= 180 and -180 <= east <= 180 and -90 <= south < north <= 90):
            raise ValueError("area must be west, south, east, north in degrees, south below north")
        return area

    def thresholds(self) -> Thresholds:
        return Thresholds(self.tolerance_m, self.place_at, Area(*self.area) if self.area else None)


class AnswerColumns(Settings):
    """Which column gets which part of the answer; a column that isn't there is added at the right."""

    latitude: Column | None = Field(None, description="Degrees, WGS 84, six decimals.")
    longitude: Column | None = Field(None, description="Degrees, WGS 84, six decimals.")
    outcome: Column | None = Field(None, description="How the record ended.")
    confidence: Column | None = Field(None, description="Probability that the point is right, 0 to 1.")
    level: Column | None = Field(None, description="How fine the position is.")
    matched: Column | None = Field(None, description="The address that the service answered.")
    matched_number: Column | None = Field(None, description="House number of the address that the service answered.")
    matched_street: Column | None = Field(None, description="Its street.")
    matched_town: Column | None = Field(None, description="Its town.")
    matched_postcode: Column | None = Field(None, description="Its postcode.")
    matched_region: Column | None = Field(None, description="Its region.")
    matched_country: Column | None = Field(None, description="Its country.")
    reasons: Column | None = Field(None, description="Why the confidence is what it is.")
    geo: Column | None = Field(None, description="The point as a `geo:` URI (RFC 5870), which opens in map programs.")
    x: Column | None = Field(None, description="Easting of the point in the coordinate system `write.crs`.")
    y: Column | None = Field(None, description="Northing of the point in the coordinate system `write.crs`.")
    geometry: Column | None = Field(
        None, description="The point as the database's own type, where it has one: PostGIS (EWKB, SRID 4326)."
    )
    service: Column | None = Field(None, description="Who answered.")
    asked_at: Column | None = Field(None, description="When the answer came: ISO 8601, UTC.")
    extra: dict[str, Column] = Field(
        default_factory=dict,
        description="Columns for the fields that the description adds of its own (`[reply.extra]`), by their names.",
    )

    @model_validator(mode="after")
    def _pairs(self) -> "AnswerColumns":
        if (self.latitude is None) != (self.longitude is None):
            raise ValueError("latitude and longitude belong together")
        if (self.x is None) != (self.y is None):
            raise ValueError("x and y belong together")
        named = list(self.mapped().values())
        if len(set(named)) < len(named):
            raise ValueError("two answers can't go into one column")
        return self

    def mapped(self) -> dict[str, str]:
        """Column by part; latitude and longitude, where there are any, first."""
        ours = {part: column for part, column in self if isinstance(column, str)}
        return ours | {f"{EXTRA}{name}": column for name, column in self.extra.items()}


class Write(Settings):
    to: Path | None = Field(
        None, description="Where the copy with the answers goes, from the job's folder; `-` is standard output."
    )
    in_place: bool = Field(False, description="Write into the source itself instead.")
    backup: bool = Field(
        True, description="Before a file is changed in place, keep it as it was beside it, with the date in its name."
    )
    table: Name | None = Field(
        None,
        description="Or into this table of the records' database: a row for each record, by its key. Rows of records "
        "that are no longer there stay.",
    )
    doubtful: bool = Field(
        False, description="Write the coordinates of *doubtful* points too. Map `outcome` if you do."
    )
    create: bool | Literal["numeric"] = Field(
        False,
        description="Make the columns, and the table of answers, that a database lacks. Coordinates get the type "
        '`double precision`, or with `"numeric"` the type `numeric(9, 6)`.',
    )
    crs: str | None = Field(
        None,
        description="Coordinate system of the columns `x` and `y`: an EPSG code, such as `EPSG:3857` "
        "(`pip install 'yellowtor[crs]'`).",
    )
    columns: AnswerColumns = AnswerColumns()

    @field_validator("crs")
    @classmethod
    def _known(cls, crs: str | None) -> str | None:
        if crs is not None:
            Projection(crs)
        return crs

    @model_validator(mode="after")
    def _one_target(self) -> "Write":
        if self.in_place + (self.to is not None) + (self.table is not None) != 1:
            raise ValueError('needs one of to = "…" (a copy), in_place = true and table = "…"')
        if not self.columns.mapped():
            raise ValueError("columns names none: say at least latitude and longitude")
        if (self.crs is None) != (self.columns.x is None):
            raise ValueError("crs and columns.x, columns.y belong together")
        return self


class Markers(Settings):
    geojson: Path | None = Field(None, description="GeoJSON (RFC 7946) of the points.")
    page: Path | None = Field(None, description="A page with a map that needs no network.")
    title: str = Field("Markers", description="Title of the page.")
    under: list[Path] = Field(
        default_factory=list, description="GeoJSON files drawn under the markers: coastlines, roads."
    )


class Job(Settings):
    """A whole job. Paths are taken from the folder of the job file."""

    ledger: Path | None = Field(None, description="The ledger's file; else the one of the user, shared by all jobs.")
    records: Records
    address: AddressColumns
    ask: Ask
    judge: Judge
    write: Write
    markers: Markers = Markers()

    def held_columns(self) -> tuple[str | None, str | None]:
        """The columns with the coordinates that records have already."""
        records, columns = self.records, self.write.columns
        if records.latitude or self.write.table:
            return records.latitude, records.longitude
        return columns.latitude, columns.longitude

    def held_is_target(self) -> bool:
        """Whether those are the columns that the answers go into."""
        columns = self.write.columns
        return self.write.in_place and self.held_columns() == (columns.latitude, columns.longitude)

    @model_validator(mode="after")
    def _into_the_database(self) -> "Job":
        write = self.write
        if self.records.database is not None and write.to is not None:
            raise ValueError(
                'write.to is a file, and the records are in a database: say in_place = true or table = "…"'
            )
        if self.records.database is None and write.table is not None:
            raise ValueError('write.table is in a database, and the records are in a file: say to = "…"')
        if self.records.file == STANDARD and write.in_place:
            raise ValueError('standard input can\'t be written into: say to = "-" or to = "…"')
        if self.records.database is None and write.columns.geometry is not None:
            raise ValueError("write.columns.geometry is a column of a database, and the records are in a file")
        if self.records.query is not None and write.in_place:
            raise ValueError('a query can\'t be written into: say table = "…" under [write]')
        return self

    @model_validator(mode="after")
    def _address_is_safe(self) -> "Job":
        read = self.records.keys() + ([] if self.write.table else list(self.address.composing().raw_columns()))
        clash = set(read) & set(self.write.columns.mapped().values())
        if clash:
            raise ValueError(f"write.columns would overwrite {min(clash)!r}, which the job reads")
        return self
