"""The job: a TOML file that says where the records are, which services to ask and what to write.

docs/job-file.md is made from these models.
"""

from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from yellowtor.addresses.leaving_out import LeavingOut
from yellowtor.answers.geography.levels import Level
from yellowtor.answers.judging.service_choice import AskNext
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.position_composer import PositionComposer
from yellowtor.caps import CapRule, check_caps
from yellowtor.contracts.position import Area
from yellowtor.contracts.subject import Composer
from yellowtor.run.jobs.marker_settings import Markers
from yellowtor.run.jobs.record_settings import STANDARD, AddressColumns, Records
from yellowtor.run.jobs.write_settings import Write
from yellowtor.settings import Settings


class Next(Settings):
    """Each key is a reason to ask the next service."""

    nothing_found: bool = Field(True, description="The service found nothing.")
    failed: bool = Field(True, description="The service gave no usable reply, refused the key, or kept failing.")
    below: float | None = Field(
        None, gt=0, le=1, description="The confidence is below this. Default: `judge.place_at`."
    )
    coarser_than: Level | None = Field(
        None,
        description="The point is coarser than this level, such as `segment`; docs/outcomes.md has the ranks.",
    )
    outside_area: bool = Field(True, description="The point is outside `judge.area`.")
    spent: bool = Field(False, description="The service's quota is spent. Without this, the records wait for it.")


class Ask(Settings):
    service: Path | None = Field(None, description="The service description, from the job's folder.")
    services: list[Path] = Field(
        default_factory=list,
        description="Or several, in the order in which they are asked. The best answer wins. `[ask.next]` says when "
        "the next one is asked.",
    )
    language: str = Field("", description="Language of the answers: the variable `language` of the description.")
    countries: list[Annotated[str, Field(pattern="^[A-Za-z]{2}$")]] = Field(
        default_factory=list,
        description="ISO 3166-1 alpha-2 codes of the countries that answers are limited to: the variable `countries`, "
        "with commas between them.",
    )
    leave_out: list[Literal["unit", "care of", "PO box", "notes"]] = Field(
        default_factory=list,
        description="Parts of an address that are not sent: `unit` (`Apt 4`, `2nd floor`), `care of`, `PO box`, "
        "`notes` (in brackets, or behind a dash). `preview` shows what is found. They never count in the confidence.",
    )
    decimals: int = Field(
        5, ge=0, le=7, description="In reverse: the precision of a question, in decimals of a degree; 5 is 1 m."
    )
    confirm_above: float | None = Field(
        None, ge=0, description="If a run may cost more than this, it asks before it sends anything, or needs `--yes`."
    )
    caps: list[CapRule] = Field(
        default_factory=list,
        description="The job's own limits, for all of its services together.",
    )
    next: Next = Field(Next(), description="When the next service is asked.")

    @model_validator(mode="after")
    def _some(self) -> "Ask":
        if (self.service is None) == (not self.services):
            raise ValueError('needs either service = "…" or services = ["…", "…"]')
        if len(set(self.services)) < len(self.services):
            raise ValueError("services names one twice")
        check_caps(self.caps)
        return self

    def all(self) -> list[Path]:
        """The descriptions in the order in which their services are asked."""
        return [self.service] if self.service is not None else self.services


class Judge(Settings):
    tolerance_m: float = Field(gt=0, description="Metres from the true place within which a point is right.")
    place_at: float = Field(0.9, gt=0, le=1, description="The lowest confidence of a *placed* point.")
    level: Level | None = Field(
        None,
        description="The coarsest level that is accepted, such as `segment` (a street) or `address area` (a town); "
        "whatever is finer is not compared. Default: the finest part that a record asks for. docs/outcomes.md has the "
        "ranks.",
    )
    must_agree: list[Literal["country", "region", "town", "postcode", "street", "number"]] = Field(
        ["country", "number"],
        description="Parts that no *placed* answer may contradict, whatever the confidence. A part that the answer or "
        "the record lacks contradicts nothing.",
    )
    calibration: Path | None = Field(
        None,
        description="The file in which `yellowtor calibrate` has put what your decisions say of the services, from the "
        "job's folder.",
    )
    area: list[float] | None = Field(
        None,
        description="The area of the records: west, south, east, north, in degrees. No point outside is placed. The "
        "variables `west` … `north` of a description can tell the service.",
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
        if west == east:
            raise ValueError(f"area is empty: west and east are both {west:g}")
        if west > east and west - east < 180:
            raise ValueError(
                f"area would go from {west:g} eastward to {east:g}, {360 - west + east:g} degrees around the globe: "
                "are west and east swapped?"
            )
        return area

    def thresholds(self) -> Thresholds:
        return Thresholds(
            self.tolerance_m,
            self.place_at,
            Area(*self.area) if self.area else None,
            self.level,
            tuple(sorted(set(self.must_agree))),
        )


class Job(Settings):
    """A whole job. Paths are taken from the folder of the job file."""

    name: str | None = Field(
        None,
        min_length=1,
        description="The job's name in the ledger, if several people or machines have a copy of it. Default: the "
        "path of the job file.",
    )
    ledger: str | None = Field(
        None,
        min_length=1,
        description="The ledger's file, relative to the job's folder. Default: your own ledger, for all your jobs. "
        "Or a PostgreSQL database to share: `postgresql://user@host/name` (`pip install "
        "'yellowtor[postgres]'`).",
    )
    ledger_password_from: str | None = Field(
        None, description="Environment variable (or line of `.env`) with the password of that PostgreSQL."
    )
    direction: Literal["forward", "reverse"] = Field(
        "forward",
        description="`reverse`: the records have positions (`records.latitude`, `records.longitude`) and get "
        "addresses.",
    )
    records: Records
    address: AddressColumns | None = Field(None, description="How an address is composed. Needed, except in `reverse`.")
    ask: Ask
    judge: Judge
    write: Write
    markers: Markers = Field(default_factory=Markers)

    @property
    def in_reverse(self) -> bool:
        return self.direction == "reverse"

    def composing(self, decimal: str = ".") -> Composer:
        """How a record becomes what is asked about; decimal is the mark of the source's numbers."""
        if self.address is not None:
            composing = self.address.composing()
            return LeavingOut(composing, tuple(sorted(self.ask.leave_out))) if self.ask.leave_out else composing
        records = self.records
        assert records.latitude is not None and records.longitude is not None, "the model sees to it"  # noqa: PT018
        area = self.judge.thresholds().area
        return PositionComposer(records.latitude, records.longitude, self.ask.decimals, decimal, area)

    def context(self) -> frozenset[str]:
        """The parts that are fixed for all records: an answer that confirms nothing else confirms nothing."""
        return frozenset(part for part, text in self.address.fixed if text) if self.address else frozenset()

    def ask_next(self) -> AskNext:
        """When the next service is asked."""
        next_service = self.ask.next
        below = self.judge.place_at if next_service.below is None else next_service.below
        return AskNext(
            below, next_service.nothing_found, next_service.failed, next_service.coarser_than, next_service.outside_area
        )

    def held_columns(self) -> tuple[str | None, str | None]:
        """The columns with the coordinates that records have already."""
        records = self.records
        columns = self.write.columns
        if records.latitude or self.write.table:
            return records.latitude, records.longitude
        return columns.latitude, columns.longitude

    def held_is_target(self) -> bool:
        """Whether those are the columns that the answers go into."""
        columns = self.write.columns
        return self.write.in_place and self.held_columns() == (columns.latitude, columns.longitude)

    @model_validator(mode="after")
    def _one_direction(self) -> "Job":
        if self.in_reverse and self.address is not None:
            raise ValueError('direction = "reverse" asks about positions: [address] has no place there')
        if self.in_reverse and self.records.latitude is None:
            raise ValueError('direction = "reverse" needs the positions: records.latitude and records.longitude')
        if self.in_reverse and self.ask.leave_out:
            raise ValueError('direction = "reverse" sends no address: ask.leave_out has no place there')
        if not self.in_reverse and self.address is None:
            raise ValueError("address is missing: which columns make it")
        return self

    @model_validator(mode="after")
    def _into_the_database(self) -> "Job":
        write = self.write
        if self.records.database is not None and write.to is not None:
            raise ValueError(
                'write.to is a file, and the records are in a database: set in_place = true or table = "…"'
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
        read = self.records.keys() + ([] if self.write.table else list(self.composing().raw_columns()))
        clash = set(read) & set(self.write.columns.mapped().values())
        if clash:
            raise ValueError(f"write.columns would overwrite {min(clash)!r}, which the job reads")
        return self
