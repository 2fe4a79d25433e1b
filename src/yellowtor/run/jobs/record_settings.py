"""The part of a job that says where the records are and how an address is composed."""

from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, field_validator, model_validator

from yellowtor.addresses.composing import AddressComposer
from yellowtor.addresses.line_template import LineTemplate
from yellowtor.contracts.address import PARTS
from yellowtor.settings import Settings
from yellowtor.text_settings import TextFile


def read_share(value: Any) -> Any:
    """A share as people write it: 0.02, or `2 %`.

    >>> read_share("2 %"), read_share(0.02)
    (0.02, 0.02)
    """
    if isinstance(value, str) and value.strip().endswith("%"):
        try:
            return float(value.strip().removesuffix("%")) / 100
        except ValueError:
            return value
    return value


Column = Annotated[str, Field(min_length=1)]
Name = Annotated[str, Field(pattern=r"^[^.]+(\.[^.]+)?$")]
Share = Annotated[float, BeforeValidator(read_share), Field(ge=0, le=1)]
STANDARD = Path("-")  # standard input as a source, standard output as a target


class Records(Settings):
    """Either a file or a table of a database."""

    file: Path | None = Field(
        None,
        description="The file, relative to the job's folder: a workbook (.xlsx, .xlsm, .ods; read-only .xls, "
        ".xlsb), delimited text (.csv, .tsv, .txt, also .gz), JSON lines (.jsonl, .ndjson, also .gz), a "
        "JSON array (.json), GeoJSON points (.geojson, .json) or .parquet. `-` is standard input: "
        "delimited text. Or many .parquet files with the same columns: a folder, or a pattern such as "
        "`register/*.parquet`; also at a URL, such as `s3://store/register` (`pip install 'yellowtor[remote]'`).",
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
        None, description="Instead of `table`: a SELECT that returns the records. The answers go into `write.table`."
    )
    only: str | None = Field(
        None,
        description="SQL condition that selects the records; the others stay unchanged. The database runs it; for "
        "files, DuckDB does, with every column as text and an empty cell as NULL (`pip install "
        "'yellowtor[select]'`).",
    )
    first: str | None = Field(
        None,
        description="SQL order of the records: the first ones are asked first.",
    )
    sheet: str | None = Field(None, description="The sheet of a workbook. Default: the first.")
    block: str | None = Field(None, description="The cells with the records, header first: `B4`, `B4:H` or `B4:H200`.")
    key: Column | Annotated[list[Column], Field(min_length=1)] | None = Field(
        None,
        description="The column, or list of columns, that identifies a record. Needed for files. Default for a "
        "table: its primary key.",
    )
    name: Column | None = Field(None, description="The column with the record's name, shown beside markers.")
    latitude: Column | None = Field(
        None, description="The column with the latitude that a record already has. Default: that of `write.columns`."
    )
    longitude: Column | None = Field(None, description="The column with the longitude.")
    keep: bool = Field(
        True,
        description="`true`: records with their own coordinates are *kept* and not asked, as long as their address "
        "does not change. `false`: they are asked too.",
    )
    text: TextFile = Field(TextFile(), description="The dialect of delimited text; what is not stated is detected.")

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
    """Values for all records."""

    number: str = Field("", description="House number.")
    street: str = Field("", description="Street.")
    town: str = Field("", description="Town.")
    postcode: str = Field("", description="Postcode.")
    region: str = Field("", description="Region.")
    country: str = Field("", description="Country, by name or ISO 3166-1 alpha-2 code. Most tables lack it.")


class AddressColumns(Settings):
    """The column of each part. A part without a column may be fixed."""

    whole: Column | None = Field(None, description="The whole address in one cell, with or without line breaks.")
    line: str | None = Field(
        None,
        description="Or the whole address as a line of columns: `{Street} {No}, {Town}`. An empty column leaves no "
        "punctuation.",
    )
    number: Column | None = Field(None, description="House number, if it has its own column.")
    street: Column | None = Field(None, description="Street; it may contain the house number.")
    town: Column | None = Field(None, description="Town.")
    postcode: Column | None = Field(None, description="Postcode.")
    region: Column | None = Field(None, description="Region.")
    country: Column | None = Field(None, description="Country, by name or ISO 3166-1 alpha-2 code.")
    needed: list[Literal["whole", "number", "street", "town", "postcode", "region", "country"]] = Field(
        default_factory=list, description="Parts that every record needs; without one it is *incomplete* and not asked."
    )
    fixed: Fixed = Field(Fixed(), description="Parts for every record whose own part is empty, such as `country`.")
    words: dict[str, dict[str, str]] = Field(
        default_factory=dict,
        description='Abbreviations by column: `words = { "Street" = { "Str." = "Street" } }`. Case does not matter.',
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
            raise ValueError("use either whole or line")
        read = self.composing().raw_columns()
        if not read:
            raise ValueError('names no column: at least one part needs one, such as street = "Street"')
        if stray := [column for column in self.words if column not in read]:
            raise ValueError(f"words names the column {stray[0]!r}, which is not part of the address")
        return self

    def columns(self) -> dict[str, str]:
        return {part: column for part in PARTS if (column := getattr(self, part, None))}

    def composing(self) -> AddressComposer:
        fixed = {part: text for part, text in self.fixed if text}
        words = {column: {old.casefold(): new for old, new in change.items()} for column, change in self.words.items()}
        line = LineTemplate(self.line) if self.line else None
        return AddressComposer(self.columns(), fixed, frozenset(self.needed), line, words)
