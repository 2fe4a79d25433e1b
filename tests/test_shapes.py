"""Services of four shapes: the same answers from each, every way to say no understood, nothing made out of noise."""

import asyncio
import base64
import hashlib
import hmac
import json
import re
import subprocess
import sys
import urllib.request
from dataclasses import replace
from datetime import UTC, datetime
from itertools import product
from pathlib import Path
from urllib.parse import parse_qsl, quote, urlsplit

import jsonschema
import pytest
from conftest import DATA, KEY, Example, around, real_addresses, write_csv

from yellowtor.allowance.retry import Attempt, Retry, decide
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.subject import AskedPosition
from yellowtor.errors import BadJob, KeyRefused
from yellowtor.services.description import Description
from yellowtor.services.http import HttpService
from yellowtor.services.request_maker import Wishes
from yellowtor.services.variables import Variable, find_values
from yellowtor.settings import read_settings
from yellowtor.standin.formats import Json
from yellowtor.standin.gazetteer import read_gazetteer

SHAPES = ["stand-in", "stand-in-xml", "stand-in-text", "stand-in-geojson"]
MANY = ["stand-in-many", *SHAPES[1:]]  # asked many questions at once
TOML = {name: (DATA / f"{name}.toml").read_text() for name in [*SHAPES, "stand-in-many"]}


def service(folder, text, base="http://service.invalid", key=KEY, direction="forward"):
    (folder / "service.toml").write_text(text.replace("per_second = 40\n", ""))
    description = read_settings(folder / "service.toml", Description, "service description")
    environment = {"YELLOWTOR_STANDIN": base, "YELLOWTOR_STANDIN_KEY": key}
    return HttpService(description, find_values(description.variables, around(environment), folder), Wishes(direction))


def send(made, request):
    async def once():
        async with made:
            return await made.send(request)

    return asyncio.run(once())


def ask(made, address):
    return send(made, made.request(address))


@pytest.fixture(scope="module")
def first():
    """A real address, in parts."""
    ((_, street, town, postcode),) = real_addresses(1)
    return Address(street=street, town=town, postcode=postcode)


@pytest.mark.parametrize("shape", SHAPES)
def test_a_job_gets_the_same_answers_in_each_shape_and_pays_once(small, shape):
    job = small([*real_addresses(6), ["X", "1 No Such Street", "Nowhere", "99999"]])
    job.path("stand-in.toml").write_text(TOML[shape].replace("per_second = 40\n", ""))
    summary = job.summary()
    assert (summary["outcomes"]["placed"], summary["outcomes"]["unplaced"]) == (6, 1)
    points = {f"{p.number} {p.street}|{p.postcode}": [f"{p.lat:g}", f"{p.lon:g}"] for p in read_gazetteer(DATA)[0]}
    for row in (row for row in job.rows("placed.csv").values() if row["Id"] != "X"):
        at = [f"{float(row[name]):g}" for name in ("Latitude", "Longitude")]
        assert at == points[f"{row['Street']}|{row['Postcode']}"]
    assert job.summary()["requests"]["sent"] == 0
    assert KEY not in job.path("ledger.sqlite").read_bytes().decode("latin-1")


KINDS = {
    "answered": {},
    "nothing found": {},
    "key refused": {"key": "another"},
    "window spent": {"per_day": 0},
    "unavailable": {"faults": {"error": 1}},
    "unavailable ": {"faults": {"busy": 1}},
    "unreadable": {"faults": {"page": 1}},
    "unreadable ": {"faults": {"cut": 1}},
}


CODES = {"answered": 0, "nothing found": 0, "key refused": 5, "window spent": 6, "unavailable": 1, "unreadable": 1}


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("kind", KINDS)
def test_every_way_to_say_no_is_understood_in_every_shape(serve, tmp_path, first, shape, kind):
    """Through the program; the key stands in nothing that it says or keeps."""
    example = Example(tmp_path, serve(**KINDS[kind]))
    example.path("service.toml").write_text(TOML[shape].replace("per_second = 40\n", ""))
    example.env["YELLOWTOR_STANDIN_KEY"] = KEY
    asked, kind = Address(street="1 No Such Street") if kind == "nothing found" else first, kind.strip()
    told = example.run(
        *("try", *(word for name, text in asked.as_dict().items() for word in ("--part", f"{name}={text}"))),
        *("--service", "service.toml", "--ledger", "l.sqlite", "--save", "r.http"),
        code=CODES[kind],
    )
    assert re.search(rf"^Reply  .*· {kind}$", told.stdout, re.MULTILINE)
    assert ("→" in told.stdout) == (kind == "answered")
    assert ("finds nothing" in told.stdout) is False
    said = "What came: " if kind == "unreadable" else "The service says: "
    assert kind in {"answered", "nothing found"} or said in told.stdout
    kept = b"".join(path.read_bytes() for path in tmp_path.iterdir())
    for said in (told.stdout, told.stderr, kept.decode("latin-1")):
        assert KEY not in said
        assert quote(KEY, safe="") not in said


@pytest.mark.parametrize("shape", SHAPES)
def test_a_question_that_the_service_refuses_is_told_from_one_without_an_answer(serve, tmp_path, shape):
    made = service(tmp_path, TOML[shape], serve().address)
    read = made.read(ask(made, Address()))
    assert read.kind is Kind.QUESTION_REFUSED
    assert read.message.endswith("the question is empty")


@pytest.mark.parametrize("shape", SHAPES)
def test_too_fast_and_the_lie_of_a_service_that_is_asked_too_fast(serve, tmp_path, first, shape):
    for unfriendly, kind in ((False, Kind.TOO_FAST), (True, Kind.UNREADABLE)):
        made = service(tmp_path, TOML[shape], serve(per_second=1, unfriendly=unfriendly).address)
        ask(made, first)
        reply = ask(made, first)
        read = made.read(reply)
        assert read.kind is kind
        assert not read.candidates
        if kind is Kind.TOO_FAST:
            decision = decide(read.kind, reply.status, reply.headers, Attempt(1, 4, 0.0), datetime.now(UTC))
            assert decision == Retry(1.0), "as Retry-After or RateLimit say"


def test_the_openapi_description_of_the_stand_in_is_served_and_true(serve, tmp_path, first):
    """Whatever a shape says, in whatever mood, its status, its media type and its JSON are as described."""
    with urllib.request.urlopen(f"{serve().address}/openapi.json") as reply:
        told = json.load(reply)
    assert told["openapi"].startswith("3.1")
    seen = set()
    subjects = {
        "forward": (first, Address(street="1 No Such Street")),
        "reverse": (AskedPosition("47.72030", "-28.92600"), AskedPosition("47.60000", "-28.50000")),
    }
    for shape, (direction, (known, nowhere)) in product(SHAPES, subjects.items()):
        for kind, manners in KINDS.items():
            if kind.startswith("unreadable"):
                continue
            made = service(tmp_path, TOML[shape], serve(**manners).address, direction=direction)
            asked = nowhere if kind == "nothing found" else known
            request = made.request(asked)
            reply, path = ask(made, asked), urlsplit(request.url)
            assert kind.startswith(made.read(reply).kind)
            described = told["paths"][path.path][request.method.lower()]
            named = {parameter["name"] for parameter in described.get("parameters", ())} | {"key"}
            assert {name for name, _ in parse_qsl(path.query, keep_blank_values=True)} <= named
            ((media, content),) = described["responses"][str(reply.status)]["content"].items()
            assert reply.headers["content-type"].startswith(media)
            if media.endswith("json"):
                jsonschema.Draft202012Validator(content["schema"]).validate(json.loads(reply.body))
            seen.add((path.path, reply.status))
    for shape, manners in product(MANY, ({}, {"key": "other"})):
        made = service(tmp_path, TOML[shape], serve(**manners).address)
        request = made.request_many([first, Address(street="1 No Such Street")])
        reply, path = send(made, request), urlsplit(request.url).path
        ((media, content),) = told["paths"][path]["post"]["responses"][str(reply.status)]["content"].items()
        assert reply.headers["content-type"].startswith(media)
        if media.endswith("json"):
            jsonschema.Draft202012Validator(content["schema"]).validate(json.loads(reply.body))
        kinds = [made.read(one).kind for one in made.apart(reply, 2)]
        assert kinds == ([Kind.KEY_REFUSED] * 2 if manners else [Kind.ANSWERED, Kind.NOTHING_FOUND])
        seen.add((path, reply.status))
    assert {path for path, _ in seen} == told["paths"].keys()
    assert len(seen) >= 30


XML = b'<answer xmlns="urn:stand-in:places"><place precision="door"><at>47.72 -28.92</at></place></answer>'


def test_no_body_however_mangled_makes_a_traceback_or_a_coordinate_out_of_nothing():
    """Some thousand of the million replies that the benchmark mutates, in all shapes."""
    script = Path(__file__).parent.parent / "benchmarks" / "replies.py"
    told = subprocess.run([sys.executable, script, "4000", "7"], capture_output=True, text=True, timeout=120).stdout
    assert "unhandled exceptions 0, coordinates that the grammar does not read 0, over 1 s 0" in told, told


def test_an_entity_is_never_expanded_and_no_file_is_read(tmp_path):
    (tmp_path / "secret").write_text("47.1 -28.1")
    for entity in (f'SYSTEM "file://{tmp_path}/secret"', '"47.1 -28.1"'):
        body = XML.replace(b"47.72 -28.92", b"&x;")
        for encoding in ("utf-8", "utf-16"):
            text = f'<?xml version="1.0" encoding="{encoding}"?><!DOCTYPE answer [<!ENTITY x {entity}>]>{body.decode()}'
            read = service(tmp_path, TOML["stand-in-xml"]).read(Reply(200, {}, text.encode(encoding)))
            assert (read.kind, read.candidates) == (Kind.UNREADABLE, ())
            assert "entities" in read.message
    hidden = b'<?xml version="1.0" encoding="utf-7"?><!DOCTYPE answer [+ADw-+ACE-ENTITY x "door">]>'
    body = XML.replace(b"door", b"&x;")
    assert "entities" in service(tmp_path, TOML["stand-in-xml"]).read(Reply(200, {}, hidden + body)).message


POST = 'method = "POST"\njson = { text = "{q}", most = "{limit}" }'


def test_bodies_are_escaped_credentials_sent_and_neither_shown(tmp_path):
    address = Address(street='1 "Kelp" & <Sons>', town="Ørlvík")
    bodies = {
        'form = { q = "{street}", n = "{limit}", r = "{region}" }': b"q=1+%22Kelp%22+%26+%3CSons%3E&n=5",
        'xml = "<a t=\\"{town}\\">{street}</a>"': '<a t="Ørlvík">1 &quot;Kelp&quot; &amp; &lt;Sons&gt;</a>'.encode(),
        'json = { a = ["{street}", "{region}", 7], b = { town = "in {town}" }, c = "{limit}" }': json.dumps(
            {"a": ['1 "Kelp" & <Sons>', 7], "b": {"town": "in Ørlvík"}, "c": 5}, ensure_ascii=False
        ).encode(),
    }
    for said, sent in bodies.items():
        request = service(tmp_path, TOML["stand-in-geojson"].replace(POST, f'method = "POST"\n{said}')).request(address)
        assert (request.method, request.body) == ("POST", sent)
    basic = TOML["stand-in-geojson"].replace('bearer = "{token}"', 'user = "me"\npassword = "{token}"')
    made = service(tmp_path, basic.replace('name = "stand-in', 'contact = "mail@example.org"\nname = "stand-in'))
    headers, token = made.request(address).headers, base64.b64encode(f"me:{KEY}".encode()).decode()
    assert headers["Authorization"] == f"Basic {token}"
    assert headers["User-Agent"].endswith("(mail@example.org)")
    assert token not in made._masker.in_text(f"you sent {token}")
    assert "Authorization: Basic me:•••" in made.shown(address)
    assert KEY not in made.shown(address) + repr(made.request(address))


@pytest.mark.parametrize(
    ("hashed", "signs", "written", "secret"),
    [
        ("sha1", "path and query", "base64url", "text"),
        ("sha256", "url", "hex", "hex"),
        ("md5", "query", "base64", "base64"),
    ],
)
def test_a_url_is_signed_as_the_description_says(tmp_path, hashed, signs, written, secret):
    raw = b"\xfb\xefa secret"
    key = {"text": KEY, "hex": raw.hex(), "base64": base64.b64encode(raw).decode()}[secret]
    text = TOML["stand-in-text"].replace("base64url", written).replace("sha1", hashed).replace("path and query", signs)
    text = text.replace('secret = "{secret}"', f'secret = "{{secret}}"\nsecret_is = "{secret}"')
    made = service(tmp_path, text, key=key)
    url, _, signature = made.request(Address(town="Ørlvík")).url.partition("&sign=")
    signed = {"url": url, "path and query": url[url.index("/table") :], "query": url.partition("?")[2]}[signs]
    digest = hmac.new(raw if secret != "text" else KEY.encode(), signed.encode(), getattr(hashlib, hashed)).digest()
    encoded = {"hex": digest.hex(), "base64": base64.b64encode(digest).decode()}
    assert signature == encoded.get(written, base64.urlsafe_b64encode(digest).decode())
    assert made.shown(Address(town="Ørlvík")).endswith("&sign=•••")


MISTAKES = [
    ("stand-in", 'latitude = "$.spot.north"', 'latitude = "$.spot..["', "fields.latitude: '$.spot..[' is not a JSONPath"),
    ("stand-in", 'candidates = "$.places[*]"\n', "", "candidates is missing"),
    ("stand-in", "candidates = 5", 'candidates = 5\nmethod = "POST"', "that needs one: json, form or xml"),
    ("stand-in", 'longitude = "$.spot.east"\n', "", "latitude and longitude belong together"),
    ("stand-in", 'path = "$.verdict"\nequals = "key-unknown"', "path = '$.verdict'\nequals = 'nothing'", "the 2. can never hold"),
    ("stand-in", 'equals = "nothing"', "status = 600", "600 is not an HTTP status"),
    ("stand-in", 'equals = "nothing"', 'matches = "("', "is not a regular expression"),
    ("stand-in", 'message = "$.note"', 'message = "$.note"\ndelimiter = ";"', 'delimiter belongs to format = "text"'),
    ("stand-in-geojson", '[credentials]\nbearer = "{token}"\n', "", "variables.token is used nowhere"),
    ("stand-in-xml", "{number}", "{door}", "{door} is not a variable"),
    ("stand-in-many", 'q = "{q}" }', 'q = "x" }', "forward.many.question has no variable for what is asked about"),
    ("stand-in", 'kind = "nothing found"', 'kind = "accepted"', 'a rule of the kind "accepted" needs [forward.poll]'),
    ("stand-in-many", 'id = "$.id"', "", "id (or keyed) and the variable {id} of question belong together"),
    ("stand-in-many", 'results = "$.answers[*]"\n', "", "forward.many.results: is missing"),
    ("stand-in-many", '"$.answers[*]"', '"$.answers["', "is not a JSONPath"),
    ("stand-in-many", 'asks = "{questions}"', 'asks = "{q}"', "has no {questions} in its body or URL"),
    ("stand-in-xml", '"p:at"', '"p:at["', "is not an XPath"),
    ("stand-in-xml", '"p:at"', '"q:at"', "Undefined namespace prefix"),
    ("stand-in-xml", 'partial = ["part"]\n', "", "partial and fields.partial belong together"),
    ("stand-in-text", 'level = "5"', 'level = "precision"', "is not a column: give its number"),
    ("stand-in-text", 'append = "&sign={+signature}"', 'append = "&sign="', "append has no {signature}"),
    ("stand-in-geojson", 'bearer = "{token}"', 'bearer = "{token}"\nuser = "me"', "user and password belong together"),
    ("stand-in-geojson", "worst = 0, best = 100", "worst = 1, best = 1", "worst and best are the same"),
    ("stand-in-geojson", "json = {", 'form = { q = "{q}" }\njson = {', "has more than one body"),
]  # fmt: skip


@pytest.mark.parametrize(("shape", "old", "new", "told"), MISTAKES, ids=[m[3] for m in MISTAKES])
def test_a_mistake_in_a_description_is_told_with_its_line_before_anything_is_sent(tmp_path, shape, old, new, told):
    assert old in TOML[shape]
    with pytest.raises(BadJob) as raised:
        service(tmp_path, TOML[shape].replace(old, new, 1))
    assert told in str(raised.value)
    assert re.search(r"service\.toml(, line \d+)?: ", str(raised.value))


def test_a_line_break_in_quotes_is_part_of_its_cell(tmp_path):
    body = '0;;47,5;-28,5;door;"1 Kelp\nLane";1;Kelp\u2028Lane;;Torvik;;XT\r\n'.encode()
    (found,) = service(tmp_path, TOML["stand-in-text"]).read(Reply(200, {}, body)).candidates
    assert (found.label, found.parts["street"]) == ("1 Kelp\nLane", "Kelp\u2028Lane")


def test_a_rule_may_look_at_status_header_body_and_what_is_absent(tmp_path):
    text = TOML["stand-in"] + (
        '[[reply.rules]]\nheader = "X-Left"\nmatches = "^0$"\nkind = "window spent"\n'
        '[[reply.rules]]\nbody = "try again"\nkind = "unavailable"\n'
        '[[reply.rules]]\nstatus = [200, 204]\nabsent = "$.places"\nkind = "not permitted"\n'
    )
    made = service(tmp_path, text)
    said = {
        "window spent": (200, {"x-left": "0"}, b"{}"),
        "unavailable": (200, {}, b"<html>try again"),
        "not permitted": (200, {}, b"{}"),
        "nothing found": (200, {"x-left": "10"}, b'{"places": []}'),
        "too fast": (429, {}, b"slow down"),
    }
    assert {kind: made.read(Reply(*reply)).kind.value for kind, reply in said.items()} == {k: k for k in said}
    assert "x-left" in made._heard


def test_positions_in_another_system_an_array_or_a_text_become_degrees(tmp_path):
    one = TOML["stand-in"].replace('latitude = "$.spot.north"\nlongitude = "$.spot.east"', 'position = "$.at"')
    metric = TOML["stand-in"].replace('message = "$.note"', 'crs = "EPSG:3857"\nmessage = "$.note"')
    cases = [
        (one.replace('message = "$.note"', 'order = "latitude longitude"'), {"at": [47.5, -28.5]}),
        (one.replace('message = "$.note"', 'order = "longitude latitude"'), {"at": "SRID=4326;POINT Z (-28.5 47.5 3)"}),
        (one.replace('message = "$.note"', 'order = "longitude latitude"\ndecimal = ","'), {"at": "-28,5; 47,5"}),
        (metric, {"spot": {"north": 6024072.119373527, "east": -3172605.486879818}}),
        (TOML["stand-in"], {"spot": {"north": "47.5", "east": -28.5}}),
    ]
    for text, place in cases:
        read = service(tmp_path, text).read(Reply(200, {}, json.dumps({"places": [place]}).encode()))
        assert [(round(c.position.lat, 6), round(c.position.lon, 6)) for c in read.candidates] == [(47.5, -28.5)], place


def test_a_field_that_is_added_later_is_read_from_kept_replies(small):
    job = small(real_addresses(3))
    text = TOML["stand-in-geojson"].replace("per_second = 40\n", "")
    job.path("stand-in.toml").write_text(text.replace('[reply.extra]\ncode = "$.id"', "#"))
    assert job.summary()["requests"]["sent"] == 1, "three questions in one"
    job.edit("job.toml", ("[write.columns]", '[write.columns.extra]\ntrust = "Trust"\n[write.columns]'))
    assert "adds no such field" in job.run("run", "job.toml", code=3).stderr
    job.edit("stand-in.toml", ("[reply.levels]", '[reply.extra]\ntrust = "$.properties.trust"\n[reply.levels]'))
    assert job.summary()["requests"]["sent"] == 0
    assert {row["Trust"] for row in job.rows("placed.csv").values()} == {"97"}


def test_a_service_that_asks_by_parts_is_not_asked_about_a_whole_address(small):
    job = small(real_addresses(2))
    job.path("stand-in.toml").write_text(TOML["stand-in-xml"].replace("per_second = 40\n", ""))
    told = job.run("try", "1 Kelp Lane, Torvik", "--service", "stand-in.toml", code=3).stderr
    assert "The service asks by number, street, town" in told
    write_csv(job.path("records.csv"), [["1", "", "", "", ""]])
    job.edit("job.toml", ('street = "Street"', 'whole = "Notes"'), ('town = "Town"\npostcode = "Postcode"\n', ""),
             ('needed = ["street", "town"]', ""))  # fmt: skip
    job.edit("records.csv", ("1,,,,,,", "1,,,,,,Kelp Lane 1 Torvik"))
    assert job.summary()["outcomes"]["incomplete"] == 1
    assert job.service.requests == 0


def test_try_saves_a_reply_reads_it_again_shows_parts_and_compares_services(small):
    job = small(real_addresses(3))
    for name in SHAPES[1:]:
        job.path(f"{name}.toml").write_text(TOML[name].replace("per_second = 40\n", ""))
    told = job.run("try", "--job", "job.toml", "--record", "R1", "--service", "stand-in-xml.toml", "--save", "r.http")
    assert "p:bits/p:street" not in told.stdout
    assert re.search(r"street +p:bits/p:way +\S", told.stdout)
    assert "answered: the status 200 (RFC 9110); no rule holds" in told.stdout
    asked = job.service.requests
    assert job.path("r.http").read_bytes().startswith(b"HTTP/1.1 200\r\ncontent-type: application/xml")
    job.edit("stand-in-xml.toml", ("p:bits/p:way", "p:bits/p:road"))
    told = job.run("try", "--service", "stand-in-xml.toml", "--reply", "r.http", "--show", "reading").stdout
    assert re.search(r"street +p:bits/p:road +finds nothing", told)
    assert "Confidence" not in told, "there is no address to judge by"
    del job.env["YELLOWTOR_STANDIN_KEY"]
    job.edit("stand-in-text.toml", ('hash = "sha1"', 'hash = "sha1"\nsecret_is = "base64"'))
    told = job.run("try", "1 Kelp Lane", "--service", "stand-in-text.toml", "--show", "request").stdout
    assert "&sign=•••\nwithout a value: YELLOWTOR_STANDIN_KEY" in told, (
        "a request is shown although there is no secret to sign it"
    )
    job.edit("stand-in-text.toml", ('\nsecret_is = "base64"', ""))
    told = job.run("try", "1 Kelp Lane", "--service", "stand-in.toml", "--show", "request").stdout
    assert "key=%3CYELLOWTOR_STANDIN_KEY%3E" in told
    assert job.service.requests == asked, "none of that was sent"
    job.env["YELLOWTOR_STANDIN_KEY"] = KEY
    told = job.run("try", "--job", "job.toml", "--record", "R2", "--service", "stand-in.toml", "--service",
                   "stand-in-text.toml", "--show", "reading").stdout  # fmt: skip
    lines = told[told.index("side by side") :].splitlines()
    assert [line.split()[0] for line in lines[2:4]] == ["stand-in", "stand-in-text"]
    assert all(" 0 m " in line and "placed" in line for line in lines[2:4])
    assert "has no record with the key 'R9'" in job.run("try", "--job", "job.toml", "--record", "R9", code=4).stderr
    assert KEY not in told


def test_check_finds_every_problem_at_once_and_sends_nothing_unless_told_to(small):
    job = small(real_addresses(3))
    told = job.run("check", "job.toml").stdout
    assert "No problem. Nothing was sent." in told
    assert "3 records, 3 distinct questions, 0 incomplete" in told
    assert not job.path("ledger.sqlite").exists()
    job.edit("job.toml", ('town = "Town"', 'town = "City"'), ("coast.geojson", "coats.geojson"))
    job.edit("stand-in.toml", ("{?q,limit,key}", "{?q,limit,key,other}"),
             ("[forward]", 'other = { file = "other.txt", secret = true }\n[forward]'))  # fmt: skip
    job.path("ledger.sqlite").write_text("no ledger")
    del job.env["YELLOWTOR_STANDIN_KEY"]
    found = json.loads(job.run("check", "job.toml", "--ask", "--json", code=3).stdout)
    problems = " | ".join(problem for item in found["checked"] for problem in item["problems"])
    assert found["problems"] == 5
    for part in ("YELLOWTOR_STANDIN_KEY has no value", "other.txt has no value", "no column 'City'", "coats.geojson",
                 "file is not a database"):  # fmt: skip
        assert part in problems
    job.edit("job.toml", ("tolerance_m = 50", "tolerance_m = -1"))
    job.edit("stand-in.toml", ("parallel = 8", "parallels = 8"))
    told = job.run("check", "job.toml", code=3).stdout
    assert "judge.tolerance_m = -1" in told
    assert "2 problems" in told, "the description is looked at although the job is wrong"
    assert job.service.requests == 0


def test_check_asks_once_when_it_is_told_to_and_says_what_the_service_says(small):
    job = small(real_addresses(3))
    assert "✓ one request to stand-in" in job.run("check", "job.toml", "--ask").stdout
    assert job.service.requests == 1
    assert job.summary()["requests"]["sent"] == 2, "the reply was kept"
    job.edit("stand-in.toml", ("per_day = 2500", "per_day = 3"))
    write_csv(job.path("records.csv"), real_addresses(9)[4:])
    told = job.run("check", "job.toml", "--ask", code=3).stdout
    assert "stand-in can't be asked until" in told
    assert "One problem." in told, "what was found before is said all the same"
    job.edit("stand-in.toml", ("per_day = 3", "per_day = 2500"))
    job.env["YELLOWTOR_STANDIN_KEY"] = "mistyped"
    told = job.run("check", "job.toml", "--ask", code=3).stdout
    assert "key refused: the key ••• is unknown" in told


def test_a_value_may_be_in_a_file_or_in_the_keyring(tmp_path):
    import keyring
    from keyring.backend import KeyringBackend

    class InMemory(KeyringBackend):
        priority = 1

        def get_password(self, service, username):
            return {"maps/ida": "from the keyring"}.get(f"{service}/{username}")

        def set_password(self, *_):
            raise NotImplementedError

    keyring.set_keyring(InMemory())
    (tmp_path / "key.txt").write_text(" from the file\n")
    wanted = {
        "a": Variable(file="key.txt", secret=True), "b": Variable(keyring="maps/ida"),
        "c": Variable(environment="C", file="key.txt"),
    }  # fmt: skip
    values = find_values(wanted, around({"C": "from the environment"}), tmp_path)
    assert values.plain == {"a": "from the file", "b": "from the keyring", "c": "from the environment"}
    open_, blanks = values.remarks
    assert open_.endswith("every user of this machine can read it: chmod 600 " + str(tmp_path / "key.txt"))
    assert blanks == "key.txt had blanks around its value; they were left out"
    with pytest.raises(KeyRefused, match=r"Looked in: the environment, .*no\.txt, the keyring's entry maps/eve"):
        find_values(
            {"d": Variable(environment="D", file="no.txt", keyring="maps/eve", secret=True)}, around({}), tmp_path
        )


def test_a_service_whose_replies_change_shape_is_warned_of_before_the_allowance_is_burnt(small, monkeypatch):
    addresses = real_addresses(120)
    job = small(addresses[:40])
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 2\nper_second = 40"))
    assert "may be because its replies have changed" not in job.run("run", "job.toml").stderr
    write_csv(job.path("records.csv"), addresses)
    tell = Json.tell

    def renamed(format_, told):
        return tell(format_, replace(told, places=[{**p, "bits": {**p["bits"], "way": None}} for p in told.places]))

    monkeypatch.setattr(Json, "tell", renamed)
    told = job.run("run", "job.toml").stderr
    assert re.search(r"stand-in: street stood in each of the last 40 answers, and in none of \d\d new ones", told)
    lines = told.splitlines()
    assert next(at for at, line in enumerate(lines) if "street stood in" in line) < len(lines) - 8
