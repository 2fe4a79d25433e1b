"""The part of a service description that says how it is asked: forward, in reverse, many questions at once."""

from typing import Annotated, Any, ClassVar, Literal

import uritemplate
from pydantic import Field, StringConstraints, model_validator

from yellowtor.contracts.address import PARTS
from yellowtor.services.replies import ReplyRules
from yellowtor.services.templates import names_in
from yellowtor.settings import Settings

ADDRESS = ("q", *(part for part in PARTS if part != "whole"))
SPOT = ("lat", "lon")
BOX = ("west", "south", "east", "north")
FRESH = ("time", "date_time", "nonce")
ALWAYS = ("language", "limit", "countries", *BOX, *FRESH)
OF_MANY = ("questions", "id")


class Call(Settings):
    """One request. Templates fill in variables."""

    url: str = Field(description="URI template (RFC 6570) of the request.")
    method: Literal["GET", "POST"] = Field("GET", description="POST if the question is in a body.")
    headers: dict[str, str] = Field(
        default_factory=dict, description="Header fields; their values are templates with the same variables."
    )
    json_body: Any = Field(
        None,
        alias="json",
        description="The body of a POST as JSON: a table whose texts are templates. A text that is one variable and "
        "nothing else leaves its key out where the variable is empty; `{limit}`, `{lat}` and `{lon}` alone are "
        "numbers.",
    )
    form: dict[str, str] = Field(
        default_factory=dict, description="Or as a form (application/x-www-form-urlencoded): its fields."
    )
    xml: str | None = Field(None, description="Or as XML: a template. Values are escaped.")

    @model_validator(mode="after")
    def _one_body(self) -> "Call":
        bodies = [name for name, body in self.bodies().items() if body]
        if len(bodies) > 1:
            raise ValueError(f"has more than one body: {', '.join(bodies)}")
        if bool(bodies) != (self.method == "POST"):
            raise ValueError('a body belongs to method = "POST", and that needs one: json, form or xml')
        return self

    def bodies(self) -> dict[str, Any]:
        return {"json": self.json_body, "form": self.form, "xml": self.xml}

    def variables(self) -> set[str]:
        """The variables that the request is made of."""
        named = {*uritemplate.variables(self.url)} | {n for text in self.headers.values() for n in names_in(text)}
        return named | {name for body in self.bodies().values() if body for name in names_in(body)}


class Poll(Settings):
    """The service accepts a question (202, or a rule of the kind `accepted`) and replies later.

    The ticket is stored in the ledger: the next run continues to fetch the reply and does not ask again.
    """

    ticket: str | None = Field(
        None,
        description="Path to the ticket in the first reply. Default: its header field `Location`.",
    )
    url: str = Field("{+ticket}", description="URI template of the request for the result, with `{ticket}`.")
    every_s: float = Field(
        2.0, gt=0, le=3600, description="Seconds between two of these requests; `Retry-After` can demand more."
    )
    most: int = Field(
        100, ge=1, le=100_000, description="The highest number of these requests in one run. The next run continues."
    )
    counts: bool = Field(True, description="Whether the quota counts each of them.")

    @model_validator(mode="after")
    def _has_ticket(self) -> "Poll":
        if "ticket" not in uritemplate.variables(self.url):
            raise ValueError("url has no {ticket}")
        return self


class Many(Call):
    """One request with many questions. Each result is read like a single reply, by `[reply]`.

    The templates have the variable `questions`, and those of `[forward]` except the address. `question` has all
    variables of `[forward]`, and `id`.
    """

    most: int = Field(ge=2, le=100_000, description="The highest number of questions in a request.")
    question: Any = Field(
        description="One question: a template like that of the body. All questions replace `{questions}` in the "
        "body (or the URL): in JSON as a list, else joined."
    )
    joined_by: Annotated[str, StringConstraints(strip_whitespace=False)] = Field(
        "", description="The text between two questions, if they are not a list."
    )
    results: str | None = Field(
        None,
        description="Path to the results in the reply, one for each question. Needed, except for `text`, "
        "where every line is a result.",
    )
    id: str | None = Field(
        None,
        description="Path from a result to the `{id}` of its question. In `text`, lines with the same id are one "
        "result. Without it, results are in the order of the questions.",
    )
    keyed: bool = Field(
        False, description="In JSON: `results` finds an object with the `{id}`s as names, instead of a list."
    )
    missing: Literal["nothing found", "unreadable"] = Field(
        "unreadable", description="The kind of a question without a result. If `unreadable`, it is asked alone."
    )
    reply: ReplyRules | None = Field(None, description="How a result is read, if not by `[reply]`.")
    counts: Literal["questions", "requests"] = Field(
        "questions", description="What the quota and the pace count: each question, or each request."
    )

    @model_validator(mode="after")
    def _whole(self) -> "Many":
        if "questions" not in self.variables():
            raise ValueError("has no {questions} in its body or URL")
        if (self.id is not None or self.keyed) != ("id" in names_in(self.question)):
            raise ValueError("id (or keyed) and the variable {id} of question belong together")
        if self.keyed and self.id is not None:
            raise ValueError("keyed and id are two ways to say whose a result is: keep one")
        if not isinstance(self.question, str) and not self.json_body:
            raise ValueError("question is a table, and only a body of JSON can hold one: write a text")
        return self


class Operation(Call):
    """One way to ask a service about one thing, and perhaps about many."""

    about: ClassVar[tuple[str, ...]] = ()  # the variables that say what is asked about

    candidates: int = Field(5, ge=1, le=100, description="The number of candidates to ask for: the variable `limit`.")
    poll: Poll | None = Field(None, description="For a service whose reply comes later: how to fetch it.")
    many: Many | None = Field(None, description="For a service that takes many questions in one request.")

    def wants(self) -> tuple[str, ...]:
        """What, of what is asked about, the request is made of."""
        return tuple(name for name in self.about if name in self.variables())


class Forward(Operation):
    """The request for an address.

    Templates have the variables `q` (the address in one line), `number`, `street`, `town`, `postcode`, `region`,
    `country`, `language`, `limit`, `countries`, `west`, `south`, `east`, `north`, and your own. A variable without a
    value is empty. `time` (seconds since 1970), `date_time` (ISO 8601, UTC) and `nonce` (32 random hexadecimal digits)
    are new in each request.
    """

    about: ClassVar[tuple[str, ...]] = ADDRESS


class Reverse(Operation):
    """The request for a position.

    Templates have the variables `lat` and `lon` (degrees, WGS 84), and those of `[forward]` except the address.
    """

    about: ClassVar[tuple[str, ...]] = SPOT
    reply: ReplyRules | None = Field(None, description="How replies are read in reverse, if not by `[reply]`.")
