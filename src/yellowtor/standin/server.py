"""The simulated service: it answers, refuses, delays and errs like real services, and counts its requests.

It answers in four formats (formats.py), described at `GET /openapi.json`, and in others (uncommon_formats.py).
`GET /counters` returns the counters, `GET /arrivals` the time of each request in seconds of its own clock.
"""

import asyncio
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import lru_cache, partial
from pathlib import Path
from typing import Any

from aiohttp import web

from yellowtor.standin.batches import MANY, MOST, BatchFormat
from yellowtor.standin.counters import Counters
from yellowtor.standin.formats import FORMATS, Asked, Finishing, Speaker, StandinFormat, StandinReply
from yellowtor.standin.gazetteer import POINTS, read_gazetteer
from yellowtor.standin.matching import Matcher
from yellowtor.standin.openapi import OPENAPI
from yellowtor.standin.uncommon_formats import Keyed, LaterJson, Lines, Moved, Outlines, Pages, Plain, TokenDesk


@dataclass(frozen=True)
class Manners:
    """How the stand-in behaves. `faults` maps a fault to n: every n-th request gets it; every n-th question `item`."""

    key: str = "demo-key-0001"
    per_second: int | None = 40
    per_day: int | None = None
    unfriendly: bool = False
    slow_s: float = 3.0
    faults: Mapping[str, int] = field(default_factory=dict)
    hints: str = "wait"  # `none`: it does not say how long to wait; `limits`: each reply has what its limits are


class StandIn:
    """The service's state: a gazetteer, manners, counters."""

    def __init__(self, gazetteer: Path, manners: Manners) -> None:
        changed = (gazetteer / POINTS).stat().st_mtime_ns
        self._matcher = _matcher_of(gazetteer, changed)
        self.manners = manners
        self.counters = Counters()
        self._asked = self._items = 0
        self._tokens = TokenDesk(manners.key)

    def app(self) -> web.Application:
        app = web.Application()
        later = LaterJson()
        for format_ in (*FORMATS, later, Moved(), Pages(), Lines(), Plain(), Outlines()):
            app.router.add_route(format_.method, format_.path, partial(self._find, format_))
        app.router.add_get("/ready/{ticket}", later.ready)
        app.router.add_post("/token", self._tokens.give)
        for many in (*MANY, Keyed()):
            app.router.add_post(many.path, partial(self._find_many, many))
        app.router.add_get("/openapi.json", self._describe)
        app.router.add_get("/counters", self._tell)
        app.router.add_get("/arrivals", self._tell_arrivals)
        return app

    async def _describe(self, _: web.Request) -> web.Response:
        return web.json_response(OPENAPI)

    async def _tell(self, _: web.Request) -> web.Response:
        return web.json_response(self.counters.as_dict())

    async def _tell_arrivals(self, _: web.Request) -> web.Response:
        return web.json_response(list(self.counters.arrivals))

    async def _find(self, format_: StandinFormat, request: web.Request) -> web.StreamResponse:
        recent = self.counters.arrived()
        asked = await format_.asked(request, self.manners.key)
        if self._tokens.knows(request):
            asked = replace(asked, trouble="")
        kind, response = await self._answer(format_, request, asked, recent)
        self.counters.answered(kind, asked.question)
        self._hint(response)
        return response

    def _hint(self, response: web.StreamResponse) -> None:
        """What the reply's fields say of limits, by its manners."""
        manners = self.manners
        if manners.hints == "none":
            for field_ in ("Retry-After", "RateLimit"):
                response.headers.pop(field_, None)
        if manners.hints == "limits" and not response.prepared:
            day = manners.per_day or 0
            left = (manners.per_day or 0) - self.counters.served_today
            response.headers["RateLimit-Policy"] = f'"pace";q={manners.per_second or 0};w=1, "day";q={day};w=86400'
            response.headers["RateLimit"] = f'"day";r={max(0, left)};t=3600'

    async def _find_many(self, format_: BatchFormat, request: web.Request) -> web.StreamResponse:
        """All answers; with the fault `item`, some of them say that they are busy."""
        recent = self.counters.arrived()
        asked = await format_.all_asked(request, self.manners.key)
        units = max(1, len(asked.questions)) if format_.counts_each else 1
        too_many = len(asked.questions) > MOST or not asked.questions
        kind, response = await self._refusal(format_, request, asked.trouble, recent, units, bad=too_many)
        if response is None:
            answers = [(name, self._one_of_many(question)) for name, question in asked.questions]
            kind = "many"
            response = format_.tell_all(answers)
        self.counters.answered(kind, *(question.question for _, question in asked.questions))
        return response

    def _one_of_many(self, asked: Asked) -> StandinReply:
        self._items += 1
        every = self.manners.faults.get("item")
        if every and self._items % every == 0:
            return StandinReply("busy")
        return self._reply(asked)

    async def _answer(
        self, format_: StandinFormat, request: web.Request, asked: Asked, recent: int
    ) -> tuple[str, web.StreamResponse]:
        kind, response = await self._refusal(format_, request, asked.trouble, recent, 1, lie=asked.question)
        if response is not None:
            return kind, response
        reply = self._reply(asked)
        if isinstance(format_, Finishing) and reply.kind in {"found", "nothing"}:
            return reply.kind, format_.finish(request, reply)
        return reply.kind, format_.tell(reply)

    def _reply(self, asked: Asked) -> StandinReply:
        if not asked.question.strip():
            return StandinReply("bad")
        places = (
            self._matcher.near(*asked.at, asked.limit) if asked.at else self._matcher.find(asked.question, asked.limit)
        )
        return StandinReply("found", places) if places else StandinReply("nothing")

    async def _refusal(
        self,
        format_: Speaker,
        request: web.Request,
        trouble: str,
        recent: int,
        units: int,
        *,
        lie: str = "",
        bad: bool = False,
    ) -> tuple[str, web.StreamResponse | None]:
        """Why the request is refused or broken; nothing if it is answered."""
        manners = self.manners
        if trouble:
            return "key", format_.tell(StandinReply("key", note=trouble))
        if manners.per_second and recent > manners.per_second:
            if manners.unfriendly and lie:
                return "zero", format_.tell(StandinReply("found", [_nowhere(lie)]))
            return "too fast", format_.tell(StandinReply("too fast"))
        if manners.per_day is not None and self.counters.served_today + units > manners.per_day:
            return "spent", format_.tell(StandinReply("spent"))
        self.counters.served_today += units
        self._asked += 1
        for fault, every in manners.faults.items():
            if self._asked % every == 0 and (broken := await self._break(format_, fault, request)) is not None:
                return fault, broken
        return ("bad", format_.tell(StandinReply("bad"))) if bad else ("", None)

    async def _break(self, format_: Speaker, fault: str, request: web.Request) -> web.StreamResponse | None:
        """A faulty reply; None when the fault is only that it comes late."""
        match fault:
            case "error" | "busy":
                return format_.tell(StandinReply(fault))
            case "page":
                page = "<!DOCTYPE html><html><body><h1>Maintenance</h1></body></html>"
                return web.Response(text=page, content_type="text/html")
            case "cut":
                return await _cut(request, format_.tell(StandinReply("found", [_nowhere("a place")])))
            case "slow":
                await asyncio.sleep(self.manners.slow_s)
        return None


async def _cut(request: web.Request, whole: web.Response) -> web.StreamResponse:
    """Announce a whole reply, send half of it, then close the connection."""
    body = whole.body
    assert isinstance(body, bytes), "it was made from a text"
    response = web.StreamResponse(headers={"Content-Type": whole.content_type, "Content-Length": str(len(body))})
    await response.prepare(request)
    await response.write(body[: len(body) // 2])
    if request.transport:
        request.transport.close()
    return response


def _nowhere(question: str) -> dict[str, Any]:
    return {
        "words": question,
        "precision": "door",
        "spot": {"north": 0, "east": 0},
        "frame": [0, 0, 0, 0],
        "bits": {"way": question},
    }


@lru_cache(maxsize=2)
def _matcher_of(gazetteer: Path, changed: int) -> Matcher:
    """The index of a gazetteer that was changed then; it is only read."""
    del changed
    return Matcher(*read_gazetteer(gazetteer))


@contextmanager
def running(standin: StandIn, port: int = 0) -> Iterator[str]:
    """Serve on a loopback port in a thread; yields the address, stops at the end.

    Raises OSError if the port is taken.
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
