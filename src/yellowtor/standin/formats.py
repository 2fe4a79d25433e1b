"""The four shapes that the stand-in speaks, each with its own way to ask, its own key and its own quirks.

`GET /find` JSON, the key in the query · `GET /lookup` XML, asked part by part, the key in a header, errors under the
status 200 · `GET /table` delimited text, the URL signed, decimal commas, a status column · `POST /features` GeoJSON,
a bearer token, problem details (RFC 9457), RateLimit fields.

In reverse, what is at a position: `GET /near`, `GET /whereis`, `GET /row-near`, `POST /features-near`.
"""

import base64
import hashlib
import hmac
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol, runtime_checkable
from urllib.parse import urlsplit
from xml.sax.saxutils import escape, quoteattr

from aiohttp import web

CREDIT = "Places: the stand-in's gazetteer (made up)"
NOTES = {
    "nothing": "no such place is known",
    "too fast": "too many requests",
    "spent": "the requests of this day are used up",
    "bad": "the question is empty",
    "error": "something broke inside",
    "busy": "busy, come back",
}
STATUS = {"key": 403, "too fast": 429, "bad": 400, "error": 500, "busy": 503}
NAMESPACE = "urn:stand-in:places"


@dataclass(frozen=True)
class Asked:
    """A parsed request. trouble: what is wrong with its key, empty if nothing.

    at is the position (latitude, longitude) of a question in reverse.
    """

    question: str
    limit: int
    trouble: str = ""
    at: tuple[float, float] | None = None

    @classmethod
    def near(cls, north: Any, east: Any, limit: int, trouble: str) -> "Asked":
        """What is at a position? No number, no question."""
        try:
            at = float(north), float(east)
        except (TypeError, ValueError):
            return cls("", limit, trouble)
        return cls(f"{at[0]}, {at[1]}", limit, trouble, at)


@dataclass(frozen=True)
class StandinReply:
    """What is to be answered: a kind (found, or one of NOTES, or key), places, a note."""

    kind: str
    places: Sequence[Mapping[str, Any]] = field(default_factory=list)
    note: str = ""

    @property
    def said(self) -> str:
        return self.note or NOTES.get(self.kind, "")


class Speaker(Protocol):
    """How a shape answers."""

    def tell(self, reply: StandinReply) -> web.Response: ...


class StandinFormat(Speaker, Protocol):
    """One shape: how it is asked, how it answers."""

    method: str
    path: str

    async def asked(self, request: web.Request, key: str) -> Asked: ...


@runtime_checkable
class Finishing(Protocol):
    """A shape whose answer depends on the request, too."""

    def finish(self, request: web.Request, reply: StandinReply) -> web.Response: ...


class Json:
    """JSON with a verdict; the key is in the query."""

    method = "GET"
    path = "/find"
    verdicts: Mapping[str, str] = {
        "found": "found",
        "nothing": "nothing",
        "key": "key-unknown",
        "too fast": "slow-down",
        "spent": "spent-today",
        "bad": "bad-question",
        "error": "trouble",
        "busy": "trouble",
    }

    async def asked(self, request: web.Request, key: str) -> Asked:
        return Asked(request.query.get("q", ""), limit_of(request.query.get("limit")), self.trouble(request, key))

    @staticmethod
    def trouble(request: web.Request, key: str) -> str:
        given = request.query.get("key")
        return "" if given == key else "no key was sent" if given is None else f"the key {given} is unknown"

    def tell(self, reply: StandinReply) -> web.Response:
        return _json(self.body(reply), STATUS.get(reply.kind, 200), _wait(reply))

    def body(self, reply: StandinReply) -> dict[str, Any]:
        if reply.kind == "found":
            return {"verdict": "found", "places": reply.places, "credit": CREDIT}
        return {"verdict": self.verdicts[reply.kind], "note": reply.said, "places": reply.places}


class JsonNear(Json):
    """In reverse: two numbers in the query."""

    path = "/near"

    async def asked(self, request: web.Request, key: str) -> Asked:
        get = request.query.get
        return Asked.near(get("north"), get("east"), limit_of(get("limit")), self.trouble(request, key))


class Xml:
    """XML with a namespace; asked part by part, the key in a header, every error but a crash under the status 200."""

    method = "GET"
    path = "/lookup"
    codes: Mapping[str, int] = {"key": 13, "spent": 14, "too fast": 15, "bad": 16, "busy": 17}

    async def asked(self, request: web.Request, key: str) -> Asked:
        get = request.query.get
        return Asked(self.line(get), limit_of(get("max")), self.trouble(request, key))

    @staticmethod
    def line(get: Callable[[str, str], str]) -> str:
        """The address in one line, of its parts."""
        street = f"{get('no', '')} {get('way', '')}".strip()
        town = f"{get('post', '')} {get('settlement', '')}".strip()
        return ", ".join(filter(None, [street, town, get("district", ""), get("nation", "")]))

    @staticmethod
    def trouble(request: web.Request, key: str) -> str:
        given = request.headers.get("X-Access", "")
        return "" if given == key else f"access denied for {given or 'nobody'}"

    def tell(self, reply: StandinReply) -> web.Response:
        text = f'<?xml version="1.0" encoding="UTF-8"?>\n{self.element(reply)}'
        status = 500 if reply.kind == "error" else 200
        return web.Response(text=text, status=status, content_type="application/xml", headers=_wait(reply))

    def element(self, reply: StandinReply) -> str:
        if reply.kind in self.codes:
            inner = f'<fault code="{self.codes[reply.kind]}">{escape(reply.said)}</fault>'
        else:
            inner = "".join(map(self._place, reply.places))
        return f'<answer xmlns="{NAMESPACE}">{inner}</answer>'

    @staticmethod
    def _place(place: Mapping[str, Any]) -> str:
        parts = "".join(f"<{name}>{escape(str(text))}</{name}>" for name, text in place["bits"].items())
        at = f"{place['spot']['north']} {place['spot']['east']}"
        whole = "whole" if place["precision"] in {"door", "between doors"} else "part"
        return (
            f"<place precision={quoteattr(place['precision'])} match={quoteattr(whole)}><at>{at}</at>"
            f"<words>{escape(place['words'])}</words><bits>{parts}</bits></place>"
        )


class XmlNear(Xml):
    """In reverse: latitude and longitude in one text, separated by a space."""

    path = "/whereis"

    async def asked(self, request: web.Request, key: str) -> Asked:
        north, _, east = request.query.get("at", "").partition(" ")
        return Asked.near(north, east, limit_of(request.query.get("max")), self.trouble(request, key))


class TextTable:
    """Delimited text without a header: a status, then a place; decimal commas; the URL is signed (HMAC with SHA-1)."""

    method = "GET"
    path = "/table"
    status: Mapping[str, str] = {
        "found": "0",
        "nothing": "1",
        "bad": "2",
        "too fast": "7",
        "key": "8",
        "spent": "9",
        "busy": "6",
        "error": "5",
    }

    async def asked(self, request: web.Request, key: str) -> Asked:
        return Asked(request.query.get("q", ""), limit_of(request.query.get("n")), self.trouble(request, key))

    def trouble(self, request: web.Request, key: str) -> str:
        signed, _, signature = request.raw_path.rpartition("&sign=")
        digest = hmac.digest(key.encode(), signed.encode(), hashlib.sha1)
        right = base64.urlsafe_b64encode(digest).decode()
        assert urlsplit(request.raw_path).path == self.path, "the router saw to it"
        return "" if hmac.compare_digest(signature, right) else "the signature is wrong"

    def tell(self, reply: StandinReply) -> web.Response:
        return self.response(self.rows(reply), 500 if reply.kind == "error" else 200, _wait(reply))

    def rows(self, reply: StandinReply) -> list[list[str]]:
        return [self._row(place) for place in reply.places] or [[self.status[reply.kind], reply.said]]

    @staticmethod
    def response(rows: Sequence[Sequence[str]], status: int, headers: Mapping[str, str]) -> web.Response:
        text = "".join(";".join(f'"{cell}"' if ";" in cell else cell for cell in row) + "\r\n" for row in rows)
        return web.Response(text=text, status=status, content_type="text/csv", charset="utf-8", headers=headers)

    @staticmethod
    def _row(place: Mapping[str, Any]) -> list[str]:
        numbers = [str(place["spot"][side]).replace(".", ",") for side in ("north", "east")]
        bits = [place["bits"].get(name, "") for name in ("no", "way", "post", "settlement", "district", "nation_code")]
        return ["0", "", *numbers, place["precision"], place["words"], *bits]


class TableNear(TextTable):
    """In reverse."""

    path = "/row-near"

    async def asked(self, request: web.Request, key: str) -> Asked:
        get = request.query.get
        return Asked.near(get("y"), get("x"), limit_of(get("n")), self.trouble(request, key))


class Features:
    """GeoJSON (RFC 7946) for a POST with JSON; bearer token; problem details; a trust of 0 to 100."""

    method = "POST"
    path = "/features"
    statuses: Mapping[str, int] = {**STATUS, "key": 401, "spent": 403}
    trust: Mapping[str, int] = {"door": 97, "between doors": 74, "way": 55, "settlement": 38, "nation": 12}

    async def asked(self, request: web.Request, key: str) -> Asked:
        body = await body_of(request)
        return Asked(str(body.get("text", "")), limit_of(body.get("most")), self.trouble(request, key))

    @staticmethod
    def trouble(request: web.Request, key: str) -> str:
        return "" if request.headers.get("Authorization") == f"Bearer {key}" else "this token is not known"

    def tell(self, reply: StandinReply) -> web.Response:
        if reply.kind in {"found", "nothing"}:
            return _json(self.content(reply), 200, {}, "application/geo+json")
        headers = {"RateLimit": '"burst";r=0;t=1'} if reply.kind == "too fast" else _wait(reply)
        return _json(self.content(reply), self.statuses[reply.kind], headers, "application/problem+json")

    def content(self, reply: StandinReply) -> dict[str, Any]:
        """Features, or a problem."""
        if reply.kind in {"found", "nothing"}:
            return {"type": "FeatureCollection", "features": list(map(self._feature, reply.places))}
        kind = {"key": "token", "spent": "quota", "busy": "busy"}.get(reply.kind, "about:blank")
        return {"type": kind, "title": reply.kind, "detail": reply.said, "status": self.statuses[reply.kind]}

    def _feature(self, place: Mapping[str, Any]) -> dict[str, Any]:
        spot = place["spot"]
        code = hashlib.sha256(place["words"].encode()).hexdigest()[:10]
        return {
            "type": "Feature",
            "id": code,
            "bbox": place["frame"],
            "geometry": {"type": "Point", "coordinates": [spot["east"], spot["north"]]},
            "properties": {
                "words": place["words"],
                "precision": place["precision"],
                "trust": self.trust[place["precision"]],
                **place["bits"],
            },
        }


class FeaturesNear(Features):
    """In reverse: a GeoJSON point, longitude first."""

    path = "/features-near"

    async def asked(self, request: web.Request, key: str) -> Asked:
        body = await body_of(request)
        point = body.get("at")
        given = point.get("coordinates") if isinstance(point, dict) else None
        east, north = given if isinstance(given, list) and len(given) == 2 else (None, None)
        return Asked.near(north, east, limit_of(body.get("most")), self.trouble(request, key))


FORMATS: Sequence[StandinFormat] = (
    Json(),
    Xml(),
    TextTable(),
    Features(),
    JsonNear(),
    XmlNear(),
    TableNear(),
    FeaturesNear(),
)


async def body_of(request: web.Request) -> Mapping[str, Any]:
    """A body of JSON that is an object; else nothing."""
    try:
        body = await request.json()
    except ValueError:
        return {}
    return body if isinstance(body, dict) else {}


def limit_of(given: Any) -> int:
    return int(given) if str(given).isdigit() else 5


def _wait(reply: StandinReply) -> dict[str, str]:
    return {"Retry-After": "1"} if reply.kind in {"too fast", "busy"} else {}


def _json(body: Any, status: int, headers: dict[str, str], kind: str = "application/json") -> web.Response:
    text = json.dumps(body, ensure_ascii=False)
    return web.Response(text=text, status=status, headers=headers, content_type=kind)
