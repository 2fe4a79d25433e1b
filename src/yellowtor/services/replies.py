"""The half of a service description that says how its replies are read, and what each of them means."""

import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import cache
from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.geography.projection import Projection
from yellowtor.answers.replies.body_text import is_encoding
from yellowtor.answers.replies.json_paths import Fields, Finder
from yellowtor.answers.replies.kind_rules import Rule, occurs
from yellowtor.answers.replies.kinds import Kind
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.reading import Reading, box_names
from yellowtor.answers.replies.reply_formats import JsonShape, Shape, TextShape, XmlShape
from yellowtor.settings import Settings

SPLIT_INTO = {"number", "street", "town", "postcode", "region", "country", "country_code", "level", "label"}
Format = Literal["json", "geojson", "json lines", "xml", "text"]


class Paths(Settings):
    """Paths from one candidate: JSONPath (RFC 9535), XPath 1.0, or the number or name of a column."""

    latitude: str | None = Field(None, description="Degrees, WGS 84; with `crs`, the northing.")
    longitude: str | None = Field(None, description="Degrees, WGS 84; with `crs`, the easting.")
    position: str | None = Field(
        None,
        description="Or both in one: an array, or a text such as `54.1, 8.2`, `54°6′N 8°12′E`, `POINT(8.2 54.1)` or "
        "`geo:54.1,8.2`. Needs `order`.",
    )
    level: str | None = Field(None, description="The service's own word for how fine the position is.")
    label: str | None = Field(None, description="The place in one readable line.")
    number: str | None = Field(None, description="House number.")
    street: str | None = Field(None, description="Street.")
    town: str | None = Field(None, description="Town.")
    postcode: str | None = Field(None, description="Postcode.")
    region: str | None = Field(None, description="Region.")
    country: str | None = Field(None, description="Country by name.")
    country_code: str | None = Field(None, description="Country by its ISO 3166-1 alpha-2 code.")
    radius: str | None = Field(None, description="How far off the place may lie, in metres.")
    score: str | None = Field(None, description="How sure the service says it is, on the scale of `score`.")
    partial: str | None = Field(None, description="Where it says that only a part matched, in a word of `partial`.")

    @model_validator(mode="after")
    def _one_position(self) -> "Paths":
        if (self.latitude is None) != (self.longitude is None):
            raise ValueError("latitude and longitude belong together")
        if self.latitude is not None and self.position is not None:
            raise ValueError("needs either latitude and longitude, or position, not both")
        return self


class LevelWord(Settings):
    level: Level = Field(description="One of: " + ", ".join(f"`{level}`" for level in Level) + ".")
    method: Method | None = Field(None, description="One of: " + ", ".join(f"`{method}`" for method in Method) + ".")


class Scale(Settings):
    """The ends of the scale of the service's own score."""

    worst: float = Field(0.0, description="The score of what it does not believe itself.")
    best: float = Field(1.0, description="The score of what it is certain of.")

    @model_validator(mode="after")
    def _apart(self) -> "Scale":
        if self.worst == self.best:
            raise ValueError("worst and best are the same")
        return self


class KindRule(Settings):
    """The first rule all of which holds gives the kind of reply; when none does, the status does (RFC 9110)."""

    status: int | list[int] | None = Field(None, description="Holds for this HTTP status only, or for these.")
    path: str | None = Field(None, description="Holds if this path finds something, anywhere in the body.")
    absent: str | None = Field(None, description="Holds if this path finds nothing.")
    header: str | None = Field(None, description="Holds if the reply has this header field.")
    equals: Any = Field(None, description="And `path`, or `header`, must say just this.")
    matches: str | None = Field(None, description="Or this regular expression must occur in what it says.")
    body: str | None = Field(None, description="Holds if this regular expression occurs in the body, whatever it is.")
    kind: Kind = Field(description="One of: " + ", ".join(f"`{kind}`" for kind in Kind) + ".")

    @field_validator("matches", "body")
    @classmethod
    def _expression(cls, text: str | None) -> str | None:
        occurs(text or "")
        return text

    @field_validator("status")
    @classmethod
    def _of_http(cls, status: int | list[int] | None) -> int | list[int] | None:
        numbers = status if isinstance(status, list) else [] if status is None else [status]
        if stray := [number for number in numbers if not 100 <= number <= 599]:
            raise ValueError(f"{stray[0]} is no HTTP status: the rule can never hold")
        return status

    @model_validator(mode="after")
    def _says_something(self) -> "KindRule":
        if not self.conditions():
            raise ValueError("a rule needs a condition: status, path, absent, header or body")
        if self.path and self.header:
            raise ValueError("path and header need a rule each: equals and matches speak of one of them")
        if (self.equals is not None or self.matches) and not (self.path or self.header):
            raise ValueError("equals and matches need a path or a header")
        if self.equals is not None and self.matches:
            raise ValueError("equals and matches are two ways to say what is wanted: keep one")
        if self.path and self.path == self.absent:
            raise ValueError("path and absent are the same: the rule can never hold")
        return self

    def conditions(self) -> set[str]:
        """What must hold, each as a text; of several statuses, all as one."""
        told = {name: value for name, value in self if name not in {"kind", "status"} and value is not None}
        if "equals" in told or "matches" in told:
            told["said"] = (told.get("path"), told.get("header"), told.pop("equals", None), told.pop("matches", None))
        status = {f"status {sorted(self.statuses())}"} if self.statuses() else set()
        return status | {f"{name} {value}" for name, value in told.items()}

    def statuses(self) -> frozenset[int]:
        return frozenset(self.status if isinstance(self.status, list) else [] if self.status is None else [self.status])

    def hides(self, later: "KindRule") -> bool:
        """Whether a later rule can never be the first that holds."""
        mine = self.statuses()
        other = later.statuses()
        if mine and not (other and other <= mine):
            return False
        rest = {text for text in self.conditions() if not text.startswith("status ")}
        return rest <= later.conditions()

    def said(self) -> Callable[[str], bool] | None:
        if self.equals is not None:
            wanted = as_written(self.equals)
            return lambda text: text == wanted
        if self.matches:
            return occurs(self.matches)
        return bool if self.header else None


class Split(Settings):
    """A text of which parts are taken, where a place has not all of them in fields of their own."""

    text: str = Field(description="Path to the text.")
    pattern: str = Field(
        description="Regular expression whose named groups are parts: "
        "`(?P<number>\\d+) (?P<street>[^,]+), (?P<town>.+)`."
    )

    @field_validator("pattern")
    @classmethod
    def _named_groups(cls, pattern: str) -> str:
        occurs(pattern)
        import regex

        names = set(regex.compile(pattern).groupindex)
        if not names or (stray := names - SPLIT_INTO):
            raise ValueError(
                f"needs named groups, each one of: {', '.join(sorted(SPLIT_INTO))}"
                + (f" (got {min(stray)})" if names else "")
            )
        return pattern


class ReplyRules(Settings):
    format: Format = Field(
        "json",
        description="The shape of the body. `geojson` is JSON as in RFC 7946; of `json lines`, paths see the list of "
        "all lines (`$[*]`).",
    )
    encoding: str | None = Field(
        None,
        description="How its text is encoded, such as `iso-8859-1`, where the reply does not say so, or says it "
        "wrongly. A byte order mark always counts.",
    )
    candidates: str | None = Field(
        None,
        description="Path to the candidates in the body. Of `geojson` the features, of `text` every line: else needed.",
    )
    message: str | None = Field(None, description="Where the service says in words what went wrong.")
    decimal: Literal[".", ","] = Field(".", description="The mark of its decimals, where numbers are texts.")
    order: Literal["latitude longitude", "longitude latitude"] | None = Field(
        None,
        description="The order within `position`, where that does not say it itself; of a GeoJSON geometry, longitude "
        "comes first.",
    )
    scale: float = Field(
        1.0,
        gt=0,
        le=1e12,
        description="How many units of a position (and box) make one degree: 1000000 for whole millionths.",
    )
    crs: str | None = Field(
        None, description="Coordinate system of the positions: an EPSG code (`pip install 'yellowtor[crs]'`)."
    )
    fields: Paths = Paths()
    box: list[str] = Field(
        default_factory=list,
        description="Paths from a candidate to its box in degrees: west, south, east, north; or one, to an array.",
    )
    score: Scale = Scale()
    partial: list[str] = Field(
        default_factory=list, description="What `fields.partial` says when only a part of the question matched."
    )
    extra: dict[str, str] = Field(
        default_factory=dict, description="Fields of your own choice by name; a job can map them to columns."
    )
    namespaces: dict[str, str] = Field(default_factory=dict, description="Of `xml`: the prefixes that paths use.")
    delimiter: str = Field(",", min_length=1, max_length=1, description="Of `text`: what stands between its columns.")
    header: bool = Field(False, description="Of `text`: whether its first line names the columns.")
    levels: dict[str, LevelWord] = Field(
        default_factory=dict, description="The service's own words for the level, each with one of ours."
    )
    level: LevelWord | None = Field(
        None, description='The level of every candidate that does not say its own: `{ level = "building" }`.'
    )
    split: list[Split] = Field(default_factory=list)
    next: str | None = Field(
        None, description="Path to the URL of the next page of candidates, on the same origin; each page is a request."
    )
    pages: int = Field(5, ge=1, le=100, description="Pages of one reply at most.")
    rules: list[KindRule] = Field(default_factory=list)

    @field_validator("box")
    @classmethod
    def _four(cls, box: list[str]) -> list[str]:
        if len(box) not in (0, 1, 4):
            raise ValueError(f"box takes four paths: west, south, east, north; or one (got {len(box)})")
        return box

    @field_validator("encoding")
    @classmethod
    def _known_encoding(cls, name: str | None) -> str | None:
        if name is not None and not is_encoding(name):
            raise ValueError(f"{name!r} is no encoding of text, such as utf-8 or iso-8859-1")
        return name

    @field_validator("crs")
    @classmethod
    def _known_system(cls, crs: str | None) -> str | None:
        if crs is not None:
            Projection(crs)
        return crs

    @model_validator(mode="after")
    def _belongs_together(self) -> "ReplyRules":
        if self.format in {"json", "json lines", "xml"} and self.candidates is None:
            raise ValueError("candidates is missing: the path to the places in the body")
        if self.format == "text" and self.candidates is not None:
            raise ValueError("candidates: of text, every line is one")
        if self.next:
            with _named("next"):
                self.shape().getter(self.next)
        if self.format != "geojson" and self.fields.latitude is None and self.fields.position is None:
            raise ValueError("fields needs latitude and longitude, or position")
        if self.fields.position is not None and self.order is None:
            raise ValueError('order is missing: "latitude longitude" or "longitude latitude" within fields.position')
        if bool(self.fields.partial) != bool(self.partial):
            raise ValueError("partial and fields.partial belong together")
        for name, only in (("namespaces", "xml"), ("delimiter", "text"), ("header", "text")):
            if name in self.model_fields_set and self.format != only:
                raise ValueError(f'{name} belongs to format = "{only}"')
        for at, rule in enumerate(self.rules, 1):
            for before, earlier in enumerate(self.rules[: at - 1], 1):
                if earlier.hides(rule):
                    raise ValueError(f"rules: the {at}. can never hold, for the {before}. holds whenever it would")
        self.reading()
        return self

    def paths(self) -> dict[str, str]:
        """The path of each field, by its name."""
        named = {name: path for name, path in self.fields if path}
        if self.format == "geojson" and not named.keys() & {"latitude", "position"}:
            named = {"position": "$.geometry", **named}
        named |= dict(zip(box_names(len(self.box)), self.box, strict=True))
        return named | {f"extra.{name}": path for name, path in self.extra.items()}

    def shape(self) -> Shape:
        if self.format == "xml":
            return XmlShape(self.namespaces, self.encoding)
        if self.format == "text":
            needs = filter(None, (self.fields.latitude, self.fields.longitude, self.fields.position))
            return TextShape(self.delimiter, header=self.header, encoding=self.encoding, needs=tuple(needs))
        return JsonShape(self.encoding, lines=self.format == "json lines")

    def reading(self) -> Reading:
        """The section, compiled. Raises ValueError for a path that does not parse."""
        import regex  # which can be told to give up

        shape = self.shape()
        fields = self.fields
        geojson = self.format == "geojson"
        order = self.order or ("longitude latitude" if geojson else "latitude longitude")
        position = fields.position
        if geojson and position is None and fields.latitude is None:
            position = "$.geometry"
        candidates = self.candidates or ("$.features[*]" if geojson else None)
        finder = cache(shape.finder)  # rules that look at one place have one way to

        def getter(name: str, path: str | None) -> Any:
            with _named(name):
                return shape.getter(path) if path else None

        def fields_of(what: str, paths: Mapping[str, str]) -> Fields:
            for name, path in paths.items():
                getter(f"{what}.{name}", path)
            return shape.fields(paths)

        others = {n: path for n, path in fields if path and n not in {"latitude", "longitude", "position"}}
        with _named("candidates"):
            find = shape.finder(candidates) if candidates else list
        with _named("message"):
            message = shape.finder(self.message) if self.message else None
        return Reading(
            rules=[_compiled(rule, at, finder) for at, rule in enumerate(self.rules, 1)],
            candidates=find,
            holder=shape.holder(candidates or ""),
            listed=candidates or "",
            latitude=getter("fields.latitude", fields.latitude),
            longitude=getter("fields.longitude", fields.longitude),
            position=getter("fields.position", position),
            parts=fields_of("fields", others),
            box=[getter("box", path) for path in self.box or (["$.bbox"] if geojson else [])],
            message=message,
            level=(self.level.level, self.level.method) if self.level else (None, None),
            levels={word: (to.level, to.method) for word, to in self.levels.items()},
            shape=shape,
            lon_first=order == "longitude latitude",
            decimal=self.decimal,
            scale=self.scale,
            epsg=int(code[1]) if self.crs and (code := re.fullmatch(r"\D*(\d{1,6})", self.crs)) else None,
            to_degrees=Projection(self.crs).degrees if self.crs else None,
            score=(self.score.worst, self.score.best),
            partial=frozenset(self.partial),
            splits=[(getter("split", one.text), regex.compile(one.pattern)) for one in self.split],
            own=fields_of("extra", self.extra) if self.extra else None,
            looks={name: shape.getter(path) for name, path in self.paths().items()},
        )


@contextmanager
def _named(place: str) -> Iterator[None]:
    """Say where the path stands that does not parse."""
    try:
        yield
    except ValueError as error:
        raise ValueError(f"{place}: {error}") from error


def _compiled(rule: KindRule, number: int, finder: Callable[[str], Finder]) -> Rule:
    said = rule.said()
    with _named(f"the {number}. rule"):
        find = finder(rule.path) if rule.path else None
        absent = finder(rule.absent) if rule.absent else None
    return Rule(
        rule.kind,
        rule.statuses(),
        find,
        said if rule.path else None,
        absent,
        (rule.header.lower(), said or bool) if rule.header else None,
        occurs(rule.body) if rule.body else None,
        number,
    )
