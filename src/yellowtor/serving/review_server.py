"""Serves the review page on loopback and passes its decisions on. No other page can read it or send to it.

Every request needs the token in its path, the server's own name in `Host`, and no foreign `Origin`; one that decides
needs the page's own `Origin` (Fetch standard) and a JSON body, which no cross-site form can send.
"""

import asyncio
import hmac
import json
import secrets
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import Any

from aiohttp import web

from yellowtor.errors import YellowtorError

Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]
MOST_BYTES = 2_000_000
MOST_DECISIONS = 1_000
HEADERS = {
    "Cache-Control": "no-store",
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Content-Security-Policy": "frame-ancestors 'none'",
}


@dataclass(frozen=True)
class DecisionsTaken:
    """What became of some decisions: what was wrong with which, and how many addresses are left to decide about."""

    faults: Sequence[str]
    left: int


@dataclass
class ReviewServer:
    """page makes the page; take stores decisions (cells by column, or `undo`). Both may raise YellowtorError."""

    page: Callable[[], str]
    take: Callable[[Sequence[Mapping[str, str]]], DecisionsTaken]
    token: str = field(default_factory=lambda: secrets.token_urlsafe(24))
    settled: asyncio.Event = field(default_factory=asyncio.Event)
    _one_at_a_time: asyncio.Lock = field(default_factory=asyncio.Lock)
    _hosts: frozenset[str] = frozenset()

    @asynccontextmanager
    async def running(self, port: int = 0) -> AsyncIterator[str]:
        """Serve on this loopback port (0: a free one); yields the page's address. Raises OSError if it is taken."""
        runner = web.AppRunner(self._app(), access_log=None, shutdown_timeout=1.0)
        await runner.setup()
        try:
            await web.TCPSite(runner, "127.0.0.1", port).start()
            number = runner.addresses[0][1]
            self._hosts = frozenset(f"{name}:{number}" for name in ("127.0.0.1", "localhost"))
            yield f"http://127.0.0.1:{number}/{self.token}/"
        finally:
            await runner.cleanup()

    def _app(self) -> web.Application:
        app = web.Application(middlewares=[self._guard], client_max_size=MOST_BYTES)
        app.router.add_get("/{token}/", self._get)
        app.router.add_post("/{token}/decisions", self._post)
        return app

    @web.middleware
    async def _guard(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        """Refuse what does not come from the page itself; never say why in detail."""
        if not self._is_ours(request):
            return web.Response(status=403, text="Refused.\n", headers=HEADERS)
        try:
            response = await handler(request)
        except web.HTTPException as error:
            return web.Response(status=error.status, text=f"{error.reason}\n", headers=HEADERS)
        response.headers.update(HEADERS)
        return response

    def _is_ours(self, request: web.Request) -> bool:
        host = request.headers.get("Host", "")
        origins = request.headers.getall("Origin", [])
        if host not in self._hosts or len(request.headers.getall("Host", [])) != 1:
            return False
        if any(origin != f"http://{host}" for origin in origins) or (request.method != "GET" and len(origins) != 1):
            return False
        if request.headers.get("Sec-Fetch-Site", "none") not in {"none", "same-origin"}:
            return False
        given = request.path.split("/")[1]
        return hmac.compare_digest(given.encode(), self.token.encode())

    async def _get(self, request: web.Request) -> web.StreamResponse:
        del request
        async with self._one_at_a_time:
            try:
                text = await asyncio.to_thread(self.page)
            except YellowtorError as error:
                return web.Response(status=503, text=f"{error}\n")
        return web.Response(body=text.encode("utf-8", "replace"), content_type="text/html", charset="utf-8")

    async def _post(self, request: web.Request) -> web.StreamResponse:
        if request.content_type != "application/json":
            raise web.HTTPUnsupportedMediaType
        rows = _rows(await request.read())
        if rows is None:
            raise web.HTTPBadRequest
        async with self._one_at_a_time:
            try:
                taken = await asyncio.to_thread(self.take, rows)
            except YellowtorError as error:
                return web.json_response({"error": str(error)}, status=503)
        if not taken.left:
            asyncio.get_running_loop().call_later(0.5, self.settled.set)  # when the page has its reply
        return web.json_response({"faults": list(taken.faults), "left": taken.left})


def _rows(body: bytes) -> list[dict[str, str]] | None:
    """The decisions in a body; None if it has something else."""
    try:
        found: Any = json.loads(body)
    except (ValueError, RecursionError):
        return None
    if not isinstance(found, list) or not 0 < len(found) <= MOST_DECISIONS:
        return None
    rows = [{name: text for name, text in row.items() if isinstance(text, str)} for row in found if _is_row(row)]
    return rows if len(rows) == len(found) else None


def _is_row(row: object) -> bool:
    return isinstance(row, dict) and isinstance(row.get("id"), str) and isinstance(row.get("decision"), str)
