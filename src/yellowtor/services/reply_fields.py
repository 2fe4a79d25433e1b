"""Parts of the reply section of a description: paths to fields, words for levels, rules for kinds."""

from collections.abc import Callable
from typing import Any

from pydantic import Field, field_validator, model_validator

from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.replies.kind_rules import occurs
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.settings import Settings

SPLIT_INTO = {"number", "street", "town", "postcode", "region", "country", "country_code", "level", "label"}


class Paths(Settings):
    """Paths from one candidate: JSONPath (RFC 9535), XPath 1.0, or the number or name of a column."""

    latitude: str | None = Field(None, description="Degrees, WGS 84; with `crs`, the northing.")
    longitude: str | None = Field(None, description="Degrees, WGS 84; with `crs`, the easting.")
    position: str | None = Field(
        None,
        description="Or both in one: an array, or a text such as `54.1, 8.2`, `54°6′N 8°12′E`, `POINT(8.2 54.1)` or "
        "`geo:54.1,8.2`. Needs `order`.",
    )
    level: str | None = Field(None, description="The service's own word for the level.")
    label: str | None = Field(None, description="The place in one readable line.")
    number: str | None = Field(None, description="House number.")
    street: str | None = Field(None, description="Street.")
    town: str | None = Field(None, description="Town.")
    postcode: str | None = Field(None, description="Postcode.")
    region: str | None = Field(None, description="Region.")
    country: str | None = Field(None, description="Country by name.")
    country_code: str | None = Field(None, description="Country by its ISO 3166-1 alpha-2 code.")
    radius: str | None = Field(None, description="The uncertainty of the position in metres.")
    score: str | None = Field(None, description="The service's own score, on the scale of `score`.")
    partial: str | None = Field(None, description="Where the service says that only a part matched; see `partial`.")

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
    """The scale of the service's own score."""

    worst: float = Field(0.0, description="The lowest score.")
    best: float = Field(1.0, description="The highest score.")

    @model_validator(mode="after")
    def _apart(self) -> "Scale":
        if self.worst == self.best:
            raise ValueError("worst and best are the same")
        return self


class KindRule(Settings):
    """The first rule whose conditions all hold gives the kind of reply. If none holds, the status does (RFC 9110)."""

    status: int | list[int] | None = Field(None, description="Holds for this HTTP status, or for these.")
    path: str | None = Field(None, description="Holds if this path finds something in the body.")
    absent: str | None = Field(None, description="Holds if this path finds nothing.")
    header: str | None = Field(None, description="Holds if the reply has this header field.")
    equals: Any = Field(None, description="And the value of `path` or `header` is this.")
    matches: str | None = Field(None, description="Or this regular expression occurs in the value.")
    body: str | None = Field(None, description="Holds if this regular expression occurs in the body.")
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
            raise ValueError(f"{stray[0]} is not an HTTP status: the rule can never hold")
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
            raise ValueError("use either equals or matches")
        if self.path and self.path == self.absent:
            raise ValueError("path and absent are the same: the rule can never hold")
        return self

    def conditions(self) -> set[str]:
        """What must hold, each as a text; of several statuses, all as one."""
        conditions = {name: value for name, value in self if name not in {"kind", "status"} and value is not None}
        if "equals" in conditions or "matches" in conditions:
            conditions["said"] = (
                conditions.get("path"),
                conditions.get("header"),
                conditions.pop("equals", None),
                conditions.pop("matches", None),
            )
        status = {f"status {sorted(self.statuses())}"} if self.statuses() else set()
        return status | {f"{name} {value}" for name, value in conditions.items()}

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
    """Takes parts of an address from one text."""

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
