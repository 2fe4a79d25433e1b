"""The service description: a TOML file that says how to ask a service and how to read its reply.

The models here, in calls.py and in replies.py are the language; docs/service-description.md is made from them.
"""

from typing import Literal
from zoneinfo import ZoneInfo

import uritemplate
from pydantic import Field, model_validator

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Price
from yellowtor.allowance.windows import Span, Window
from yellowtor.answers.replies.batch_split import BatchSplit
from yellowtor.answers.replies.formats.json_format import JsonFormat
from yellowtor.answers.replies.formats.text_format import TextFormat
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.errors import BadJob
from yellowtor.services.allowance_settings import Allowance
from yellowtor.services.calls import ADDRESS, ALWAYS, OF_MANY, SPOT, Forward, Operation, Reverse
from yellowtor.services.connection_settings import Connection, Credentials, Signing
from yellowtor.services.replies import ReplyRules
from yellowtor.services.templates import names_in
from yellowtor.services.variables import Variable
from yellowtor.settings import Settings

Direction = Literal["forward", "reverse"]


class About(Settings):
    name: str = Field(description="The name of the service in reports; part of every question's key.", min_length=1)
    attribution: str = Field("", description="The credit that its terms require; shown in outputs with its data.")
    keep_days: int | None = Field(
        None,
        ge=1,
        description="The number of days that its terms allow to store a reply. After that, a question that is still "
        "needed is asked again.",
    )
    keep_nothing_days: int | None = Field(
        90,
        ge=1,
        description="The number of days after which an address that was not found is asked again, if it is still "
        "needed.",
    )
    contact: str = Field(
        "", description="Contact for the service, such as an e-mail address; part of the User-Agent. A template."
    )


class Description(Settings):
    """A whole service description."""

    service: About
    variables: dict[str, Variable] = Field(default_factory=dict)
    credentials: Credentials | None = None
    signing: Signing | None = None
    connection: Connection = Connection()
    forward: Forward | None = Field(None, description="Needed, unless the service is only asked in reverse.")
    reverse: Reverse | None = Field(None, description="For a service that can say what is at a position.")
    allowance: Allowance = Allowance()
    reply: ReplyRules

    @model_validator(mode="after")
    def _templates(self) -> "Description":
        if not self.operations():
            raise ValueError("needs [forward], or [reverse], or both: how the service is asked")
        if clash := {*ADDRESS, *SPOT, *ALWAYS, *OF_MANY} & set(self.variables):
            raise ValueError(f"variables.{min(clash)}: this name is taken by what is asked")
        about = {place: own for name, way in self.operations().items() for place, own in _about(name, way).items()}
        for place, names in self._named().items():
            known = {*ALWAYS, *self.variables, *about.get(place, ())}
            if unknown := names - known:
                raise ValueError(f"{place}: {{{min(unknown)}}} is not a variable (known: {', '.join(sorted(known))})")
        if self.forward and not self.forward.wants():
            raise ValueError("forward has no variable for the address: {q}, {street}, {town} …")
        if self.reverse and len(self.reverse.wants()) < 2:
            raise ValueError("reverse needs the variables {lat} and {lon}")
        self._many_can_be_read()
        for name, way in self.operations().items():
            rules = self.replies("reverse" if name == "reverse" else "forward").rules
            if way.poll is None and any(rule.kind is Kind.ACCEPTED for rule in rules):
                raise ValueError(
                    f'{name}: a rule of the kind "accepted" needs [{name}.poll]: how its reply is looked for'
                )
        if idle := set(self.variables) - set[str]().union(*self._named().values()):
            raise ValueError(f"variables.{min(idle)} is used nowhere")
        return self

    def _many_can_be_read(self) -> None:
        """Raise ValueError where the results of many questions can't be found in a reply."""
        for name, way in self.operations().items():
            if way.many is None:
                continue
            if not set(way.about) & names_in(way.many.question):
                raise ValueError(f"{name}.many.question has no variable for what is asked about")
            text = self.replies("reverse" if name == "reverse" else "forward").format == "text"
            if text == (way.many.results is not None):
                raise ValueError(f"{name}.many.results: " + ("of text, every line is one" if text else "is missing"))
            self.apart(way)

    @property
    def has_files(self) -> bool:
        """Whether a variable is in a file, which may hold another value by and by."""
        return any(variable.file for variable in self.variables.values())

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
        own = [text for _, text in self.credentials or () if isinstance(text, str)]
        if self.credentials and (token := self.credentials.token):
            own += [token.client_id, token.client_secret, token.scope, *token.fields.values()]
            own += [f"{{{name}}}" for name in uritemplate.variables(token.url)]
        signing = [self.signing.secret] if self.signing else []
        return {
            **{name: way.variables() for name, way in self.operations().items()},
            **{f"{name}.many": way.many.variables() for name, way in self.operations().items() if way.many},
            **{
                f"{name}.many.question": names_in(way.many.question)
                for name, way in self.operations().items()
                if way.many
            },
            **{
                f"{name}.poll": set(uritemplate.variables(way.poll.url)) - {"ticket"}
                for name, way in self.operations().items()
                if way.poll
            },
            "service.contact": names_in(self.service.contact),
            "connection.proxy": names_in(self.connection.proxy),
            "credentials": {name for text in own for name in names_in(text)},
            "signing.secret": {name for text in signing for name in names_in(text)},
        }

    @property
    def prices(self) -> list[Price]:
        return [rule.price() for rule in self.allowance.prices]

    def apart(self, way: Operation) -> BatchSplit | None:
        """How a reply to many questions is taken apart. Raises ValueError for a path that does not parse."""
        if way.many is None:
            return None
        replies = self.reverse.reply if self.reverse is way and self.reverse.reply else self.reply
        shape = replies.reply_format()
        many = way.many
        if many.keyed and not isinstance(shape, JsonFormat):
            raise ValueError("many.keyed: only JSON has objects")
        find = shape.finder(many.results) if many.results else list
        of_lines = isinstance(shape, TextFormat)
        nothing = many.missing == "nothing found"
        return BatchSplit(find, shape.getter(many.id) if many.id else None, many.keyed, nothing, of_lines)

    @property
    def account(self) -> str:
        return self.allowance.account or self.service.name

    @property
    def pace(self) -> Pace:
        return Pace(self.allowance.per_second, self.allowance.burst)

    @property
    def zone(self) -> ZoneInfo:
        return ZoneInfo(self.allowance.zone)

    @property
    def windows(self) -> list[Window]:
        allowance = self.allowance
        zone = self.zone
        day = [Window(allowance.per_day, Span.DAY, zone)] if allowance.per_day else []
        windows = [Window(w.requests - w.leave, w.span, zone, w.rolling, leave=w.leave) for w in allowance.windows]
        return day + windows + [cap.window("own", zone) for cap in allowance.caps]


def _about(name: str, way: Operation) -> dict[str, tuple[str, ...]]:
    """The variables that say what is asked about, by the places where they may stand."""
    return {name: way.about, f"{name}.many": ("questions",), f"{name}.many.question": (*way.about, "id")}
