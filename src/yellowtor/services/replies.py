"""The half of a service description that says how its replies are read, and what each of them means."""

import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import cache, partial
from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from yellowtor.answers.geography.projection import Projection
from yellowtor.answers.replies.body_text import is_encoding
from yellowtor.answers.replies.formats.registry import FORMATS
from yellowtor.answers.replies.formats.reply_format import FormatOptions, ReplyFormat
from yellowtor.answers.replies.json_paths import Fields, Finder
from yellowtor.answers.replies.kind_rules import Rule, occurs
from yellowtor.answers.replies.reading import box_names
from yellowtor.answers.replies.reading_rules import Reading
from yellowtor.crs_setting import SystemCode
from yellowtor.services.reply_fields import KindRule, LevelWord, Paths, Scale, Split
from yellowtor.settings import Settings


class ReplyRules(Settings):
    format: str = Field(
        "json",
        description="The format of the body, one of: " + ", ".join(f"`{name}`" for name in FORMATS) + ". `geojson` is "
        "JSON as in RFC 7946. In `json lines`, paths see the list of all lines (`$[*]`).",
    )
    encoding: str | None = Field(
        None,
        description="The encoding of the text, such as `iso-8859-1`, if the reply does not state it, or states a "
        "wrong one. A byte order mark takes precedence.",
    )
    candidates: str | None = Field(
        None,
        description="Path to the candidates in the body. Needed, except for `geojson` (the features) and `text` "
        "(every line).",
    )
    message: str | None = Field(None, description="Path to the service's error message.")
    decimal: Literal[".", ","] = Field(".", description="The decimal mark, if numbers are texts.")
    order: Literal["latitude longitude", "longitude latitude"] | None = Field(
        None,
        description="The order within `position`, if the value itself does not state it. In a GeoJSON geometry, "
        "longitude is first.",
    )
    scale: float = Field(
        1.0,
        gt=0,
        le=1e12,
        description="The number of units in one degree, for positions and boxes: 1000000 for whole millionths.",
    )
    crs: SystemCode | None = Field(
        None, description="Coordinate system of the positions: an EPSG code (`pip install 'yellowtor[crs]'`)."
    )
    fields: Paths = Paths()
    box: list[str] = Field(
        default_factory=list,
        description="Paths from a candidate to its bounding box in degrees: west, south, east, north; or one path "
        "to an array.",
    )
    score: Scale = Scale()
    partial: list[str] = Field(
        default_factory=list,
        description="The values of `fields.partial` that mean: only a part of the question matched.",
    )
    extra: dict[str, str] = Field(
        default_factory=dict, description="More fields, by names of your choice. A job can map them to columns."
    )
    namespaces: dict[str, str] = Field(default_factory=dict, description="For `xml`: the prefixes that paths use.")
    delimiter: str = Field(",", min_length=1, max_length=1, description="For `text`: the character between columns.")
    header: bool = Field(False, description="For `text`: whether the first line names the columns.")
    levels: dict[str, LevelWord] = Field(
        default_factory=dict, description="The service's words for levels, each with one of ours."
    )
    level: LevelWord | None = Field(
        None, description='The level of candidates that do not state one: `{ level = "building" }`.'
    )
    split: list[Split] = Field(default_factory=list)
    next: str | None = Field(
        None, description="Path to the URL of the next page, on the same origin. Each page is a request."
    )
    pages: int = Field(5, ge=1, le=100, description="The highest number of pages of one reply.")
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
            raise ValueError(f"{name!r} is not an encoding of text, such as utf-8 or iso-8859-1")
        return name

    @field_validator("format")
    @classmethod
    def _known_format(cls, name: str) -> str:
        if name not in FORMATS:
            raise ValueError(f"must be one of: {', '.join(FORMATS)}")
        return name

    @model_validator(mode="after")
    def _fits_the_format(self) -> "ReplyRules":
        registered = FORMATS[self.format]
        if registered.candidates == "" and self.candidates is None:
            raise ValueError("candidates is missing: the path to the places in the body")
        if registered.candidates is None and self.candidates is not None:
            raise ValueError(f"candidates: of {self.format}, every line is one")
        for only, other in FORMATS.items():
            if stray := sorted(other.options & self.model_fields_set - registered.options):
                raise ValueError(f'{stray[0]} belongs to format = "{only}"')
        return self

    @model_validator(mode="after")
    def _belongs_together(self) -> "ReplyRules":
        if self.next:
            with _named("next"):
                self.reply_format().getter(self.next)
        if not self._position_path() and self.fields.latitude is None:
            raise ValueError("fields needs latitude and longitude, or position")
        if self.fields.position is not None and self.order is None:
            raise ValueError('order is missing: "latitude longitude" or "longitude latitude" within fields.position')
        if bool(self.fields.partial) != bool(self.partial):
            raise ValueError("partial and fields.partial belong together")
        for at, rule in enumerate(self.rules, 1):
            for before, earlier in enumerate(self.rules[: at - 1], 1):
                if earlier.hides(rule):
                    raise ValueError(f"rules: the {at}. can never hold, for the {before}. holds whenever it would")
        self.reading()
        return self

    def _position_path(self) -> str | None:
        """The path to both coordinates in one, of the description or of the format."""
        if self.fields.position is None and self.fields.latitude is None:
            return FORMATS[self.format].position or None
        return self.fields.position

    def paths(self) -> dict[str, str]:
        """The path of each field, by its name."""
        named = {name: path for name, path in self.fields if path}
        if (position := self._position_path()) and "position" not in named:
            named = {"position": position, **named}
        named |= dict(zip(box_names(len(self.box)), self.box, strict=True))
        return named | {f"extra.{name}": path for name, path in self.extra.items()}

    def reply_format(self) -> ReplyFormat:
        """The format of the body, with the description's options."""
        needs = filter(None, (self.fields.latitude, self.fields.longitude, self.fields.position))
        options = FormatOptions(self.encoding, self.namespaces, self.delimiter, self.header, tuple(needs))
        return FORMATS[self.format].make(options)

    def reading(self) -> Reading:
        """The section, compiled. Raises ValueError for a path that does not parse."""
        import regex  # which has a timeout

        registered = FORMATS[self.format]
        reply_format = self.reply_format()
        fields = self.fields
        candidates = self.candidates or registered.candidates
        finder = cache(reply_format.finder)  # rules with the same path share a finder
        getter = partial(_getter, reply_format)
        others = {n: path for n, path in fields if path and n not in {"latitude", "longitude", "position"}}
        with _named("candidates"):
            find = reply_format.finder(candidates) if candidates else list
        with _named("message"):
            message = reply_format.finder(self.message) if self.message else None
        return Reading(
            rules=[_compiled(rule, at, finder) for at, rule in enumerate(self.rules, 1)],
            candidates=find,
            holder=reply_format.holder(candidates or ""),
            listed=candidates or "",
            latitude=getter("fields.latitude", fields.latitude),
            longitude=getter("fields.longitude", fields.longitude),
            position=getter("fields.position", self._position_path()),
            parts=_fields(reply_format, "fields", others),
            box=[getter("box", path) for path in self.box or registered.box],
            message=message,
            level=(self.level.level, self.level.method) if self.level else (None, None),
            levels={word: (to.level, to.method) for word, to in self.levels.items()},
            format=reply_format,
            lon_first=(self.order or registered.order) == "longitude latitude",
            decimal=self.decimal,
            scale=self.scale,
            epsg=int(code[1]) if self.crs and (code := re.fullmatch(r"\D*(\d{1,6})", self.crs)) else None,
            to_degrees=Projection(self.crs).degrees if self.crs else None,
            score=(self.score.worst, self.score.best),
            partial=frozenset(self.partial),
            splits=[(getter("split", one.text), regex.compile(one.pattern)) for one in self.split],
            own=_fields(reply_format, "extra", self.extra) if self.extra else None,
            looks={name: reply_format.getter(path) for name, path in self.paths().items()},
        )


def _getter(reply_format: ReplyFormat, name: str, path: str | None) -> Any:
    with _named(name):
        return reply_format.getter(path) if path else None


def _fields(reply_format: ReplyFormat, what: str, paths: Mapping[str, str]) -> Fields:
    for name, path in paths.items():
        _getter(reply_format, f"{what}.{name}", path)
    return reply_format.fields(paths)


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
