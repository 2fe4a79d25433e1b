"""The description of a reference table: a service that is a table of addresses or places on this machine."""

from pathlib import Path
from typing import Annotated

from pydantic import Field, model_validator

from yellowtor.answers.geography.levels import LEVELS, Level
from yellowtor.crs_setting import SystemCode
from yellowtor.settings import Settings
from yellowtor.text_settings import TextFile

Column = Annotated[str, Field(min_length=1)]


class AboutReference(Settings):
    name: str = Field(description="The name of the reference in reports; part of every question's key.", min_length=1)
    attribution: str = Field("", description="The credit that its licence requires; shown in outputs with its data.")


class ReferenceColumns(Settings):
    """The column of each part. A row with a street is an address; one without a street is a place."""

    number: Column | None = Field(None, description="House number. Default: it is in the street.")
    street: Column | None = Field(None, description="Street; it may contain the house number.")
    town: Column | None = Field(None, description="Town; of a table of places, its name.")
    district: Column | None = Field(None, description="Part of a town, or suburb. It is found like a town.")
    postcode: Column | None = Field(None, description="Postcode.")
    region: Column | None = Field(None, description="Region.")
    country: Column | None = Field(None, description="Country, by name or ISO 3166-1 alpha-2 code.")
    latitude: Column | None = Field(
        None, description="Latitude in degrees, or northing of `crs`. Default: that of the features' points."
    )
    longitude: Column | None = Field(None, description="Longitude in degrees, or easting of `crs`.")
    level: Column | None = Field(None, description="A column whose values say how fine the position is (`levels`).")
    population: Column | None = Field(None, description="Population or another weight: of namesakes, the larger first.")
    alternatives: Column | None = Field(
        None, description="Other names of a town or place, separated by a semicolon or a vertical bar."
    )
    id: Column | None = Field(None, description="A number or name of the row that is never the same twice.")
    valid_from: Column | None = Field(None, description="The first day on which a row is valid, as ISO 8601.")
    valid_until: Column | None = Field(None, description="The last such day.")

    def named(self) -> dict[str, str]:
        """The columns that are named, by what they are."""
        return {name: column for name, column in self if column}


class FixedParts(Settings):
    """Values for rows whose own part is empty."""

    town: str = Field("", description="Town.")
    region: str = Field("", description="Region.")
    country: str = Field("", description="Country, by name or ISO 3166-1 alpha-2 code.")


class Reference(Settings):
    """The table: a file, a folder of files, or a table of a database."""

    file: Path | None = Field(
        None,
        description="The file, relative to the description's folder: any that a job can read, or GeoPackage (.gpkg); "
        "or a folder, all of whose files are read.",
    )
    database: str | None = Field(None, description="Or the URL of a database, as in `records.database` of a job.")
    password_from: str | None = Field(
        None, description="Environment variable (or line of `.env`) with the password of the database."
    )
    table: str | None = Field(
        None, description="Table or view of the database, named table of a workbook, or layer of a GeoPackage."
    )
    sheet: str | None = Field(None, description="The sheet of a workbook. Default: the first.")
    text: TextFile = Field(TextFile(), description="The dialect of delimited text; what is not stated is detected.")
    crs: SystemCode | None = Field(
        None, description="Coordinate system of the positions: an EPSG code (`pip install 'yellowtor[crs]'`)."
    )
    level: Level | None = Field(
        None, description="How fine the positions are. Default: `building` for an address, `address area` for a place."
    )
    levels: dict[str, Level] = Field(
        default_factory=dict, description="The values of `columns.level`, each with one of our levels."
    )
    within_m: float = Field(
        250.0,
        gt=0,
        le=100_000,
        description="In reverse: how far from the position the nearest address may be, in metres.",
    )
    index: Path | None = Field(
        None, description="The folder for the index. Default: one in your cache folder; it can be deleted at any time."
    )
    columns: ReferenceColumns
    fixed: FixedParts = FixedParts()

    @model_validator(mode="after")
    def _whole(self) -> "Reference":
        if (self.file is None) == (self.database is None):
            raise ValueError('needs either file = "…" or database = "…", not both')
        if self.database is not None and self.table is None:
            raise ValueError('needs table = "…" with a database')
        if self.database is None and self.password_from is not None:
            raise ValueError("password_from belongs to a database, and the reference is in a file")
        named = self.columns.named()
        if not named.keys() & {"street", "town", "district", "postcode", "region"}:
            raise ValueError("columns names no part: at least one of street, town, district, postcode and region")
        if ("latitude" in named) != ("longitude" in named):
            raise ValueError("columns.latitude and columns.longitude belong together")
        if self.levels and "level" not in named:
            raise ValueError("levels needs columns.level: the column with these values")
        return self

    def level_words(self) -> dict[str, Level]:
        """The values of the level column: those of the description, and the names of the levels themselves."""
        return {**LEVELS, **self.levels}


class ReferenceDescription(Settings):
    """A whole description of a reference table."""

    service: AboutReference
    reference: Reference
