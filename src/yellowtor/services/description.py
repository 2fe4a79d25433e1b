"""The service description: a TOML file that says how to ask a service and how to read its reply.

The models here are the language; docs/service-description.md is made from them.
"""

from typing import Annotated, Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import uritemplate
from pydantic import AfterValidator, Field, field_validator, model_validator

from yellowtor.addresses.address import PARTS
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import DayWindow
from yellowtor.answers.kinds import Kind
from yellowtor.answers.levels import Level, Method
from yellowtor.answers.paths import compile_first, compile_path
from yellowtor.answers.reading import Reading, Rule
from yellowtor.services.variables import Variable
from yellowtor.settings import Settings

ADDRESS = ("q", *(part for part in PARTS if part != "whole"))
BUILT_IN = (*ADDRESS, "language", "limit")


def _a_path(path: str) -> str:
    compile_path(path)
    return path


JsonPath = Annotated[str, AfterValidator(_a_path)]


class About(Settings):
    name: str = Field(description="What reports call the service; part of every question's key.", min_length=1)
    attribution: str = Field("", description="The credit that outputs with its data must show.")


class Forward(Settings):
    url: str = Field(
        description="URI template (RFC 6570) of the request, sent with GET. Variables: `q` (the address in one "
        "line), `number`, `street`, `town`, `postcode`, `region`, `country`, `language`, `limit`, and your own."
    )
    candidates: int = Field(5, ge=1, le=100, description="How many candidates to ask for: the variable `limit`.")
    headers: dict[str, str] = Field(
        default_factory=dict, description="Header fields; their values are templates with the same variables."
    )


class Allowance(Settings):
    account: str | None = Field(None, description="The allowance that requests are charged to; else the name.")
    per_second: float | None = Field(None, gt=0, description="Requests a second; without it, no pace is kept.")
    parallel: int = Field(4, ge=1, le=256, description="Requests in flight at the same time.")
    per_day: int | None = Field(None, ge=1, description="Requests in a calendar day.")
    zone: str = Field("UTC", description="IANA time zone in which that day begins.")
    tries: int = Field(4, ge=1, le=20, description="Requests for one question before it has failed.")
    timeout_s: float = Field(20.0, gt=0, le=600, description="Seconds after which a request is given up.")

    @field_validator("zone")
    @classmethod
    def _zone(cls, zone: str) -> str:
        try:
            ZoneInfo(zone)
        except (ZoneInfoNotFoundError, ValueError) as error:
            raise ValueError(f"{zone!r} is not an IANA time zone, such as UTC") from error
        return zone


class Fields(Settings):
    """JSONPaths (RFC 9535), each from one candidate."""

    latitude: JsonPath = Field(description="Degrees, WGS 84.")
    longitude: JsonPath = Field(description="Degrees, WGS 84.")
    level: JsonPath | None = Field(None, description="The service's own word for how fine the position is.")
    label: JsonPath | None = Field(None, description="The place in one readable line.")
    number: JsonPath | None = Field(None, description="House number.")
    street: JsonPath | None = Field(None, description="Street.")
    town: JsonPath | None = Field(None, description="Town.")
    postcode: JsonPath | None = Field(None, description="Postcode.")
    region: JsonPath | None = Field(None, description="Region.")
    country: JsonPath | None = Field(None, description="Country by name.")
    country_code: JsonPath | None = Field(None, description="Country by its ISO 3166-1 alpha-2 code.")


class LevelWord(Settings):
    level: Level = Field(description="One of: " + ", ".join(f"`{level}`" for level in Level) + ".")
    method: Method | None = Field(None, description="One of: " + ", ".join(f"`{method}`" for method in Method) + ".")


class KindRule(Settings):
    """The first rule that holds gives the kind of reply; when none does, the status does (RFC 9110)."""

    status: int | None = Field(None, ge=100, le=599, description="Holds for this HTTP status only.")
    path: JsonPath | None = Field(None, description="Looks at what this JSONPath finds in the body.")
    equals: Any = Field(None, description="The value that `path` must find.")
    kind: Kind = Field(description="One of: " + ", ".join(f"`{kind}`" for kind in Kind) + ".")

    @model_validator(mode="after")
    def _says_something(self) -> "KindRule":
        if self.path is None and self.status is None:
            raise ValueError("a rule needs a status, or a path with equals, or both")
        if (self.path is None) != (self.equals is None):
            raise ValueError("path and equals belong together")
        return self


class ReplyRules(Settings):
    candidates: JsonPath = Field(description="JSONPath (RFC 9535) of the candidates in the body.")
    message: JsonPath | None = Field(None, description="Where the service says in words what went wrong.")
    fields: Fields
    box: list[JsonPath] = Field(
        default_factory=list, description="Four paths from a candidate to its box: west, south, east, north."
    )
    levels: dict[str, LevelWord] = Field(
        default_factory=dict, description="The service's own words for the level, each with one of ours."
    )
    rules: list[KindRule] = Field(default_factory=list)

    @field_validator("box")
    @classmethod
    def _four(cls, box: list[str]) -> list[str]:
        if len(box) not in (0, 4):
            raise ValueError(f"box takes four paths: west, south, east, north (got {len(box)})")
        return box


class Description(Settings):
    """A whole service description."""

    service: About
    variables: dict[str, Variable] = Field(default_factory=dict)
    forward: Forward
    allowance: Allowance = Allowance()
    reply: ReplyRules

    @model_validator(mode="after")
    def _templates(self) -> "Description":
        known = {*BUILT_IN, *self.variables}
        if clash := set(BUILT_IN) & set(self.variables):
            raise ValueError(f"variables.{min(clash)}: this name is taken by what is asked")
        for template in (self.forward.url, *self.forward.headers.values()):
            for name in uritemplate.variables(template):
                if name not in known:
                    raise ValueError(f"{{{name}}} is not a variable (known: {', '.join(sorted(known))})")
        if not {*uritemplate.variables(self.forward.url)} & set(ADDRESS):
            raise ValueError("forward.url has no variable for the address: {q}, {street}, {town} …")
        return self

    @property
    def account(self) -> str:
        return self.allowance.account or self.service.name

    @property
    def pace(self) -> Pace:
        return Pace(self.allowance.per_second)

    @property
    def day(self) -> DayWindow:
        return DayWindow(self.allowance.per_day, ZoneInfo(self.allowance.zone))

    def reading(self) -> Reading:
        """The reply section, compiled."""
        reply = self.reply
        return Reading(
            rules=[Rule(r.kind, r.status, compile_path(r.path) if r.path else None, r.equals) for r in reply.rules],
            candidates=compile_path(reply.candidates),
            latitude=compile_first(reply.fields.latitude),
            longitude=compile_first(reply.fields.longitude),
            parts={
                name: compile_first(path)
                for name, path in reply.fields
                if path and name not in {"latitude", "longitude"}
            },
            box=[compile_first(path) for path in reply.box],
            message=compile_path(reply.message) if reply.message else None,
            levels={word: (to.level, to.method) for word, to in reply.levels.items()},
        )
