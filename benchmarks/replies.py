"""Mutated replies of every shape: none may raise, take long, or give a coordinate that the grammar does not read in it.

python benchmarks/replies.py [REPLIES] [SEED]      default 1000000 1; takes about ten minutes
"""

import json
import random
import sys
import time
import tomllib
from datetime import UTC, datetime

from common import DATA

from yellowtor.allowance.retry import Attempt, decide
from yellowtor.answers.geography.coordinate_text import read_angle, read_pair
from yellowtor.answers.replies.batch_split import BatchSplit, split_batch
from yellowtor.answers.replies.reading import read_reply
from yellowtor.answers.replies.reply import Reply
from yellowtor.services.description import Description
from yellowtor.services.masking import Masker
from yellowtor.services.replies import ReplyRules
from yellowtor.settings import check_settings

LONGEST_S = 1.0
SECRET = "s3cret+key/of=mine"
NOW = datetime(2026, 3, 1, 12, tzinfo=UTC)
TOKENS = [
    b"\0", b"\\u0000", b"\xff", b"-", b"\xe2\x88\x92", b".", b",", b"_", b"e9", b"1e999", b"NaN", b"null", b"true",
    b"{}", b"[]", b'"', b"\\", b"<", b"&amp;", b"<!ENTITY a 'b'>", b"]]>", b"[" * 300, b"9" * 400, b"54.1",
    b"\xc2\xb0", b"N", b"W", b"POINT(", b"geo:", b"\r\n", b";", b"\\ud800", b"\xef\xbb\xbf", b"<html>", SECRET.encode(),
    b"s3cret%2bkey%2Fof%3Dmine",
]  # fmt: skip
DIGITS = [b"5", b"4", b"8", b".", b" ", b","]
HEADERS = [
    "",
    "3600",
    "999999999999",
    "-1",
    "\udcff",
    "Sun, 01 Mar 2026 12:00:30 GMT",
    '"a";r=0;t=9',
    "limit=1, remaining=0",
]
TYPES = ["application/json", "text/csv; charset=undefined", "text/xml; charset=utf-16", "application/problem+json", ""]
TEXTS = [
    "54.1, -8.2", "54°6'30\"N 8°12'W", "POINT(8.2 54.1)", "SRID=4326;POINT Z (8.2 54.1 3)", "geo:54.1,-8.2;u=3",
    "+5406.5-00812.0/", "N54.1 W8.2", "8.2,54.1,0", "54 06 30 N, 8 12 00 W", "−54.1 8.2", "(54.1; 8.2)",
]  # fmt: skip


def shapes():
    """How replies are read, and replies to begin with."""
    for name in ("stand-in", "stand-in-xml", "stand-in-text", "stand-in-geojson", "stand-in-many"):
        data = tomllib.loads((DATA / f"{name}.toml").read_text())
        yield check_settings(data, Description, "service description").reply, list(seeds(name))
    rules = {"candidates": "$.r[*]", "order": "latitude longitude", "fields": {"position": "$.p", "label": "$.l"}}
    bodies = [json.dumps({"r": [{"p": text, "l": "Kelp Lane"}, {"p": [54.1, "8.2"]}]}).encode() for text in TEXTS]
    yield ReplyRules(**rules), bodies
    yield ReplyRules(**rules | {"decimal": ",", "scale": 10}), [body.replace(b".", b",") for body in bodies]
    lines = rules | {"format": "json lines", "candidates": "$[*]"}
    yield ReplyRules(**lines), [b"\n".join(json.dumps({"p": text}).encode() for text in TEXTS)]
    deep = rules | {"candidates": "$..r[?@.p]", "message": "$..l"}
    yield ReplyRules(**deep), bodies


def seeds(name):
    geometry = {"type": "Polygon", "coordinates": [[[8, 54], [8, 54.1], [8.1, 54.1], [8, 54]]]}
    place = {
        "words": "14 Kelp Lane",
        "precision": "door",
        "spot": {"north": 47.5, "east": -28.5},
        "bits": {"way": "Kelp Lane"},
    }
    if name == "stand-in-xml":
        head = '<p:answer xmlns:p="urn:stand-in:places">'
        at = "".join(f'<p:place precision="door"><p:at>{text}</p:at></p:place>' for text in TEXTS[:4])
        yield f"{head}{at}</p:answer>".encode()
        yield f'{head}<p:fault code="15">slow</p:fault></p:answer>'.encode()
    elif name == "stand-in-text":
        yield b"0;1;47,5;-28,5;door;14 Kelp Lane;14;Kelp Lane;00412;Torvik;North;XT\r\n0;1;47,6;-28,5;way;;;;;;;\r\n"
    elif name == "stand-in-geojson":
        for one in ({"type": "Point", "coordinates": [-28.5, 47.5]}, geometry):
            yield json.dumps(
                {"type": "FeatureCollection", "features": [{"geometry": one, "properties": place}]}
            ).encode()
    else:
        yield json.dumps({"verdict": "found", "places": [place, place]}).encode()
        yield b'{"verdict": "nothing", "places": []}'


def mutated(chance, body, others):
    body = bytearray(body)
    for _ in range(chance.choice([1, 1, 1, 2, 3])):
        at, end = sorted(chance.randint(0, len(body)) for _ in range(2))
        match chance.randrange(8):
            case 0:
                body[at:at] = chance.choice(TOKENS)
            case 1:
                del body[at : min(end, at + chance.randint(1, 20))]
            case 2:
                body[at:at] = body[at : at + chance.randint(1, 60)]
            case 3 if body:
                body[at % len(body)] = chance.randrange(256)
            case 4 if chance.random() < 0.3:
                del body[at:]
            case 5:
                body[at:at] = chance.choice(others)[:200]
            case 6 | 7:
                body = bytearray(bytes(body).replace(chance.choice(DIGITS), chance.choice(TOKENS), 1))
    return bytes(body)


def leaves(value):
    """Every number that the grammar reads in a plain value of a reply."""
    if isinstance(value, dict | list):
        for one in value.values() if isinstance(value, dict) else value:
            yield from leaves(one)
    elif hasattr(value, "itertext"):
        for text in (*value.itertext(), *value.attrib.values()):
            yield from leaves(text)
    elif hasattr(value, "cells"):
        yield from leaves(list(value.cells))
    elif type(value) in {int, float}:
        yield float(value)
    elif isinstance(value, str):
        yield from numbers_in(value)


def numbers_in(text):
    """The numbers of a text, as an angle or a pair."""
    for mark in ".,":
        if angle := read_angle(text, mark):
            yield angle.value
        if pair := read_pair(text, mark):
            yield from pair[:2]


def is_in(reading, reply, read):
    """Whether each coordinate stands in the reply, by the grammar; of a geometry that is no point, it is on it."""
    numbers = list(leaves(reading.format.open(reply.body, reply.headers["content-type"])))
    known = {round(number / reading.scale, 9) for number in numbers} | {round(number, 9) for number in numbers}
    for one in read.candidates:
        if one.radius_m and one.radius_m > 0 and reading.position:
            continue
        if not {round(one.position.lat, 9), round(one.position.lon, 9)} <= known:
            return False
    return True


count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
prepared = [(rules.reading(), bodies, rules) for rules, bodies in shapes()]
everything = [body for _, bodies, _ in prepared for body in bodies]
masker = Masker([SECRET])
raised, misread, slow, kinds = 0, 0, 0, {}
began = time.perf_counter()
for number in range(count):
    reading, bodies, rules = chance.choice(prepared)
    status = chance.choice([200] * 12 + [201, 202, 204, 301, 400, 401, 404, 429, 500, 503, 599])
    headers = {
        "content-type": chance.choice(TYPES),
        "retry-after": chance.choice(HEADERS),
        "ratelimit": chance.choice(HEADERS),
    }
    reply = Reply(status, headers, masker.in_bytes(mutated(chance, chance.choice(bodies), everything)))
    before = time.perf_counter()
    try:
        read = masker.in_read(read_reply(reading, reply.status, reply.body, headers))
        decide(read.kind, status, headers, Attempt(1, 4, 0.5), NOW)
        if number % 10 == 0:
            split_batch(reading, BatchSplit(reading.candidates, of_lines=rules.format == "text"), reply, 2)
    except Exception as error:  # noqa: BLE001 - that is what is counted
        raised += 1
        print(f"raised {type(error).__name__}: {error} by {reply.body[:200]!r}")
        continue
    slow += time.perf_counter() - before > LONGEST_S
    kinds[read.kind] = kinds.get(read.kind, 0) + 1
    if read.candidates and not is_in(reading, reply, read):
        misread += 1
        print(f"misread {[one.position for one in read.candidates]} in {reply.body[:300]!r}")
took = time.perf_counter() - began
told = ", ".join(f"{kind} {share:,}" for kind, share in sorted(kinds.items(), key=lambda item: -item[1]))
print(f"{count:,} mutated replies in {took:.0f} s: {told}")
print(
    f"unhandled exceptions {raised}, coordinates that the grammar does not read {misread}, over 1 s {slow} (wanted: 0)"
)
