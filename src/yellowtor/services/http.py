"""The HTTP service: the only module that knows the HTTP client and its exceptions.

Nothing that leaves here holds a secret: replies are masked before anybody sees them, requests carry a
form that may be shown.
"""

from collections.abc import Awaitable, Callable, Mapping
from typing import TYPE_CHECKING, Any, Self
from urllib.parse import urlsplit
from urllib.request import getproxies, proxy_bypass

import uritemplate

from yellowtor.addresses.address import Address
from yellowtor.addresses.keys import Asking, digest
from yellowtor.answers.kinds import Kind
from yellowtor.answers.reading import Read, read_meaning, read_reply
from yellowtor.answers.reply import Reply, Request
from yellowtor.services.description import Description
from yellowtor.services.template import UrlTemplate
from yellowtor.services.variables import MASK, Values
from yellowtor.version import __version__

if TYPE_CHECKING:
    import aiohttp

LARGEST = 8 * 1024 * 1024  # bytes of a reply, unpacked


class _HeldBackError(Exception):
    """A request was not to leave after all."""


class HttpService:
    """A service as its description says; sends while it is entered (async with)."""

    def __init__(self, description: Description, values: Values, language: str = "") -> None:
        self.name = description.service.name
        self.attribution = description.service.attribution
        self.account = description.account
        self.pace = description.pace
        self.day = description.day
        self.parallel = description.allowance.parallel
        self.tries = description.allowance.tries
        self.reading_key = digest(description.reply.model_dump_json())
        self._forward = description.forward
        self._known: dict[str, Any] = {**values.plain, "limit": str(self._forward.candidates)}
        if language:
            self._known["language"] = language
        self._url = UrlTemplate(self._forward.url, self._known)
        self._timeout_s = description.allowance.timeout_s
        self._reading = description.reading()
        self._values = values
        self._session: aiohttp.ClientSession | None = None
        self._proxy: str | None = None
        template = "\n".join([self._forward.url, *(f"{k}: {v}" for k, v in self._forward.headers.items())])
        self.asking = Asking(self.name, "forward", template, language, "", self._forward.candidates)

    def request(self, address: Address) -> Request:
        """The request that asks about this address."""
        parts = _parts(address)
        headers = {name: _header(text, self._known | parts) for name, text in self._forward.headers.items()}
        return Request(self._url.expand(parts), headers)

    def shown(self, address: Address) -> str:
        """The same request as it may be printed: secrets masked."""
        secret = {name: f"MASK{name}" for name in self._values.secret_names}
        known = self._known | secret | _parts(address)
        lines = [f"GET {uritemplate.expand(self._forward.url, known)}"]
        lines += [f"{name}: {_header(text, known)}" for name, text in self._forward.headers.items()]
        text = "\n".join(lines)
        for mark in secret.values():
            text = text.replace(mark, MASK)
        return text

    def meaning(self, reply: Reply) -> Read:
        """What a reply says, but for its candidates."""
        if reply.kind is not None:
            return Read(reply.kind, message=reply.trouble)
        return read_meaning(self._reading, reply.status, reply.body)

    def read(self, reply: Reply) -> Read:
        return Read(reply.kind, message=reply.trouble) if reply.kind else self.read_kept(reply.status, reply.body)

    def read_kept(self, status: int, body: bytes) -> Read:
        return read_reply(self._reading, status, body)

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
            async with self._session.get(
                URL(request.url, encoded=True),
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
        return Reply(status, headers, self._values.mask(body))

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
            headers={"User-Agent": f"yellowtor/{__version__}", "Accept": "application/json"},
            cookie_jar=aiohttp.DummyCookieJar(),
            trace_configs=[self._door()] if self.pace.per_second else [],
        )
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._session is not None:
            await self._session.close()


def _proxy(url: str) -> str | None:
    """The proxy that the environment names for this address. (The client's own look-up starts a thread each time.)"""
    scheme, host = urlsplit(url)[:2]
    return None if not host or proxy_bypass(host) else getproxies().get(scheme)


def _parts(address: Address) -> dict[str, str]:
    """What a template can say of an address: its parts, and all of it in one line."""
    return {"q": address.line(), **address.as_dict()}


def _header(template: str, values: Mapping[str, str]) -> str:
    """A header is no URI: its variables go in as they are."""
    text = template
    for name in uritemplate.variables(template):
        text = text.replace(f"{{{name}}}", values.get(name, ""))
    return text


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
