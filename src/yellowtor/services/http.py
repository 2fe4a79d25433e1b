"""The HTTP service: the only module that knows the HTTP client and its exceptions.

Nothing that leaves here holds a secret: replies are masked before anybody sees them, requests carry a
form that may be shown.
"""

from collections.abc import Awaitable, Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Self
from urllib.parse import urlsplit

from yellowtor.addresses.address import Address
from yellowtor.addresses.keys import Asking, digest
from yellowtor.allowance.price import Price
from yellowtor.allowance.windows import Window
from yellowtor.answers.apart import take_apart
from yellowtor.answers.kinds import Kind
from yellowtor.answers.reading import Looked, Read, look_up, read_meaning, read_reply
from yellowtor.answers.reply import Reply, Request
from yellowtor.answers.spots import Subject
from yellowtor.services.calls import BOX
from yellowtor.services.description import Description
from yellowtor.services.making import RequestMaker, Wishes
from yellowtor.services.variables import Values

if TYPE_CHECKING:
    import aiohttp

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
LARGEST = 8 * 1024 * 1024  # bytes of a reply, unpacked


class _HeldBackError(Exception):
    """A request was not to leave after all."""


class HttpService:
    """A service as its description says, asked as is wished; sends while it is entered (async with)."""

    def __init__(self, description: Description, values: Values, wishes: Wishes = NONE) -> None:
        direction = wishes.direction
        operation, replies = description.operation(direction), description.replies(direction)
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
        self.unset = values.unset
        self.extra = tuple(replies.extra)
        self.reading_key = digest(replies.model_dump_json())
        self._maker = RequestMaker(description, values, wishes)
        self._timeout_s = description.allowance.timeout_s
        self._reading = replies.reading()
        self._heard = HEARD | {rule.header[0] for rule in self._reading.rules if rule.header}
        self._values = replace(values, derived=(self._maker.token,))
        self._session: aiohttp.ClientSession | None = None
        self._proxy: str | None = None
        self._paths = replies.paths()
        self._apart = description.apart(operation)
        self.most = operation.many.most if operation.many else 1
        self.counts_each = operation.many is None or operation.many.counts == "questions"
        template, count, wants = self._maker.template, operation.candidates, operation.wants()
        told = wishes.variables()
        used = {name: text for name, text in told.items() if name in operation.variables()}
        area = ",".join(used[side] for side in BOX if side in used)
        language, countries = used.get("language", ""), used.get("countries", "")
        self.asking = Asking(self.name, direction, template, language, countries, count, wants, area)

    def request(self, asked: Subject) -> Request:
        """The request that asks about this."""
        return self._maker.request(asked)

    def request_many(self, asked: Sequence[Subject]) -> Request:
        """The request that asks about all of these at once: no more than `most`."""
        return self._maker.request_many(asked)

    def apart(self, reply: Reply, count: int) -> Sequence[Reply]:
        """A reply to so many questions as one to each; the same for all where it speaks of the request as a whole."""
        if self._apart is None or count == 1:
            return [reply] * count
        return take_apart(self._reading, self._apart, reply, count)

    def shown(self, asked: Subject) -> str:
        """The same request as it may be printed: secrets masked."""
        return self._maker.shown(asked)

    def meaning(self, reply: Reply) -> Read:
        """What a reply says, but for its candidates."""
        if reply.kind is not None:
            return Read(reply.kind, message=reply.trouble)
        return read_meaning(self._reading, reply.status, reply.body, reply.headers)

    def read(self, reply: Reply) -> Read:
        """What a reply says; a kept one too, for nothing is asked again."""
        if reply.kind is not None:
            return Read(reply.kind, message=reply.trouble)
        return read_reply(self._reading, reply.status, reply.body, reply.headers)

    def looked_up(self, reply: Reply) -> Sequence[Looked]:
        """What each path of the description found in the first candidate of a reply."""
        found = look_up(self._reading, reply.body, reply.headers)
        return [Looked(name, path, found.get(name)) for name, path in self._paths.items()]

    async def send(self, request: Request, leave: Callable[[], Awaitable[bool]] | None = None) -> Reply | None:
        """Send and wait for the whole reply. Never raises for what a network or a server can do.

        leave is awaited when the connection stands, before the first byte goes out; when it says no, nothing
        does, and there is no reply.
        """
        import aiohttp  # a run that has all its answers does without
        from yarl import URL

        assert self._session is not None, "send() needs the service to be entered"
        if leave and not self.pace.per_second:  # no pace: no need to stand at the door
            if not await leave():
                return None
            leave = None
        try:
            async with self._session.request(
                request.method,
                URL(request.url, encoded=True),
                data=request.body,
                headers=request.headers,
                allow_redirects=False,
                proxy=self._proxy,
                trace_request_ctx=leave,
            ) as answer:
                body = await answer.content.read(LARGEST + 1)
                while not answer.content.at_eof() and len(body) <= LARGEST:
                    body += await answer.content.read(LARGEST + 1 - len(body))
                status, headers = answer.status, answer.headers  # a mapping that any spelling of a name finds
        except _HeldBackError:
            return None
        except TimeoutError:
            return _no_reply(Kind.UNAVAILABLE, f"no reply within {self._timeout_s:g} s")
        except aiohttp.ClientPayloadError:
            return _no_reply(Kind.UNREADABLE, "the reply was cut short")
        except (aiohttp.ClientError, OSError) as error:
            return _no_reply(Kind.UNAVAILABLE, self._values.mask_text(_explain(error)))
        if len(body) > LARGEST:
            return _no_reply(Kind.UNREADABLE, f"the reply is larger than {LARGEST // 2**20} MiB")
        told = {name: self._values.mask_text(text) for name in self._heard if (text := headers.get(name)) is not None}
        return Reply(status, told, self._values.mask(body))

    def _door(self) -> "aiohttp.TraceConfig":
        """Holds each request back, its connection ready, until it may leave."""
        import aiohttp

        async def hold(_session: object, context: Any, _parameters: object) -> None:
            if context.trace_request_ctx is not None and not await context.trace_request_ctx():
                raise _HeldBackError

        trace = aiohttp.TraceConfig()
        trace.on_connection_create_end.append(hold)
        trace.on_connection_reuseconn.append(hold)
        return trace

    async def __aenter__(self) -> Self:
        import aiohttp

        self._proxy = _proxy(self.request(Address()).url)
        self._session = aiohttp.ClientSession(
            connector=aiohttp.TCPConnector(limit=self.parallel),
            timeout=aiohttp.ClientTimeout(total=self._timeout_s),
            cookie_jar=aiohttp.DummyCookieJar(),
            trace_configs=[self._door()] if self.pace.per_second else [],
        )
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._session is not None:
            await self._session.close()


def _proxy(url: str) -> str | None:
    """The proxy that the environment names for this address. (The client's own look-up starts a thread each time.)"""
    from urllib.request import getproxies, proxy_bypass  # a run that has all its answers does without

    scheme, host = urlsplit(url)[:2]
    return None if not host or proxy_bypass(host) else getproxies().get(scheme)


def _no_reply(kind: Kind, trouble: str) -> Reply:
    return Reply(0, {}, b"", trouble, kind)


def _explain(error: Exception) -> str:
    import ssl

    import aiohttp

    if isinstance(error, aiohttp.ClientConnectorError):
        if isinstance(error.os_error, ssl.SSLError):
            return f"no safe connection: {error.os_error.reason or error.os_error}"
        return f"no connection to {error.host}:{error.port} ({error.os_error.strerror or 'refused'})"
    if isinstance(error, aiohttp.ServerDisconnectedError):
        return "the server closed the connection without a reply"
    return str(error) or type(error).__name__
