"""Servers, replies and clocks that wish us ill: nothing is misread, nothing sent uncounted, no key told, no run ended."""

import base64
import csv
import html
import json
import random
import re
import signal
import socket
import struct
import threading
import time
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import quote

import pytest
from conftest import Example
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from yellowtor.allowance.pace import FOR_GOOD, LEAST, Learned, Pace
from yellowtor.allowance.rate_limit_headers import stated_limits
from yellowtor.allowance.retry import FARTHEST_S, Attempt, decide, rate_limit_s, retry_after_s
from yellowtor.answers.geography.coordinate_text import read_angle, read_number, read_pair
from yellowtor.answers.replies.reading import read_meaning, read_reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.database_url import DatabaseUrl, without_password
from yellowtor.errors import BadJob, BadSource
from yellowtor.ledger.storage.server import Server
from yellowtor.services.masking import Masker
from yellowtor.services.replies import ReplyRules
from yellowtor.tables.database.database_source import DatabaseLocation

KEY = "s3cret+key/of=mine"
DESCRIPTION = """
[service]
name = "raw"
[variables]
base = {{ environment = "RAW" }}
key = {{ environment = "RAW_KEY", secret = true }}
[forward]
url = "{{+base}}/find{{?q,key}}"
[allowance]
{allowance}
timeout_s = {timeout}
[reply]
candidates = "$.places[*]"
message = "$.note"
level = {{ level = "building" }}
[reply.fields]
latitude = "$.lat"
longitude = "$.lon"
label = "$.label"
street = "$.street"
town = "$.town"
number = "$.number"
"""
JOB = """
[records]
file = "records.csv"
key = "Id"
[address]
street = "Address"
town = "City"
[ask]
services = ["raw.toml"]
[judge]
tolerance_m = 50
place_at = 0.3
[write]
to = "out.csv"
{write}
[write.columns]
latitude = "Lat"
longitude = "Lon"
outcome = "Outcome"
reasons = "Why"
matched = "Matched"
"""


class Raw:
    """A server on a bare socket: whatever a mood says happens to each request once it has come whole."""

    def __init__(self, moods, seed=1):
        self.moods, self.random, self.seen, self.open = moods, random.Random(seed), [], []
        self.door = socket.create_server(("127.0.0.1", 0), backlog=200)
        self.address = f"http://127.0.0.1:{self.door.getsockname()[1]}"
        threading.Thread(target=self.listen, daemon=True).start()

    def listen(self):
        with suppress(OSError):
            while True:
                connection, _ = self.door.accept()
                self.open.append(connection)
                threading.Thread(target=self.serve, args=(connection,), daemon=True).start()

    def serve(self, connection):
        with suppress(OSError), connection:
            came = b""
            while True:
                while b"\r\n\r\n" not in came:
                    if not (more := connection.recv(65536)):
                        return
                    came += more
                request, _, came = came.partition(b"\r\n\r\n")
                length = re.search(rb"(?i)\r\ncontent-length: *([0-9]+)", request)
                while length and len(came) < int(length[1]):
                    came += connection.recv(65536)
                if length:
                    request, came = request + b"\r\n\r\n" + came[: int(length[1])], came[int(length[1]) :]
                self.seen.append(request.split(b" ")[1].decode())
                mood = self.random.choice(self.moods)
                if not (mood(connection, request) if callable(mood) else self.act(connection, mood)):
                    return

    def act(self, connection, mood):
        if mood == "drop":
            return False
        if mood == "reset":
            connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            return False
        if mood == "stall":
            time.sleep(1)
            return False
        if mood == "cut":
            connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\n{")
            return False
        if mood == "noise":
            connection.sendall(b"\x00\xff\x00 not HTTP at all\r\n\r\n")
            return False
        connection.sendall(good())
        return mood != "leave"  # after a good reply the connection that was to be kept is closed


def good(places=({"lat": 54.5, "lon": 8.5, "street": "Kelp Lane", "town": "Nowhere"},), status="200 OK", fields=""):
    body = json.dumps({"places": list(places)}).encode() if not isinstance(places, bytes) else places
    return f"HTTP/1.1 {status}\r\n{fields}Content-Length: {len(body)}\r\n\r\n".encode() + body


@pytest.fixture
def raw(tmp_path):
    servers = []

    def make(moods, records=20, allowance="tries = 3\nparallel = 4", write=""):
        server = Raw(moods)
        servers.append(server)
        timeout = 0.4 if "stall" in moods else 5  # a busy machine answers late too, and that is not what is tested
        (tmp_path / "raw.toml").write_text(DESCRIPTION.format(allowance=allowance, timeout=timeout))
        (tmp_path / "job.toml").write_text(JOB.format(write=write))
        with (tmp_path / "records.csv").open("w", newline="") as file:
            rows = [[f"R{at}", f"{at} Kelp Lane", "Nowhere"] for at in range(records)]
            csv.writer(file).writerows([["Id", "Address", "City"], *rows])
        job = Example(tmp_path, None)
        job.env |= {"RAW": server.address, "RAW_KEY": KEY}
        job.raw = server
        return job

    yield make
    for server in servers:
        server.door.close()
        for connection in server.open:
            connection.close()


def charged(job):
    """Requests that the ledger has charged to the account, by its own words."""
    lines = job.run("quota", "job.toml", "--requests", "-").stdout.splitlines()
    return sum(int(row["units"]) for row in csv.DictReader(lines))


@pytest.mark.parametrize("allowance", ["tries = 3\nparallel = 4", "per_second = 40\ntries = 3\nparallel = 4"])
def test_every_request_that_a_server_sees_was_counted_and_none_is_repeated_by_the_client(raw, allowance):
    job = raw(["good", "drop", "reset", "stall", "cut", "noise"], allowance=f"per_day = 60\n{allowance}")
    for _ in range(3):
        job.run("run", "job.toml", code=None)
        assert len(job.raw.seen) == charged(job)
    assert len(job.raw.seen) <= 60
    job = raw(["leave"], records=40, allowance=f"per_day = 60\n{allowance}")
    job.path("out.csv").unlink()
    job.run("run", "job.toml", code=None)
    assert len(job.raw.seen) <= charged(job) <= 60, "what was written into a connection that was closed counts"


def test_kills_leave_no_request_uncounted(raw):
    job = raw(["good", "good", "drop", "stall"], records=60, allowance="per_day = 150\nper_second = 60\nparallel = 6")
    for at in range(3):
        running = job.start("run", "job.toml")
        time.sleep(0.8 + at / 10)
        running.send_signal(signal.SIGKILL)
        running.communicate()
    job.run("run", "job.toml", code=None)
    assert len(job.raw.seen) <= charged(job) <= 150


WHOLE = {
    "deep": good(b'{"places":' + b"[" * 400 + b"]" * 400 + b"}"),
    "charset": good(fields="Content-Type: application/json; charset=undefined\r\n"),
    "latin field": good(status="429 Too Many", fields="Retry-After: \xe9\r\n").replace(b"\xc3\xa9", b"\xe9"),
    "for ever": good(status="503 No", fields="Retry-After: 999999999999\r\n"),
    "huge zone": good(status="503 No", fields="Retry-After: Sun, 01 Mar 2026 12:00:30 +99999999999999\r\n"),
    "huge limit": good(fields=f'RateLimit: "x";r={"9" * 5000};t=1\r\nRateLimit-Policy: "x";q={"9" * 500};w=1\r\n'),
    "empty": good(b""),
    "null": good(b"null"),
    "one": good(b"42"),
    "surrogate": good(b'{"places":[{"lat":54.5,"lon":8.5,"label":"\\ud800"}]}'),
    "nan": good(b'{"places":[{"lat":NaN,"lon":1e999}]}'),
    "bomb": good(b"[" * 3_000_000),
}


@pytest.mark.parametrize("name", WHOLE)
def test_one_reply_ends_no_run_and_the_others_are_written(raw, name):
    def mood(connection, request):
        connection.sendall(WHOLE[name] if b"q=3%20" in request else good())
        return True

    job = raw([mood], records=6, allowance="tries = 1\nparallel = 1")
    job.run("run", "job.toml", code=None)
    rows = job.rows("out.csv")
    assert [rows[f"R{at}"]["Outcome"] for at in (0, 1, 2)] == ["placed"] * 3
    if name not in {"charset", "surrogate"}:
        assert rows["R3"]["Outcome"] in {"failed", "waiting", "placed"}
        assert rows["R3"]["Outcome"] == "placed" or rows["R3"]["Why"]


SILENCE = [b"{}", b"null", b"42", b'{"error": "no"}', b'{"places": null}', b'{"Places": []}', b"[]", b'{"places": {}}']


@pytest.mark.parametrize("status", ["200 OK", "202 Accepted", "404 Not Found"])
def test_what_is_not_an_answer_is_not_taken_for_nothing_found(raw, status):
    job = raw([lambda c, _: c.sendall(good(SILENCE[len(job.raw.seen) % len(SILENCE)], status)) or True])
    told = job.run("run", "job.toml", code=6).stderr
    assert "5 replies in a row can't be read, and no candidate was read so far; the last one: " in told
    assert "Correct [reply] of the description" in told
    assert set(outcomes(job)) == {"failed", "waiting"}
    assert "✓ stand" not in job.run("check", "job.toml", "--ask", code=None).stdout
    seen = len(job.raw.seen)
    job.edit("raw.toml", ("[reply]\n", '[reply]\nrules = [{ path = "$", kind = "nothing found" }]\n'))
    job.run("run", "job.toml")
    assert len(job.raw.seen) < seen + 20, "kept replies are read again"
    assert set(outcomes(job)) == {"unplaced"}


def outcomes(job):
    return [row["Outcome"] for row in job.rows("out.csv").values()]


def test_an_outage_leaves_records_waiting_and_the_next_run_asks_them(raw):
    job = raw(["good"], records=5)
    job.env["RAW"] = "http://127.0.0.1:9"
    told = job.run("run", "job.toml", code=6).stderr
    assert "no connection to 127.0.0.1:9 (connection refused)" in told
    assert {(row["Outcome"], row["Why"]) for row in job.rows("out.csv").values()} == {
        ("waiting", "no connection to 127.0.0.1:9 (connection refused)")
    }
    assert charged(job) == 0, "nothing left"
    job.env["RAW"] = job.raw.address
    job.run("run", "job.toml")
    assert outcomes(job) == ["placed"] * 5


def test_a_pause_that_a_service_asks_for_holds_for_the_next_run_too(raw):
    job = raw(
        [lambda c, _: c.sendall(good(b"{}", "429 No", "Retry-After: 3600\r\n")) or True], allowance="parallel = 1"
    )
    told = job.run("run", "job.toml", code=6).stderr
    assert len(job.raw.seen) == 1
    assert re.search(r"too fast \(.*Run the job again after \d{4}-\d\d-\d\d \d\d:\d\d UTC", told, re.DOTALL)
    told = job.run("run", "job.toml", code=6).stderr
    assert len(job.raw.seen) == 1
    assert "raw asked for a pause (Retry-After)" in told
    plan = json.loads(job.run("plan", "job.toml", "--json").stdout)
    assert (plan["requests"], plan["forecast"]["at_once"]) == (0, 0)
    assert plan["forecast"]["goes_on_at"]


ESCAPES = [
    str,
    lambda c: "".join(f"%{byte:02x}" for byte in c.encode()),
    lambda c: quote(c, safe=""),
    lambda c: quote(quote(c, safe=""), safe=""),
    lambda c: json.dumps(c)[1:-1],
    lambda c: f"\\u{ord(c):04X}" if ord(c) < 65536 else c,
    html.escape,
    lambda c: f"&#{ord(c)};",
    lambda c: f"&#x{ord(c):X};",
    lambda c: f"\\{c}" if c == "/" else c,
]


@given(
    st.text(st.characters(min_codepoint=33, max_codepoint=0x2FFF, exclude_categories=["Cs"]), min_size=6, max_size=20),
    st.data(),
)
def test_a_key_is_masked_in_every_spelling(secret, data):
    masker = Masker([secret])
    escapes = data.draw(st.lists(st.sampled_from(ESCAPES), min_size=len(secret), max_size=len(secret)))
    spelled = "".join(escape(c) for escape, c in zip(escapes, secret, strict=True))
    around = data.draw(st.text("abz:", max_size=5))
    texts = [spelled, base64.b64encode((around + secret + around).encode()).decode(), secret.encode().hex()]
    texts += [base64.urlsafe_b64encode((around + secret).encode()).decode()]
    for text in texts:
        masked = masker.in_text(f"a label, {text}; and more")
        assert masked.startswith("a label, ")
        assert masked.endswith("; and more")
        assert "•••" in masked, text
    for encoding in ("utf-16", "utf-16-le", "utf-32", "utf-8"):
        assert secret not in masker.in_bytes(f"<a>{secret}</a>".encode(encoding)).decode(encoding)


def test_no_spelling_of_a_key_reaches_any_output(raw):
    spellings = [KEY, quote(KEY, safe=""), KEY.replace("+", "\\u002B"), html.escape(KEY), quote(KEY, safe="").lower()]
    spellings += [base64.b64encode(f"user:{KEY}".encode()).decode(), KEY.encode().hex(), KEY.upper()]
    places = [{"lat": 54.5, "lon": 8.5, "street": "Kelp Lane", "town": "Nowhere", "label": "KEY"}]

    def mood(connection, request):
        text = spellings[len(job.raw.seen) % len(spellings)].encode()
        connection.sendall(good(json.dumps({"note": "KEY", "places": places}).encode().replace(b"KEY", text)))
        return True

    job = raw([mood], write='\n[markers]\ngeojson = "out.geojson"\npage = "out.html"')
    said = [job.run("run", "job.toml"), job.run("try", "3 Kelp Lane", "--service", "raw.toml", code=None)]
    said.append(job.run("cache", "show", "1", code=None))
    whole = "".join(one.stdout + one.stderr for one in said).encode()
    files = [path.read_bytes() for path in job.folder.rglob("*") if path.is_file()]
    tail = KEY[:-1].encode()
    for content in (whole, *files):
        for form in (tail, tail.upper(), tail.hex().encode(), quote(KEY, safe="").lower().encode()[:-3]):
            assert form.lower() not in content.lower()
        assert base64.b64encode(f"user:{KEY}".encode())[:-4] not in content


numbers = st.integers(-180 * 10**6, 180 * 10**6).map(lambda n: n / 10**6)


def spelled(value, way, letters):
    """An angle written in some way, and what it says."""
    letter = letters[value < 0]
    size = abs(value)
    whole, rest = int(size), size - int(size)
    minutes, seconds = int(rest * 60), round((rest * 60 % 1) * 60, 3)
    exact = whole + minutes / 60 + seconds / 3600
    assume(seconds < 60)
    sign = "-" if value < 0 else ""
    match way:
        case "plain":
            return f"{value:.6f}", value
        case "minus":
            return f"{value:.6f}".replace("-", "−"), value
        case "letter":
            return f"{size:.6f}° {letter}", value
        case "front":
            return f"{letter}{size:.6f}", value
        case "marks":
            return f"{whole}°{minutes}'{seconds:.3f}\"{letter}", -exact if value < 0 else exact
        case "primes":
            return f"{sign}{whole}° {minutes}′ {seconds:.3f}″", -exact if value < 0 else exact
        case "colons":
            return f"{sign}{whole}:{minutes:02}:{seconds:06.3f}", -exact if value < 0 else exact
    return f"{whole} {minutes:02} {seconds:06.3f} {letter}", -exact if value < 0 else exact


WAYS = ["plain", "minus", "letter", "front", "marks", "primes", "colons", "blanks"]
LETTERED = {"letter", "front", "marks", "blanks"}


@given(numbers, numbers, st.sampled_from(WAYS), st.sampled_from(WAYS), st.sampled_from([", ", " , ", "; ", " ", ","]))
@settings(max_examples=300)
def test_a_coordinate_is_what_the_grammar_reads_in_the_whole_text(lat, lon, one, other, between):
    assume((one in LETTERED) == (other in LETTERED))
    (first, north), (second, east) = spelled(lat, one, "NS"), spelled(lon, other, "EW")
    text = f"{first}{between}{second}"
    pair = read_pair(text)
    assert pair is not None, text
    assert pair[:2] == pytest.approx((north, east), abs=1e-9)
    assert read_angle(first).value == pytest.approx(north, abs=1e-9)
    broken_texts = [f"x{text}", f"{text}x", f"{text} 1", text.replace(".", "_", 1), f"{text[:3]}\0{text[3:]}", first]
    for broken in [*broken_texts, f"{text}{between}{text}"]:
        assert broken == text or read_pair(broken) is None or broken.strip() == text.strip(), broken


@given(st.text("0123456789.,+-−°'\"′″NSEWnsew ;:()[]eE_x\0", max_size=30))
@settings(max_examples=500)
def test_no_digit_is_passed_over_and_none_made_up(text):
    """Whatever is read, every digit of the text is in it: the text can be taken apart into the numbers it was read as."""
    pair, number = read_pair(text), read_number(text)
    if number is not None:
        assert re.fullmatch(r"\s*[+-]?[0-9.]+([eE][+-]?[0-9]+)?\s*", text.replace("−", "-"))
        assert number == float(text.replace("−", "-"))
    if pair is not None:
        assert not set(text) & set("_x\0")
        found = re.findall(r"(?:[0-9]+(?:\.[0-9]+)?|\.[0-9]+)(?:[eE]-[0-9]+)?", text)
        assert sum(map(len, found)) >= len(re.findall(r"[0-9]", text))
        assert 2 <= len(found) <= 6


@given(
    st.lists(
        st.tuples(st.floats(-1e9, 1e11), st.sampled_from(["fast", "stated", "ask"]), st.floats(1e-9, 1e9)), max_size=20
    ),
    st.floats(0.01, 1e4) | st.none(),
)
def test_a_learned_pace_is_a_pace_over_years_and_whatever_clocks_do(steps, described):
    pace, learned, tat = Pace(described), Learned(), 0.0
    for now, what, rate in steps:
        learned = (
            learned.too_fast(pace, rate, now)
            if what == "fast"
            else learned.stated(pace, rate)
            if what == "stated"
            else learned
        )
        kept = learned.pace(pace, now)
        assert kept.per_second is None or min(LEAST, described or LEAST) <= kept.per_second <= max(1e6, described or 0)
        assert described is None or kept.per_second <= described
        send_at, tat = kept.reserve(tat, now)
        assert now <= send_at <= now + max(3_600, 200_001 * kept.interval_s)
    if learned.at != FOR_GOOD and learned.per_second:
        assert learned.pace(pace, learned.at + 1e9) == pace, "in the end it is the described one"


@given(
    st.text(max_size=60)
    | st.integers().map(str)
    | st.from_regex(r"[A-Z][a-z]{2}, \d+ [A-Z][a-z]{2} \d{1,6} \d+:\d+:\d+ [+-]\d+")
)
def test_whatever_a_header_says_the_decision_is_a_decision(text):
    now = datetime(2026, 3, 1, 12, tzinfo=UTC)
    fields = {
        "retry-after": text,
        "ratelimit": text,
        "ratelimit-policy": f'"a";q={text};w=1',
        "ratelimit-remaining": text,
    }
    waits = [retry_after_s(text, now), rate_limit_s(fields)]
    assert all(wait is None or 0 <= wait <= FARTHEST_S for wait in waits)
    for told in stated_limits(fields):
        assert told.per_second is None or told.per_second > 0
    for kind in Kind:
        assert decide(kind, 503, fields, Attempt(1, 4, 0.5), now)


def test_every_draft_of_ratelimit_fields_is_understood():
    now = datetime(2026, 3, 1, tzinfo=UTC)
    for fields in (
        {"ratelimit": '"burst";r=0;t=12'},
        {"ratelimit": "limit=100, remaining=0, reset=12"},
        {"ratelimit-limit": "100", "ratelimit-remaining": "0", "ratelimit-reset": "12"},
    ):
        assert rate_limit_s(fields) == 12
        assert decide(Kind.TOO_FAST, 429, fields, Attempt(1, 4, 0.0), now).after_s == 12
    assert rate_limit_s({"ratelimit": "limit=100, remaining=5, reset=12"}) is None


def reading(**keys):
    return ReplyRules(candidates="$.r[*]", order="latitude longitude", fields={"position": "$.p"}, **keys).reading()


def test_a_reply_that_is_nested_too_deeply_is_unreadable_whatever_a_rule_says_of_what_is_absent():
    rules = [{"absent": "$..found", "kind": "nothing found"}]
    made = ReplyRules(candidates="$..r[*]", fields={"latitude": "$.a", "longitude": "$.b"}, rules=rules).reading()
    body = b'{"r":' * 150 + b"1" + b"}" * 150
    for read in (read_reply, read_meaning):
        assert read(made, 200, body).kind is Kind.UNREADABLE
        assert "nested too deeply" in read(made, 200, body).message


def test_positions_as_services_send_them():
    cases = {
        "33.7° S, 9.7° W": (-33.7, -9.7), "54.1, −8.2": (54.1, -8.2), "-.45 54.45": (-0.45, 54.45), "geo:54.1,-8.2;u=9": (54.1, -8.2),
        "+54.10-008.20/": (54.1, -8.2), "8.2W 54.1N": (54.1, -8.2), "SRID=4326;POINT(54.1 -8.2)": (54.1, -8.2),
        "54°8'": None, "x9 8.6": None, "5_4.1 8": None, "SRID=25832;POINT(54 8)": None, "54.1 8.2 3": None, "POINT EMPTY": None,
        "geo:1,2;crs=moon": None, "5\x004.1 8": None, "٥٤.1 8": None,
    }  # fmt: skip
    for text, where in cases.items():
        read = read_reply(reading(), 200, json.dumps({"r": [{"p": text}]}).encode())
        assert [tuple(c.position.__getattribute__(axis) for axis in ("lat", "lon")) for c in read.candidates] == [
            where
        ] * bool(where), text
        if not where:
            assert "can't be read as a position" in read.message
    scaled = read_reply(
        reading(scale=1_000_000), 200, b'{"r": [{"p": [54100000, "-8200000"]}, {"p": "54.1 N, 8.2 W"}]}'
    )
    assert [(c.position.lat, c.position.lon) for c in scaled.candidates] == [(54.1, -8.2)]
    with pytest.raises(ValueError, match="order is missing"):
        ReplyRules(candidates="$.r[*]", fields={"position": "$.p"})


def test_a_follower_keeps_to_the_limits_that_it_began_with(raw):
    job = raw(["good"], records=12, allowance="parallel = 1")
    running = job.start("run", "job.toml", "--follow", "0.3s", "--at-most", "3")
    while len(job.raw.seen) < 3:
        time.sleep(0.05)
    time.sleep(1.5)
    running.send_signal(signal.SIGINT)
    running.communicate(timeout=30)
    assert len(job.raw.seen) == 3


@given(st.sampled_from(["{}", "{}:5432", "[{}]"]), st.text("aZ0:@/?#%&=", min_size=6, max_size=12))
def test_no_message_about_a_database_shows_its_password(place, password):
    assume(not set(password) <= set(":@/?#%&="))
    where = place.format("host.invalid")
    for url in (
        f"postgresql://ida:{password}@{where}/x",
        f"postgres:/ida:{password}@{where}",
        f"ida:x{password}@{where}",
    ):
        assert password not in without_password(url)
        assert password not in repr(Server(url))
        assert password not in repr(DatabaseLocation(DatabaseUrl(url), None))
        for reading in (
            Server(url).full_url,
            lambda url=url: DatabaseLocation(DatabaseUrl(url), None).full_url(Path()),
        ):
            with suppress(BadJob, BadSource):
                assert password not in repr(reading())
        assert "•••" in without_password(url)
