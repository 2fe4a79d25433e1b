"""The way to a service and back: the only module that knows the HTTP client. It sends each request once.

What it gives back is as it came, with its secrets: the caller masks them.
"""

import ssl
from collections.abc import Awaitable, Callable, Mapping
from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self
from urllib.parse import urlsplit

from yellowtor.answers.replies.reply import Request
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.errors import BadJob

if TYPE_CHECKING:
    import aiohttp

CLOSED = "the server closed the connection without a reply"
LARGEST = 8 * 1024 * 1024  # bytes of a reply, unpacked
Leave = Callable[[], Awaitable[bool]]


@dataclass(frozen=True, slots=True)
class RawReply:
    """A reply as it came. headers is a mapping that any spelling of a name finds; too_large: the body is cut."""

    status: int
    headers: Mapping[str, str]
    body: bytes
    too_large: bool = False

    def field(self, name: str) -> str:
        return self.headers.get(name, "")


@dataclass(frozen=True, slots=True)
class NoReply:
    """Why no reply came, and what that means."""

    kind: Kind
    why: str


class _HeldBackError(Exception):
    """A request was not to leave after all."""


class _Door:
    """Lets a request through once, when it may be sent.

    The client repeats a request if a kept connection was closed meanwhile. The repetition would not be counted, so it
    is held back.
    """

    def __init__(self, leave: Leave | None) -> None:
        self._leave = leave
        self.left = False

    async def hold(self) -> None:
        """Wait until it may leave. Raises _HeldBackError when it must not, or has left before."""
        if self.left or (self._leave and not await self._leave()):
            raise _HeldBackError
        self.left = True


_DOOR: ContextVar[_Door] = ContextVar("_DOOR")  # of the request that this task sends


class Transport:
    """Connections to a service, inside its context: at most `parallel` at a time, `timeout_s` for each request.

    ca is a file of certificates that are trusted in addition to the system's. proxy is a URL; if empty, the environment
    decides.
    """

    def __init__(self, url: str, *, parallel: int, timeout_s: float, ca: Path | None, proxy: str) -> None:
        self._parallel = parallel
        self._timeout_s = timeout_s
        self._ca = ca
        self.proxy = proxy or _proxy(url)
        self._session: aiohttp.ClientSession | None = None

    async def send(self, request: Request, leave: Leave | None) -> RawReply | NoReply | None:
        """Send once and wait for the whole reply; None when it was not to leave. Never raises for what a network does.

        leave is awaited when the connection stands, before the first byte goes out.
        """
        import aiohttp  # a run that has all its answers does without
        from yarl import URL

        from yellowtor.services.transport_errors import explain

        assert self._session is not None, "the transport is to be entered"
        door = _Door(leave)
        _DOOR.set(door)
        try:
            async with self._session.request(
                request.method,
                URL(request.url, encoded=True),
                data=request.body,
                headers=request.headers,
                allow_redirects=False,
                proxy=self.proxy,
            ) as answer:
                body = await answer.content.read(LARGEST + 1)
                while not answer.content.at_eof() and len(body) <= LARGEST:
                    body += await answer.content.read(LARGEST + 1 - len(body))
                return RawReply(answer.status, answer.headers, body[:LARGEST], too_large=len(body) > LARGEST)
        except _HeldBackError:
            return NoReply(Kind.UNAVAILABLE, CLOSED) if door.left else None
        except TimeoutError:
            return NoReply(Kind.UNAVAILABLE, f"no reply within {self._timeout_s:g} s")
        except aiohttp.ClientPayloadError:
            return NoReply(Kind.UNREADABLE, "the reply was cut short")
        except (aiohttp.ClientError, OSError) as error:
            return NoReply(Kind.UNAVAILABLE, explain(error))

    async def __aenter__(self) -> Self:
        import aiohttp

        class Connector(aiohttp.TCPConnector):
            """Holds each request when its connection is open, new or kept."""

            async def connect(self, *about: Any, **more: Any) -> Any:
                connection = await super().connect(*about, **more)
                try:
                    await _DOOR.get().hold()
                except BaseException:
                    connection.close()
                    raise
                return connection

        self._session = aiohttp.ClientSession(
            connector=Connector(limit=self._parallel, ssl=self._trusted()),
            timeout=aiohttp.ClientTimeout(total=self._timeout_s),
            cookie_jar=aiohttp.DummyCookieJar(),
        )
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._session is not None:
            await self._session.close()

    def _trusted(self) -> ssl.SSLContext | bool:
        """The authorities that sign the service's certificate: those of the system, and the description's own."""
        if self._ca is None:
            return True
        try:
            context = ssl.create_default_context()
            context.load_verify_locations(cafile=str(self._ca))
        except (OSError, ssl.SSLError) as error:
            raise BadJob(
                f"connection.ca: {self._ca} can't be read as certificates in PEM: {error.strerror or 'it holds none'}. "
                "Nothing was sent."
            ) from error
        return context


def _proxy(url: str) -> str | None:
    """The proxy that the environment names for this address. (The client's own look-up starts a thread each time.)"""
    from urllib.request import getproxies, proxy_bypass  # a run that has all its answers does without

    scheme, host = urlsplit(url)[:2]
    return None if not host or proxy_bypass(host) else getproxies().get(scheme)
