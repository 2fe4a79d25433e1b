"""The part of a job that says where the answers go."""

from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Self

from pydantic import Field, create_model, field_validator, model_validator

from yellowtor.addresses.line_template import LineTemplate
from yellowtor.answers.answer_columns import COLUMNS
from yellowtor.answers.record_answers import EXTRA
from yellowtor.contracts.address import PARTS
from yellowtor.crs_setting import SystemCode
from yellowtor.run.jobs.record_settings import Column, Name, Share
from yellowtor.settings import Settings


class ColumnSettings(Settings):
    """The column for each part of the answer. A missing column is added at the right."""

    if TYPE_CHECKING:
        latitude: str | None = None
        longitude: str | None = None
        x: str | None = None
        y: str | None = None
        geometry: str | None = None
        extra: dict[str, str] = {}

    @model_validator(mode="after")
    def _pairs(self) -> Self:
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


_FIELDS: dict[str, Any] = {
    **{column.name: (Column | None, Field(None, description=column.description)) for column in COLUMNS},
    "extra": (
        dict[str, Column],
        Field(
            default_factory=dict,
            description="Columns for the fields that a description adds (`[reply.extra]`), by their names.",
        ),
    ),
}
if TYPE_CHECKING:
    AnswerColumns = ColumnSettings
else:
    AnswerColumns = create_model("AnswerColumns", __base__=ColumnSettings, __doc__=ColumnSettings.__doc__, **_FIELDS)


class Write(Settings):
    to: Path | None = Field(
        None,
        description="The copy with the answers, relative to the job's folder; `-` is standard output. If "
        "`records.file` is a folder or a pattern, `to` is a folder, or its URL; its files have the same names.",
    )
    in_place: bool = Field(False, description="Write into the source itself instead.")
    backup: bool = Field(True, description="Keep a dated copy of the file before it is changed in place.")
    if_edited: Literal["stop", "backup"] = Field(
        "stop",
        description="If somebody changed the copy `to` since it was written: `stop` before the first request, or "
        "keep a dated `backup` of it and write a new one.",
    )
    corrections: bool = Field(
        False,
        description="What people change in the copy `to` are their decisions: another address is asked instead, other "
        "coordinates are a pin. Other cells are subject to `if_edited`.",
    )
    most_moved: Share | None = Field(
        None,
        description='Write nothing if more than this share of the placed records, such as `"2 %"`, would move farther '
        "than `judge.tolerance_m` from where they were written: the service or the source has changed. "
        "`run --most-moved` takes another share for once.",
    )
    table: Name | None = Field(
        None,
        description="Or into this table of the same database: a row for each record, by its key. Rows of vanished "
        "records stay.",
    )
    doubtful: bool = Field(
        False,
        description="Write the coordinates of *doubtful* points too; in reverse, their addresses. Map `outcome` if "
        "you do.",
    )
    postal: list[str] = Field(
        default_factory=lambda: ["{number} {street}", "{postcode} {town}", "{region}", "{country}"],
        description="The lines of a postal address, made from the parts of the matched address. Empty lines are "
        "left out.",
    )
    create: bool | Literal["numeric"] = Field(
        False,
        description="Create missing columns, and the table of answers. Coordinates get the type `double precision`, "
        'or with `"numeric"` the type `numeric(9, 6)`.',
    )
    crs: SystemCode | None = Field(
        None,
        description="Coordinate system of the columns `x` and `y`: an EPSG code, such as `EPSG:3857` "
        "(`pip install 'yellowtor[crs]'`).",
    )
    columns: AnswerColumns = Field(default_factory=AnswerColumns)

    @field_validator("postal")
    @classmethod
    def _of_parts(cls, lines: list[str]) -> list[str]:
        for line in lines:
            if stray := set(LineTemplate(line).columns) - set(PARTS) - {"country_code"}:
                raise ValueError(f"{{{min(stray)}}} is not part of an address (there are: {', '.join(PARTS[1:])})")
        return lines

    @model_validator(mode="after")
    def _one_target(self) -> "Write":
        if self.in_place + (self.to is not None) + (self.table is not None) != 1:
            raise ValueError('needs one of to = "…" (a copy), in_place = true and table = "…"')
        if not self.columns.mapped():
            raise ValueError("columns is empty: name at least latitude and longitude")
        if self.corrections and self.to is None:
            raise ValueError("corrections are taken from the copy: they need to")
        if (self.crs is None) != (self.columns.x is None):
            raise ValueError("crs and columns.x, columns.y belong together")
        return self
