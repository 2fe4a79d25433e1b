"""What goes over the wire and what comes back: requests as described, secrets masked, nothing followed astray."""

import asyncio
import gzip
import http.server
import json
import resource
import threading
import urllib.error
import urllib.request
from contextlib import contextmanager
from datetime import UTC, datetime

import pytest
from conftest import DATA, KEY, around
from hypothesis import given
from hypothesis import strategies as st

from yellowtor.allowance.forecast import forecast
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import Left, Window
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.cli.console import Progress, duration, stderr
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Area, Position, distance_m
from yellowtor.errors import BadJob, KeyRefused
from yellowtor.services.description import Description
from yellowtor.services.http import LARGEST, HttpService
from yellowtor.services.request_maker import Wishes
from yellowtor.services.variables import Variable, find_values
from yellowtor.settings import read_settings

ADDRESS = Address(street="14 Kelp & Sons/Lane", town="Ørlvík", country="XT")


@contextmanager
def answering(status, headers, body):
    """A server that says the same to everybody and remembers what it was asked."""
    seen = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            seen.append((self.path, dict(self.headers)))
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_):
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}", seen
    finally:
        server.shutdown()
        server.server_close()


def service(tmp_path, base, *changes, **wishes):
    text = (DATA / "stand-in.toml").read_text()
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    (tmp_path / "service.toml").write_text(text)
    description = read_settings(tmp_path / "service.toml", Description, "service description")
    environment = {"YELLOWTOR_STANDIN": base, "YELLOWTOR_STANDIN_KEY": KEY}
    return HttpService(description, find_values(description.variables, around(environment), tmp_path), Wishes(**wishes))


async def send(service, address=ADDRESS):
    async with service:
        return await service.send(service.request(address))


def test_a_request_is_sent_as_described_and_shown_without_its_secrets(tmp_path):
    with answering(200, {}, b'{"places": []}') as (base, seen):
        changes = (
            ("{?q,limit,key}", "{?q,limit,language,countries}&in={west},{south},{east},{north}"),
            ("candidates = 5", 'candidates = 3\nheaders = { "X-Key" = "Token {key}", "X-Town" = "{town}" }'),
        )
        wishes = {"language": "is", "countries": ("XT", "QO"), "area": Area(-29.6, 47, -27.4, 48)}
        made = service(tmp_path, base, *changes, **wishes)
        reply = asyncio.run(send(made, Address(street="1 Kelp Lane", town="Torvik")))
        assert made.read(reply).kind is Kind.NOTHING_FOUND
    ((path, headers),) = seen
    assert path == "/find?q=1%20Kelp%20Lane%2C%20Torvik&limit=3&language=is&countries=XT%2CQO&in=-29.6,47,-27.4,48"
    bare = service(tmp_path, base)
    assert service(tmp_path, base, **wishes).asking == bare.asking, "what the request does not say, asks nothing anew"
    questions = {service(tmp_path, base, *changes, **(wishes | {n: w})).asking.key for n, w in
                 [("language", "is"), ("language", ""), ("countries", ("XT",)), ("area", None)]}  # fmt: skip
    assert len(questions) == 4
    assert (headers["X-Key"], headers["X-Town"]) == (f"Token {KEY}", "Torvik")
    assert headers["User-Agent"].startswith("yellowtor/")
    shown = made.shown(Address(street="1 Kelp Lane", town="Torvik"))
    assert "X-Key: Token •••" in shown
    assert KEY not in shown + repr(made.request(ADDRESS)) + repr(made._masker)


@pytest.mark.parametrize("packed", [False, True])
def test_a_reply_without_end_is_not_taken_in_nor_one_that_unpacks_to_it(tmp_path, packed):
    body = gzip.compress(b"[" * 40 * LARGEST, 1) if packed else b"[" * (LARGEST + 10)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with answering(200, {"Content-Encoding": "gzip"} if packed else {}, body) as (base, _):
        made = service(tmp_path, base)
        read = made.read(asyncio.run(send(made)))
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 100 * 1024, "KiB: not unpacked whole"
    assert read.kind is Kind.UNREADABLE
    assert "larger than 8 MiB" in read.message


def test_the_proxy_of_the_environment_is_used_and_what_is_excepted_is_not(tmp_path, monkeypatch):
    for name in ("NO_PROXY", "no_proxy"):
        monkeypatch.delenv(name, raising=False)
    with answering(200, {}, b'{"places": []}') as (proxy, seen):
        monkeypatch.setenv("http_proxy", proxy)
        asyncio.run(send(service(tmp_path, "http://nowhere.invalid")))
        monkeypatch.setenv("no_proxy", "nowhere.invalid")
        made = service(tmp_path, "http://nowhere.invalid")
        assert made.read(asyncio.run(send(made))).kind is Kind.UNAVAILABLE
    assert [path.startswith("http://nowhere.invalid/find?") for path, _ in seen] == [True]


def test_variables_are_looked_for_in_order_and_trimmed(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "beside").mkdir()
    (tmp_path / "beside" / ".env").write_text("ONE=beside\nTWO=beside\n")
    (tmp_path / ".env").write_text("\ufeffTWO=here\nTHREE='  $here '\n")  # with a byte order mark, as some editors save
    wanted = {name.lower(): Variable(environment=name) for name in ("ONE", "TWO", "THREE", "FOUR")}
    found = find_values(wanted, around({"FOUR": "env", "ONE": " "}), tmp_path / "beside")
    assert found.plain == {"one": "beside", "two": "here", "three": "$here", "four": "env"}
    assert found.remarks == ["THREE had blanks around its value; they were left out"]
    with pytest.raises(BadJob, match="FIVE has no value"):
        find_values({"five": Variable(environment="FIVE")}, around({}), tmp_path)
    with pytest.raises(KeyRefused, match="SIX has no value"):
        find_values({"six": Variable(environment="SIX", secret=True)}, around({}), tmp_path)
    with pytest.raises(KeyRefused, match="SIX is shorter than 6 characters"):
        find_values({"six": Variable(environment="SIX", secret=True)}, around({"SIX": "short"}), tmp_path)
    with pytest.raises(BadJob, match="SIX is not text in UTF-8"):
        find_values({"six": Variable(environment="SIX", secret=True)}, around({"SIX": "caf\udce9"}), tmp_path)
    (tmp_path / ".env").write_bytes("# Schlüssel\nTWO=here\n".encode("latin-1"))
    with pytest.raises(BadJob, match=r"\.env can't be read: .* Save it as UTF-8"):
        find_values(wanted, around({}), tmp_path)


def test_the_stand_in_behaves_as_services_do(serve):
    service = serve(per_second=1, per_day=5)

    def ask(question, key=KEY, address=service.address):
        try:
            with urllib.request.urlopen(
                f"{address}/find?q={urllib.request.quote(question)}&key={urllib.request.quote(key, safe='')}"
            ) as reply:
                return reply.status, json.load(reply)
        except urllib.error.HTTPError as error:
            return error.code, json.load(error), error.headers.get("Retry-After")

    assert ask("x", key="")[:1] == (403,)
    assert ask("x")[2] == "1", "too fast says when to come back"
    free = serve().address
    status, bare = ask("Nymrberga", address=free)
    assert [p["bits"]["nation_code"] for p in bare["places"]] == ["QO", "XT"], "a bare name is the most populous place"
    assert ask("Zwark Prospect, Xyphoria", address=free)[1]["verdict"] == "nothing"
    assert ask("Zwark Prospect, Xyphoria, XT", address=free)[1]["places"][0]["precision"] == "nation"
    assert ask(" ", address=free)[0] == 400
    assert (status, service.counters()["by_kind"]) == (200, {"key": 1, "too fast": 1})


@given(st.floats(-90, 90), st.floats(-180, 180), st.floats(-90, 90), st.floats(-180, 180))
def test_distances_are_those_of_a_sphere(lat, lon, other_lat, other_lon):
    here, there = Position(lat, lon), Position(other_lat, other_lon)
    assert distance_m(here, there) == pytest.approx(distance_m(there, here), abs=1e-6)
    assert 0 <= distance_m(here, there) <= 20_015_115
    assert distance_m(here, Position(lat, lon)) == 0


def test_an_area_may_cross_the_date_line_and_a_point_must_be_on_the_globe():
    assert distance_m(Position(0, 0), Position(0, 1)) == pytest.approx(111_195, abs=1)
    pacific = Area(170, -10, -170, 10)
    assert [pacific.holds(Position(0, lon)) for lon in (175, -175, 0, 169)] == [True, True, False, False]
    with pytest.raises(ValueError, match="not on the globe"):
        Position(91, 0)


def test_progress_says_what_is_done_at_which_rate_and_how_long_it_will_take():
    progress = Progress(stderr())
    left = Left("day", "today", 900, 500, "")
    progress.asks(
        "harbour", 400, left, forecast(400, Pace(40), [Window(900)], [left], datetime(2026, 3, 1, tzinfo=UTC))
    )
    assert progress.line().plain.endswith("500 left today · 10 s to go"), "as the plan says"
    progress.outcomes({"placed": 1200, "waiting": 3, "kept": 4})
    progress.advanced(100)
    progress.sent(1, 1)
    line = progress.line().plain
    assert line.startswith("Asking  harbour 100 of 400  ● placed 1,200  · ")
    assert "499 left today · 8 s to go" in line
    assert [duration(s) for s in (0.4, 89, 200, 7300)] == ["0 s", "89 s", "3 min", "2 h 2 min"]
