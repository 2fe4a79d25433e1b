"""The OpenAPI description (3.1) of the stand-in's four shapes; it serves this at /openapi.json."""

from typing import Any

from yellowtor.standin.formats import NAMESPACE

NUMBER = {"type": "number"}
TEXT = {"type": "string"}
PARTS = ("no", "way", "settlement", "post", "district", "nation")
BITS = {"type": "object", "properties": dict.fromkeys((*PARTS, "nation_code"), TEXT)}
PRECISION = {"enum": ["door", "between doors", "way", "settlement", "nation"]}
FRAME = {"type": "array", "items": NUMBER, "minItems": 4, "maxItems": 4}
PLACE = {
    "type": "object",
    "required": ["words", "precision", "spot", "frame", "bits"],
    "properties": {
        "words": TEXT,
        "precision": PRECISION,
        "frame": FRAME,
        "bits": BITS,
        "spot": {"type": "object", "required": ["north", "east"], "properties": {"north": NUMBER, "east": NUMBER}},
    },
}
VERDICT = {
    "type": "object",
    "required": ["verdict", "places"],
    "properties": {
        "verdict": TEXT,
        "note": TEXT,
        "credit": TEXT,
        "places": {"type": "array", "items": PLACE},
    },
}
POINT = {
    "type": "object",
    "required": ["type", "coordinates"],
    "properties": {
        "type": {"const": "Point"},
        "coordinates": {"type": "array", "items": NUMBER, "minItems": 2, "maxItems": 2},
    },
}
FEATURE = {
    "type": "object",
    "required": ["type", "id", "bbox", "geometry", "properties"],
    "properties": {
        "type": {"const": "Feature"},
        "id": TEXT,
        "bbox": FRAME,
        "geometry": POINT,
        "properties": {
            "type": "object",
            "required": ["words", "precision", "trust"],
            "properties": {"words": TEXT, "precision": PRECISION, "trust": {"type": "integer"}},
        },
    },
}
FEATURES = {
    "type": "object",
    "required": ["type", "features"],
    "properties": {"type": {"const": "FeatureCollection"}, "features": {"type": "array", "items": FEATURE}},
}
PROBLEM = {
    "type": "object",
    "required": ["type", "title", "detail", "status"],
    "properties": {"type": TEXT, "title": TEXT, "detail": TEXT, "status": {"type": "integer"}},
}


def _query(name: str, means: str, schema: Any = TEXT, *, required: bool = False) -> dict[str, Any]:
    return {"name": name, "in": "query", "description": means, "required": required, "schema": schema}


def _says(means: str, media: str, schema: Any = None) -> dict[str, Any]:
    return {"description": means, "content": {media: {"schema": schema or TEXT}}}


COUNT = {"type": "integer", "minimum": 1}
FIND: dict[str, Any] = {
    "operationId": "find",
    "summary": "Ask in one line; JSON with a verdict.",
    "security": [{"query_key": []}],
    "parameters": [_query("q", "the address in one line"), _query("limit", "how many places at most", COUNT)],
    "responses": {
        "200": _says("places, or the verdict nothing or spent-today", "application/json", VERDICT),
        "400": _says("bad-question", "application/json", VERDICT),
        "403": _says("key-unknown", "application/json", VERDICT),
        "429": _says("slow-down; Retry-After says how long", "application/json", VERDICT),
        "500": _says("trouble", "application/json", VERDICT),
        "503": _says("trouble; Retry-After says how long", "application/json", VERDICT),
    },
}
LOOKUP: dict[str, Any] = {
    "operationId": "lookup",
    "summary": f"Ask part by part; XML in the namespace {NAMESPACE}, its errors too under the status 200.",
    "security": [{"header_key": []}],
    "parameters": [*(_query(name, "a part of the address") for name in PARTS), _query("max", "how many places", COUNT)],
    "responses": {
        "200": _says("places, or a fault: 13 key, 14 day used up, 15 too fast, 16 empty, 17 busy", "application/xml"),
        "500": _says("something broke inside", "application/xml"),
    },
}
TABLE: dict[str, Any] = {
    "operationId": "table",
    "summary": "Ask by a signed URL (HMAC with SHA-1 of path and query, in base64url); text with semicolons.",
    "parameters": [
        _query("q", "the address in one line"),
        _query("n", "how many places at most", COUNT),
        _query("sign", "the signature, the last parameter"),
    ],
    "responses": {
        "200": _says("a status, a note, latitude and longitude with decimal commas, the place", "text/csv"),
        "500": _says("status 5: something broke inside", "text/csv"),
    },
}
QUESTION = {"type": "object", "properties": {"text": TEXT, "most": COUNT}}
ASK_FEATURES: dict[str, Any] = {
    "operationId": "features",
    "summary": "Ask by POST with a token; GeoJSON, and problem details for errors.",
    "security": [{"token": []}],
    "requestBody": {"required": True, "content": {"application/json": {"schema": QUESTION}}},
    "responses": {
        "200": _says("features", "application/geo+json", FEATURES),
        **{
            status: _says(means, "application/problem+json", PROBLEM)
            for status, means in {
                "400": "the question is empty",
                "401": "the token is not known",
                "403": "the day is used up",
                "429": "too fast; RateLimit says how long",
                "500": "something broke inside",
                "503": "busy",
            }.items()
        },
    },
}
POSITION = "degrees, WGS 84"


def _near(
    forward: dict[str, Any], name: str, parameters: list[Any], more: dict[str, Any] | None = None
) -> dict[str, Any]:
    """The operation for a position, with its parameters instead of the address."""
    operation = {
        **forward,
        "operationId": name,
        "summary": f"What is at a position? Otherwise as {forward['operationId']}.",
    }
    if parameters:
        operation["parameters"] = parameters
    return {**operation, **(more or {})}


AT = {"type": "object", "properties": {"at": POINT, "most": COUNT}}
NEAR = {
    "/near": {
        "get": _near(
            FIND,
            "near",
            [
                _query("north", POSITION, NUMBER),
                _query("east", POSITION, NUMBER),
                FIND["parameters"][1],
            ],
        )
    },
    "/whereis": {
        "get": _near(
            LOOKUP,
            "whereis",
            [
                _query("at", f"latitude, a blank, longitude; {POSITION}"),
                LOOKUP["parameters"][-1],
            ],
        )
    },
    "/row-near": {
        "get": _near(
            TABLE,
            "row-near",
            [
                _query("y", POSITION, NUMBER),
                _query("x", POSITION, NUMBER),
                *TABLE["parameters"][1:],
            ],
        )
    },
    "/features-near": {
        "post": _near(
            ASK_FEATURES,
            "features-near",
            [],
            {
                "requestBody": {"required": True, "content": {"application/json": {"schema": AT}}},
            },
        )
    },
}


def _many(forward: dict[str, Any], name: str, media: str, body: Any, answer: tuple[str, str, Any]) -> dict[str, Any]:
    """The operation for many questions in one request."""
    responses = {**forward["responses"], "200": _says(*answer), "400": _says("no question, or more than 100", media)}
    return {
        **forward,
        "operationId": name,
        "summary": f"Many questions at once. Otherwise as {forward['operationId']}.",
        "parameters": [],
        "requestBody": {"required": True, "content": {media: {"schema": body}}},
        "responses": responses,
    }


def _list(name: str, of: Any) -> dict[str, Any]:
    return {"type": "object", "required": [name], "properties": {name: {"type": "array", "items": of}}}


ASKS = {
    "type": "object",
    "properties": {
        "asks": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {"id": TEXT, "q": TEXT},
            },
        },
        "limit": COUNT,
    },
}
TEXTS = {"type": "object", "properties": {"texts": {"type": "array", "items": TEXT}, "most": COUNT}}
LINES = {"type": "object", "properties": {"lines": TEXT, "n": COUNT}}
MANY = {
    "/find-many": {
        "post": _many(
            FIND,
            "find-many",
            "application/json",
            ASKS,
            (
                "answers by id, in any order",
                "application/json",
                _list("answers", VERDICT),
            ),
        )
    },
    "/lookup-many": {
        "post": _many(
            LOOKUP,
            "lookup-many",
            "application/xml",
            TEXT,
            (
                "answers in the order of the questions, or a fault",
                "application/xml",
                TEXT,
            ),
        )
    },
    "/rows": {
        "post": _many(
            TABLE,
            "rows",
            "application/x-www-form-urlencoded",
            LINES,
            (
                "as /table, the id of the question in the last column",
                "text/csv",
                TEXT,
            ),
        )
    },
    "/features-many": {
        "post": _many(
            ASK_FEATURES,
            "features-many",
            "application/json",
            TEXTS,
            (
                "feature collections, or problems, in the order of the questions",
                "application/json",
                _list("results", {}),
            ),
        )
    },
}
OPENAPI: dict[str, Any] = {
    "openapi": "3.1.0",
    "info": {"title": "The stand-in", "version": "1", "summary": "A simulated service that knows a made-up gazetteer."},
    "paths": {
        "/find": {"get": FIND},
        "/lookup": {"get": LOOKUP},
        "/table": {"get": TABLE},
        "/features": {"post": ASK_FEATURES},
        **NEAR,
        **MANY,
    },
    "components": {
        "securitySchemes": {
            "query_key": {"type": "apiKey", "in": "query", "name": "key"},
            "header_key": {"type": "apiKey", "in": "header", "name": "X-Access"},
            "token": {"type": "http", "scheme": "bearer"},
        }
    },
}
