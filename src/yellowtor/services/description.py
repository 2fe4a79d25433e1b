"""The service description: a TOML file that says how to ask a service and how to read its reply.

The models here and in replies.py are the language; docs/service-description.md is made from them.
"""

from typing import Any, ClassVar, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import uritemplate
from pydantic import Field, field_validator, model_validator

from yellowtor.addresses.address import PARTS
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import DayWindow
from yellowtor.errors import BadJob
from yellowtor.services.bodies import names_in
from yellowtor.services.replies import ReplyRules
from yellowtor.services.variables import Variable
from yellowtor.settings import Settings

ADDRESS = ("q", *(part for part in PARTS if part != "whole"))
SPOT = ("lat", "lon")
ALWAYS = ("language", "limit")
Direction = Literal["forward", "reverse"]


class About(Settings):
    name: str = Field(description="What reports call the service; part of every question's key.", min_length=1)
    attribution: str = Field("", description="The credit that outputs with its data must show.")
    contact: str = Field(
        "", description="Whom the service may write to, where it wants to know: goes into the User-Agent. A template."
    )


class Credentials(Settings):
    """Who asks, where that is no part of the URL or of a header of its own (RFC 7617, RFC 6750). Templates."""

    user: str | None = Field(None, description="HTTP Basic: the user's name.")
    password: str | None = Field(None, description="HTTP Basic: the password.")
    bearer: str | None = Field(None, description="Or a bearer token: `Authorization: Bearer …`.")

    @model_validator(mode="after")
    def _one_way(self) -> "Credentials":
        if (self.user is None) != (self.password is None):
            raise ValueError("user and password belong together")
        if (self.user is None) == (self.bearer is None):
            raise ValueError("needs either user and password, or bearer")
        return self


class Signing(Settings):
    """For a service that wants its URLs signed (HMAC, RFC 2104)."""

    secret: str = Field(description="Template of the secret that signs, such as `{secret}`.")
    secret_is: Literal["text", "hex", "base64", "base64url"] = Field("text", description="How the secret is written.")
    hash: Literal["sha1", "sha256", "sha384", "sha512", "md5"] = Field("sha256", description="The hash of the HMAC.")
    signs: Literal["url", "path and query", "query"] = Field(
        "path and query", description="Which part of the URL is signed, as it is sent."
    )
    signature_is: Literal["hex", "base64", "base64url"] = Field("hex", description="How the signature is written.")
    append: str | None = Field(
        None, description="What is put after the URL: `&signature={signature}`. A template with `signature`."
    )
    header: str | None = Field(None, description="Or the header field that takes the signature.")

    @model_validator(mode="after")
    def _one_place(self) -> "Signing":
        if (self.append is None) == (self.header is None):
            raise ValueError("needs either append or header: where the signature goes")
        if self.append is not None and "signature" not in uritemplate.variables(self.append):
            raise ValueError("append has no {signature}")
        return self


class Operation(Settings):
    """One way to ask a service. Templates fill in variables."""

    about: ClassVar[tuple[str, ...]] = ()  # the variables that say what is asked about

    url: str = Field(description="URI template (RFC 6570) of the request.")
    method: Literal["GET", "POST"] = Field("GET", description="POST where the question stands in a body.")
    candidates: int = Field(5, ge=1, le=100, description="How many candidates to ask for: the variable `limit`.")
    headers: dict[str, str] = Field(
        default_factory=dict, description="Header fields; their values are templates with the same variables."
    )
    json_body: Any = Field(
        None, alias="json",
        description="The body of a POST as JSON: a table whose texts are templates. A text that is one variable and "
        "nothing else leaves its key out where the variable is empty; `{limit}`, `{lat}` and `{lon}` alone are "
        "numbers.",
    )  # fmt: skip
    form: dict[str, str] = Field(
        default_factory=dict, description="Or as a form (application/x-www-form-urlencoded): its fields."
    )
    xml: str | None = Field(None, description="Or as XML: a template whose variables are escaped as XML wants it.")

    @model_validator(mode="after")
    def _one_body(self) -> "Operation":
        bodies = [name for name, body in self.bodies().items() if body]
        if len(bodies) > 1:
            raise ValueError(f"has more than one body: {', '.join(bodies)}")
        if bool(bodies) != (self.method == "POST"):
            raise ValueError('a body belongs to method = "POST", and that needs one: json, form or xml')
        return self

    def bodies(self) -> dict[str, Any]:
        return {"json": self.json_body, "form": self.form, "xml": self.xml}

    def wants(self) -> tuple[str, ...]:
        """What, of what is asked about, the request is made of."""
        return tuple(name for name in self.about if name in self.variables())

    def variables(self) -> set[str]:
        """The variables that the request is made of."""
        named = {*uritemplate.variables(self.url)} | {n for text in self.headers.values() for n in names_in(text)}
        return named | {name for body in self.bodies().values() if body for name in names_in(body)}


class Forward(Operation):
    """How an address is asked about.

    Templates fill in `q` (the address in one line), `number`, `street`, `town`, `postcode`, `region`, `country`,
    `language`, `limit`, and your own variables.
    """

    about: ClassVar[tuple[str, ...]] = ADDRESS


class Reverse(Operation):
    """How a position is asked about: what is there?

    Templates fill in `lat` and `lon` (degrees, WGS 84), `language`, `limit`, and your own variables.
    """

    about: ClassVar[tuple[str, ...]] = SPOT
    reply: ReplyRules | None = Field(None, description="How its replies are read, where they differ from `[reply]`.")


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


class Description(Settings):
    """A whole service description."""

    service: About
    variables: dict[str, Variable] = Field(default_factory=dict)
    credentials: Credentials | None = None
    signing: Signing | None = None
    forward: Forward | None = Field(None, description="Needed, but for a service that is asked in reverse only.")
    reverse: Reverse | None = Field(None, description="Where the service knows what is at a position.")
    allowance: Allowance = Allowance()
    reply: ReplyRules

    @model_validator(mode="after")
    def _templates(self) -> "Description":
        if not self.operations():
            raise ValueError("needs [forward], or [reverse], or both: how the service is asked")
        if clash := {*ADDRESS, *SPOT, *ALWAYS} & set(self.variables):
            raise ValueError(f"variables.{min(clash)}: this name is taken by what is asked")
        for place, names in self._named().items():
            known = {*ALWAYS, *self.variables, *getattr(getattr(self, place, None), "about", ())}
            if unknown := names - known:
                raise ValueError(f"{place}: {{{min(unknown)}}} is not a variable (known: {', '.join(sorted(known))})")
        if self.forward and not self.forward.wants():
            raise ValueError("forward has no variable for the address: {q}, {street}, {town} …")
        if self.reverse and len(self.reverse.wants()) < 2:
            raise ValueError("reverse needs the variables {lat} and {lon}")
        if idle := set(self.variables) - set[str]().union(*self._named().values()):
            raise ValueError(f"variables.{min(idle)} is used nowhere")
        return self

    def operations(self) -> dict[str, Operation]:
        """The ways to ask, by their names."""
        ways: dict[str, Operation | None] = {"forward": self.forward, "reverse": self.reverse}
        return {name: way for name, way in ways.items() if way is not None}

    def operation(self, direction: Direction) -> Operation:
        """How it is asked in this direction. Raises BadJob where it can't be."""
        way = self.operations().get(direction)
        if way is None:
            what = "addresses" if direction == "forward" else "positions"
            raise BadJob(
                f"{self.service.name} can't be asked about {what}: its description has no [{direction}]. "
                "Nothing was sent."
            )
        return way

    def replies(self, direction: Direction) -> ReplyRules:
        """How its replies are read."""
        own = self.reverse.reply if self.reverse and direction == "reverse" else None
        return own or self.reply

    def _named(self) -> dict[str, set[str]]:
        """The variables that each place names."""
        own = [text for _, text in self.credentials or () if text]
        signing = [self.signing.secret] if self.signing else []
        return {
            **{name: operation.variables() for name, operation in self.operations().items()},
            "service.contact": names_in(self.service.contact),
            "credentials": {name for text in own for name in names_in(text)},
            "signing.secret": {name for text in signing for name in names_in(text)},
        }

    @property
    def account(self) -> str:
        return self.allowance.account or self.service.name

    @property
    def pace(self) -> Pace:
        return Pace(self.allowance.per_second)

    @property
    def day(self) -> DayWindow:
        return DayWindow(self.allowance.per_day, ZoneInfo(self.allowance.zone))
