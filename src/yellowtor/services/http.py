"""An HTTP service, by its description.

Nothing that this module returns contains a secret: replies are masked when they arrive and again when they are read;
requests have a form for display.
"""

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Self
from urllib.parse import unquote, urlsplit

from yellowtor.addresses.keys import Asking, digest
from yellowtor.allowance.price import Price
from yellowtor.allowance.windows import Window
from yellowtor.answers.replies.batch_split import PART, split_batch
from yellowtor.answers.replies.reading import Looked, Read, look_up, read_meaning, read_reply
from yellowtor.answers.replies.reading_rules import Reading
from yellowtor.answers.replies.reply import Reply, Request
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.subject import Subject
from yellowtor.errors import BadJob
from yellowtor.services.calls import BOX
from yellowtor.services.description import Description
from yellowtor.services.follow_ups import FollowUps
from yellowtor.services.masking import Masker
from yellowtor.services.request_maker import RequestMaker, Wishes
from yellowtor.services.transport import LARGEST, Leave, NoReply, RawReply, Transport
from yellowtor.services.variables import Values

HEARD = frozenset(
    {
        "content-type",
        "retry-after",
        "ratelimit",
        "ratelimit-remaining",
        "ratelimit-reset",
        "ratelimit-limit",
        "ratelimit-policy",
    }
)  # fields
NONE = Wishes()
PARTS = {"missing", "reply"}  # keys of `many` that say how a result is read
READING = "2"  # how replies are read: with another, kept ones are read again


class HttpService:
    """A service as its description says, asked as is wished; sends while it is entered (async with).

    folder is that of the description; read_again looks its variables up once more.
    """

    is_local = False

    def __init__(
        self,
        description: Description,
        values: Values,
        wishes: Wishes = NONE,
        folder: Path = Path(),
        read_again: Callable[[], Values] | None = None,
    ) -> None:
        direction = wishes.direction
        operation = description.operation(direction)
        replies = description.replies(direction)
        self.name = description.service.name
        self.attribution = description.service.attribution
        self.account = description.account
        self.pace = description.pace
        self.windows: Sequence[Window] = description.windows
        self.zone = description.zone
        self.keep_days = description.service.keep_days
        self.keep_nothing_days = description.service.keep_nothing_days
        self.prices: Sequence[Price] = description.prices
        self.parallel = description.allowance.parallel
        self.tries = description.allowance.tries
        self.most = operation.many.most if operation.many else 1
        self.counts_each = operation.many is None or operation.many.counts == "questions"
        self.unset = values.unset
        self.extra = tuple(replies.extra)
        of_part = operation.many.model_dump_json(include=PARTS) if operation.many else ""
        self.reading_key = digest(READING, replies.model_dump_json(), of_part)
        self._description = description
        self._wishes = wishes
        self._folder = folder
        self._values = values
        self._look_again = read_again
        self._may_change = read_again is not None and description.has_files  # the credentials, while it is asked
        self._maker = RequestMaker(description, values, wishes)
        self._masker = Masker([*values.secrets(), self._maker.token])
        self._reading = replies.reading()
        own = operation.many.reply if operation.many else None
        self._reading_of_part = own.reading() if own else self._reading
        self._paths = replies.paths()
        self._apart = description.apart(operation)
        self._heard = HEARD | {rule.header[0] for rule in self._reading.rules if rule.header}
        self._follow_ups = FollowUps(description, wishes, self._reading, lambda: self._values.plain, self._masker)
        self.looks = self._follow_ups.looks
        self._transport: Transport | None = None
        used = {name: text for name, text in wishes.variables().items() if name in operation.variables()}
        area = ",".join(used[side] for side in BOX if side in used)
        language = used.get("language", "")
        countries = used.get("countries", "")
        template = self._maker.template
        count = operation.candidates
        wants = operation.wants()
        self.asking = Asking(self.name, direction, template, language, countries, count, wants, area)

    def request(self, asked: Subject) -> Request:
        """The request that asks about this."""
        made = self._maker.request(asked)
        return replace(made, again=partial(self.request, asked)) if self._may_change else made

    def request_many(self, asked: Sequence[Subject]) -> Request:
        """The request for all of these questions, at most `most`."""
        made = self._maker.request_many(asked)
        return replace(made, again=partial(self.request_many, asked)) if self._may_change else made

    def request_reply(self, ticket: str) -> Request:
        """The request that looks whether the reply that was promised with this ticket is ready."""
        return self._follow_ups.look(ticket, self._maker.request(Address()))

    def needs_token(self, request: Request) -> bool:
        """Whether another request must be sent before this one, for a token."""
        return request.before is None and self._follow_ups.ready(request).before is not None

    def apart(self, reply: Reply, count: int) -> Sequence[Reply]:
        """A reply for each question of a batch; the same for all if it concerns the whole request."""
        if self._apart is None or count == 1:
            return [reply] * count
        return split_batch(self._reading, self._apart, reply, count)

    def shown(self, asked: Subject) -> str:
        """The request for display, with secrets masked."""
        return self._maker.shown(asked)

    def meaning(self, reply: Reply) -> Read:
        """What a reply means, without its candidates."""
        return self._read(reply, read_meaning)

    def read(self, reply: Reply) -> Read:
        """What a reply says; a kept one too, for nothing is asked again."""
        return self._read(reply, read_reply)

    def looked_up(self, reply: Reply) -> Sequence[Looked]:
        """What each path of the description found in the first candidate of a reply."""
        look_at = look_up(self._reading_of(reply), reply.body, reply.headers)
        found = {name: self._masker.in_text(text) for name, text in look_at.items()}
        return [Looked(name, path, found.get(name)) for name, path in self._paths.items()]

    async def send(self, request: Request, leave: Leave | None = None) -> Reply | None:
        """Send a request once and wait for the whole reply. Never raises for faults of network or server.

        leave is awaited when the connection is open, before the first byte is sent; if it returns False, nothing is
        sent and there is no reply. If the reply has a `follow_up`, send that request next.
        """
        assert self._transport is not None, "send() needs the service to be entered"
        ready = self._follow_ups.ready(request)
        if ready.before is not None and request.before is None:
            return Reply(0, {}, b"", follow_up=ready)
        request = ready
        came = await self._transport.send(request, leave)
        if came is None:
            return None
        if isinstance(came, NoReply):
            return Reply(0, {}, b"", self._masker.in_text(came.why), came.kind)
        if came.status == 401 and not request.renewed and request.before is None and self._read_again(request):
            assert request.again is not None, "it was looked at"
            return replace(self._masked(came), follow_up=replace(request.again(), renewed=True))
        return self._follow_ups.after(request, came, self._masked(came))

    def _masked(self, came: RawReply) -> Reply:
        fields = {
            name: self._masker.in_text(text) for name in self._heard if (text := came.headers.get(name)) is not None
        }
        if came.too_large:
            why = f"the reply is larger than {LARGEST // 2**20} MiB"
            return Reply(came.status, fields, b"", why, Kind.UNREADABLE, lasting=True)
        return Reply(came.status, fields, self._masker.in_bytes(came.body))

    def _read_again(self, request: Request) -> bool:
        """Look the credentials up once more, which were refused; whether there are others now."""
        if request.again is None or self._look_again is None:
            return False
        values = self._look_again()
        if values.plain == self._values.plain:
            return False
        self._values = values
        self._maker = RequestMaker(self._description, values, self._wishes)
        self._masker.add(*values.secrets(), self._maker.token)
        return True

    def _read(self, reply: Reply, by: Callable[..., Read]) -> Read:
        if reply.headers.get(PART) == "missing" and self._apart and self._apart.missing_is_nothing:
            return Read(Kind.NOTHING_FOUND, message="the reply has no result for it", because="many.missing")
        if reply.kind is not None:
            return Read(reply.kind, message=reply.trouble, lasting=reply.lasting)
        return self._masker.in_read(by(self._reading_of(reply), reply.status, reply.body, reply.headers))

    def _reading_of(self, reply: Reply) -> Reading:
        return self._reading_of_part if PART in reply.headers else self._reading

    async def __aenter__(self) -> Self:
        connection = self._description.connection
        allowance = self._description.allowance
        ca = connection.ca and self._folder / connection.ca.expanduser()
        url = self._maker.request(Address()).url
        proxy = self._maker.proxy
        if not _is_http(url):
            shown = self._maker.shown(Address()).splitlines()[0]
            raise BadJob(f"{self.name} can't be asked: {shown} has no URL of http:// or https://. Nothing was sent.")
        self._transport = Transport(url, parallel=self.parallel, timeout_s=allowance.timeout_s, ca=ca, proxy=proxy)
        password = urlsplit(self._transport.proxy or "").password or ""
        self._masker.add(password, unquote(password))
        await self._transport.__aenter__()
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._transport is not None:
            await self._transport.__aexit__(*error)


def _is_http(url: str) -> bool:
    try:
        parts = urlsplit(url)
        return parts.scheme in {"http", "https"} and bool(parts.hostname) and (parts.port or 1) > 0
    except ValueError:
        return False
