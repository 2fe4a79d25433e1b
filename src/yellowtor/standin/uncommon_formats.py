"""Less common kinds of services, each with its own description (stand-in-*.toml).

`POST /token` returns an access token, which `POST /features` accepts · `GET /later` promises a reply at `GET /ready/…`
· `GET /pages` returns one place a page · `GET /moved` redirects to `/find` · `GET /lines` returns JSON lines · `GET
/plain` returns one text a place in Windows-1252, with degrees and minutes · `GET /outlines` returns rectangles instead
of points · `POST /keyed` answers many questions by id, and leaves out unknown ones.
"""

import base64
import json
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qs, unquote

from aiohttp import web

from yellowtor.standin.batches import JsonMany
from yellowtor.standin.formats import Features, Json, StandinReply

LOOKS = 2  # so often a promised reply is not ready yet


class Moved(Json):
    """The old address of the service."""

    path = "/moved"

    def finish(self, request: web.Request, reply: StandinReply) -> web.Response:
        del reply
        return web.Response(status=307, headers={"Location": f"/find?{request.query_string}"})


@dataclass
class LaterJson(Json):
    """Takes a question, and has its reply later."""

    path = "/later"
    waiting: dict[str, list[Any]] = field(default_factory=dict)  # by ticket: looks that are left, and the reply

    def finish(self, request: web.Request, reply: StandinReply) -> web.Response:
        del request
        ticket = secrets.token_hex(8)
        self.waiting[ticket] = [LOOKS, reply]
        return web.json_response({"ticket": ticket}, status=202)

    async def ready(self, request: web.Request) -> web.Response:
        """The reply to what has this ticket, or that it is not there yet."""
        known = self.waiting.get(request.match_info["ticket"])
        if known is None:
            return web.json_response({"verdict": "no such ticket"}, status=410)
        known[0] -= 1
        return self.tell(known[1]) if known[0] < 0 else web.json_response({"verdict": "not yet"}, status=202)


class Pages(Json):
    """One place a page."""

    path = "/pages"

    def finish(self, request: web.Request, reply: StandinReply) -> web.Response:
        page = request.query.get("page", "0")
        at = int(page) if page.isascii() and page.isdecimal() else 0
        body = self.body(reply) | {"places": list(reply.places[at : at + 1])}
        if at + 1 < len(reply.places):
            body["next"] = str(request.rel_url.update_query(page=at + 1))
        return web.json_response(body)


class Lines(Json):
    """JSON lines: a place each; of nothing found, one line says so."""

    path = "/lines"

    def finish(self, request: web.Request, reply: StandinReply) -> web.Response:
        del request
        lines = [*reply.places] or [{"verdict": self.verdicts[reply.kind]}]
        text = "".join(f"{json.dumps(line, ensure_ascii=False)}\n" for line in lines)
        return web.Response(text=text, content_type="application/jsonl")


class Plain(Json):
    """Text with a header: a position in degrees and minutes, and the address in one line; in Windows-1252."""

    path = "/plain"

    def finish(self, request: web.Request, reply: StandinReply) -> web.Response:
        del request
        rows = [
            f"{_angle(p['spot']['north'], 'NS')} {_angle(p['spot']['east'], 'EW')}|{p['words']}" for p in reply.places
        ]
        text = "".join(f"{row}\r\n" for row in ["where|what", *rows])
        return web.Response(body=text.encode("cp1252", "replace"), headers={"Content-Type": "text/plain"})


class Outlines(Features):
    """Rectangles instead of points."""

    method = "GET"
    path = "/outlines"
    asked = Json.asked
    trouble = staticmethod(Json.trouble)

    def finish(self, request: web.Request, reply: StandinReply) -> web.Response:
        del request
        content = self.content(reply)
        for feature, place in zip(content["features"], reply.places, strict=True):
            west, south, east, north = place["frame"]
            ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
            feature["geometry"] = {"type": "Polygon", "coordinates": [ring]}
        return web.json_response(content, content_type="application/geo+json")


def _angle(degrees: float, letters: str) -> str:
    size = abs(degrees)
    return f"{int(size)}°{size % 1 * 60:.5f}'{letters[degrees < 0]}"


@dataclass
class TokenDesk:
    """Gives out access tokens (OAuth 2.0 client credentials): for the client `demo` and the key."""

    key: str
    given: set[str] = field(default_factory=set)

    async def give(self, request: web.Request) -> web.Response:
        form = parse_qs(await request.text())
        scheme, _, pair = request.headers.get("Authorization", "").partition(" ")
        try:
            name, _, secret = base64.b64decode(pair).decode().partition(":")
        except ValueError:
            name = secret = ""
        known = (scheme, unquote(name), unquote(secret)) == ("Basic", "demo", self.key)
        if form.get("grant_type") != ["client_credentials"] or not known:
            return web.json_response({"error": "invalid_client"}, status=401)
        token = secrets.token_urlsafe(24)
        self.given.add(token)
        return web.json_response({"access_token": token, "token_type": "Bearer", "expires_in": 600})

    def knows(self, request: web.Request) -> bool:
        scheme, _, token = request.headers.get("Authorization", "").partition(" ")
        return scheme == "Bearer" and token in self.given


class Keyed(JsonMany):
    """Answers many by their ids; what it does not know is not there."""

    path = "/keyed"
    counts_each = False

    def tell_all(self, answers: Sequence[tuple[str, StandinReply]]) -> web.Response:
        found = {key: {"hits": list(reply.places)} for key, reply in answers if reply.kind == "found"}
        return web.json_response({"answers": found})
