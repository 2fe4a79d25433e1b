"""The simulated service: answers, refuses, dawdles and lies as real ones do, and counts what it is asked.

`GET /find?q=…&limit=…&key=…` answers a question; `GET /counters` tells what was counted, `GET /arrivals` when each
request came, in seconds of the stand-in's own clock.
"""

import asyncio
import json
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from aiohttp import web

from yellowtor.standin.counters import Counters
from yellowtor.standin.gazetteer import read_gazetteer
from yellowtor.standin.matching import Matcher

CREDIT = "Places: the stand-in's gazetteer (made up)"
FAULTS = ("error", "slow", "cut", "page", "busy")


@dataclass(frozen=True)
class Manners:
    """How the stand-in behaves. `faults` maps a fault to n: every n-th request gets it."""

    key: str = "demo-key-0001"
    per_second: int | None = 40
    per_day: int | None = None
    unfriendly: bool = False
    slow_s: float = 3.0
    faults: Mapping[str, int] = field(default_factory=dict)


class StandIn:
    """The service's state: a gazetteer, manners, counters."""

    def __init__(self, gazetteer: Path, manners: Manners) -> None:
        self._matcher = Matcher(*read_gazetteer(gazetteer))
        self.manners = manners
        self.counters = Counters()
        self._asked = 0

    def app(self) -> web.Application:
        app = web.Application()
        app.router.add_get("/find", self._find)
        app.router.add_get("/counters", self._tell)
        app.router.add_get("/arrivals", self._tell_arrivals)
        return app

    async def _tell(self, _: web.Request) -> web.Response:
        return web.json_response(self.counters.as_dict())

    async def _tell_arrivals(self, _: web.Request) -> web.Response:
        return web.json_response(list(self.counters.arrivals))

    async def _find(self, request: web.Request) -> web.StreamResponse:
        question = request.query.get("q", "")
        kind, response = await self._answer(request, question)
        self.counters.answered(kind, question)
        return response

    async def _answer(self, request: web.Request, question: str) -> tuple[str, web.StreamResponse]:
        recent = self.counters.arrived()
        manners = self.manners
        if request.query.get("key", "") != manners.key:
            said = "no key was sent" if "key" not in request.query else f"the key {request.query['key']} is unknown"
            return "key", _say(403, "key-unknown", said)
        if manners.per_second and recent > manners.per_second:
            if manners.unfriendly:
                return "zero", _found([_nowhere(question)])
            return "too fast", _say(429, "slow-down", "too many requests", {"Retry-After": "1"})
        if manners.per_day is not None and self.counters.served_today >= manners.per_day:
            return "spent", _say(200, "spent-today", "the requests of this day are used up")
        self.counters.served_today += 1
        self._asked += 1
        for fault, every in manners.faults.items():
            if self._asked % every == 0 and (broken := await self._break(fault, request)) is not None:
                return fault, broken
        if not question.strip():
            return "bad", _say(400, "bad-question", "q is empty")
        limit = request.query.get("limit", "5")
        places = self._matcher.find(question, int(limit) if limit.isdigit() else 5)
        if not places:
            return "nothing", _say(200, "nothing", "no such place is known")
        return "found", _found(places)

    async def _break(self, fault: str, request: web.Request) -> web.StreamResponse | None:
        """A faulty reply; None when the fault is only that it comes late."""
        match fault:
            case "error":
                return _say(500, "trouble", "something broke inside")
            case "busy":
                return _say(503, "trouble", "busy, come back", {"Retry-After": "1"})
            case "page":
                page = "<!DOCTYPE html><html><body><h1>Maintenance</h1></body></html>"
                return web.Response(text=page, content_type="text/html")
            case "cut":
                return await _cut(request)
        await asyncio.sleep(self.manners.slow_s)
        return None


async def _cut(request: web.Request) -> web.StreamResponse:
    """Promise more than is sent, then hang up."""
    response = web.StreamResponse(headers={"Content-Type": "application/json", "Content-Length": "4000"})
    await response.prepare(request)
    await response.write(b'{"verdict": "found", "places": [{"words": "14 ')
    if request.transport:
        request.transport.close()
    return response


def _say(status: int, verdict: str, note: str, headers: dict[str, str] | None = None) -> web.Response:
    body = {"verdict": verdict, "note": note, "places": []}
    return web.json_response(body, status=status, headers=headers, dumps=_dumps)


def _found(places: list[dict[str, Any]]) -> web.Response:
    return web.json_response({"verdict": "found", "places": places, "credit": CREDIT}, dumps=_dumps)


def _dumps(data: Any) -> str:
    return json.dumps(data, ensure_ascii=False)


def _nowhere(question: str) -> dict[str, Any]:
    return {
        "words": question, "precision": "door", "spot": {"north": 0, "east": 0}, "frame": [0, 0, 0, 0],
        "bits": {"way": question},
    }  # fmt: skip


@contextmanager
def running(standin: StandIn, port: int = 0) -> Iterator[str]:
    """Serve on a loopback port in a thread of its own; gives the address, stops at the end.

    Raises OSError when the port is taken.
    """
    loop = asyncio.new_event_loop()
    runner = web.AppRunner(standin.app(), access_log=None, shutdown_timeout=0.5)

    async def start() -> str:
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", port)
        await site.start()
        return f"http://127.0.0.1:{runner.addresses[0][1]}"

    thread = threading.Thread(target=loop.run_forever, name="stand-in", daemon=True)
    thread.start()
    try:
        yield asyncio.run_coroutine_threadsafe(start(), loop).result(30)
    finally:
        asyncio.run_coroutine_threadsafe(runner.cleanup(), loop).result(30)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)
        loop.close()
