"""Decisions under attack: killed, several at once, other users, hostile labels, files of other programs, any request.

And laws: a course of decisions against a model, the history of a record, a comparison against the plainest one.
"""

import asyncio
import csv
import json
import math
import random
import re
import signal
import sqlite3
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule, run_state_machine_as_test
from sqlalchemy import insert
from test_files import as_ordinary
from test_page import browser, text_of, wait_until  # noqa: F401 - a fixture among them
from test_review import GOOD, cells, wrong

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.decisions import Pin
from yellowtor.answers.history import RecordStanding
from yellowtor.answers.judging.offers import LETTERS, offers_of
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.ledger_rows import Judged
from yellowtor.answers.record_answers import NO_PARTS
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position, distance_m
from yellowtor.ledger.jobs.history import SqlHistoryBook, keep_past_addresses
from yellowtor.ledger.jobs.judging import SqlJudgeBook
from yellowtor.ledger.jobs.pins import PinBook
from yellowtor.ledger.storage.open_store import open_store
from yellowtor.ledger.storage.schema import address, job, work
from yellowtor.run.clock import SystemClock
from yellowtor.run.compare import compare
from yellowtor.serving.review_server import DecisionsTaken, ReviewServer


def decided(job):
    """What the ledger has decided, by address: position, or None."""
    with sqlite3.connect(job.path("ledger.sqlite")) as ledger:
        assert ledger.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        return dict(ledger.execute("SELECT address_key, lat FROM pin WHERE address_key IS NOT NULL"))


def written_out(job, name="r.csv"):
    job.run("review", "job.toml", "--to", name)
    with job.path(name).open(encoding="utf-8-sig", newline="") as file:
        return list(csv.DictReader(file))


def save(job, rows, name="d.json"):
    job.path(name).write_text(json.dumps(rows))
    return name


def test_killed_at_any_moment_decisions_are_whole_pages_and_the_same_file_completes_them(small):
    job = small([wrong(f"D{n}", n % 8, 900 + n) for n in range(510)])
    job.run("run", "job.toml")
    rows = written_out(job)
    assert len(rows) == 510
    job.run("review", "job.toml", "--to", "p.html")
    parts = [
        json.loads(re.search(r'id="data">(.*?)</script>', job.path(name).read_text(), re.DOTALL)[1])
        for name in ("p.html", "p-2.html")
    ]
    assert [(len(part["items"]), part["part"]) for part in parts] == [(500, [1, 2]), (10, [2, 2])]
    assert [item["id"] for part in parts for item in part["items"]] == [row["id"] for row in rows], "in the same order"
    assert not job.path("p-3.html").exists()
    counts = [int(row["records"]) for row in rows]
    assert counts == sorted(counts, reverse=True)
    groups = [row["group"] for row in rows]
    assert groups == sorted(groups, key=int), "a group is together"
    save(
        job, [{"id": row["id"], "decision": "place", "coordinates": f"47.{n:03}, -28.5"} for n, row in enumerate(rows)]
    )
    for least in (1, 201):  # killed as soon as one page is there, then as soon as the next one is
        process = job.start("review", "job.toml", "--apply", "d.json")
        while len(decided(job)) < least and process.poll() is None:
            time.sleep(0.01)
        process.send_signal(signal.SIGKILL)
        process.communicate()
        assert len(decided(job)) in {200, 400, 510}, "whole pages"
    job.run("review", "job.toml", "--apply", "d.json")
    assert sorted(decided(job).values()) == pytest.approx([47 + n / 1000 for n in range(510)])
    assert "nothing new" in job.run("review", "job.toml", "--apply", "d.json").stderr


def test_several_that_decide_and_a_run_at_once_leave_one_truth(small):
    job = small([wrong(f"D{n}", n % 8, 900 + n) for n in range(24)])
    job.run("run", "job.toml")
    rows = written_out(job)
    for who, at in (("Ida", "47.1, -28.1"), ("Bo", "47.2, -28.2")):
        save(
            job, [{"id": row["id"], "decision": "place", "coordinates": at, "why": who} for row in rows], f"{who}.json"
        )

    def until_done(*args):
        """Start the command again while another one works on the job, as a person would; all ends."""
        ends = []
        while not ends or (ends[-1][1] == 9 and len(ends) < 100):
            process = job.start(*args)
            ends.append((process.communicate(timeout=60)[1], process.returncode))
        return ends

    commands = [("review", "job.toml", "--apply", f"{who}.json", "--by", who) for who in ("Ida", "Bo", "Ida")]
    with ThreadPoolExecutor(4) as aside:
        all_ends = list(aside.map(lambda command: until_done(*command), [*commands, ("run", "job.toml")]))
    assert [ends[-1][1] for ends in all_ends] == [0, 0, 0, 0], all_ends
    assert all("Another run" in said for ends in all_ends for said, code in ends if code == 9)
    for process in (job.run("review", "job.toml", "--apply", "Bo.json", "--by", "Bo"), job.run("run", "job.toml")):
        assert process.returncode == 0
    assert set(decided(job).values()) == {47.2}
    assert {row["Latitude"] for row in job.rows("placed.csv").values()} == {"47.2"}


def test_an_ordinary_user_is_told_what_can_not_be_written_and_nothing_is_lost(small):
    job = small([wrong("D0", 0, 900), wrong("D1", 1, 901)])
    job.run("run", "job.toml")
    rows = written_out(job)
    save(job, [rows[0] | {"decision": "a"}])
    before = decided(job)
    job.folder.chmod(0o755)
    for file in job.folder.iterdir():
        file.chmod(0o644 if file.is_file() else 0o755)
    for args in (("--to", "mine.xlsx"), ("--to", "mine.html"), ("--apply", "d.json")):
        done = as_ordinary(job, "review", "job.toml", *args)
        assert done.returncode in {4, 8}, (args, done.stderr)
        assert re.search("can't|cannot|not be|read-only|readonly", done.stderr), done.stderr
    assert not [path for path in job.folder.iterdir() if "mine" in path.name]
    assert decided(job) == before


NASTY = ["</script><script>window.hit=1</script>", '"><img src=x onerror="window.hit=1">', "=cmd|' /C calc'!A0", "@SUM(A1)",
         "-1+1", "x" * 4000, "a\x1b[31mred", "${7*7} {{7*7}} {% raise %}", "\u202etxt.exe"]  # fmt: skip


def test_labels_of_a_hostile_service_stay_text_everywhere(small, browser):  # noqa: F811
    job = small([[f"K{n}\"'<b>", f"{n} {text[:30]}", "Holm<i>", "1"] for n, text in enumerate(NASTY)])
    offers = [
        {"spot": {"north": 47.5 + n / 1000, "east": -28.5}, "precision": "street", "words": text,
         "bits": {"way": text, "settlement": "Holm\n<b>", "nation_code": "XT"}, "frame": [0, 0, 0, 0]}
        for n, text in enumerate(NASTY[:5])
    ]  # fmt: skip
    with ExitStack() as stack:
        address_of = stack.enter_context(Answering(json.dumps({"verdict": "found", "places": offers}).encode()))
        job.env["YELLOWTOR_STANDIN"] = address_of
        job.run("run", "job.toml")
    job.run("review", "job.toml", "--to", "r.html", "--to", "r.xlsx", "--to", "r.csv", "--also", "unplaced")
    browser.get(job.path("r.html").as_uri())
    for _ in range(3):
        browser.find_element("css selector", "[data-do='→']").click()
    assert wait_until(lambda: "Holm<i>" in text_of(browser, "#item h2"))
    assert browser.execute_script("return [window.hit ?? 0, document.images.length, document.scripts.length]") == [
        0,
        0,
        3,
    ]
    sheet = openpyxl.load_workbook(job.path("r.xlsx"))["Review"]
    assert not [cell.coordinate for row in sheet.iter_rows() for cell in row if cell.data_type == "f" or cell.hyperlink]
    with job.path("r.csv").open(encoding="utf-8-sig", newline="") as file:
        rows = list(csv.reader(file))
    assert len(rows) == len(NASTY) + 1
    assert not [text for row in rows for text in row if text[:1] in "=+-@\t" and text]
    shown = (
        job.run("review", "job.toml", "--also", "unplaced").stdout + job.run("explain", "job.toml", "K0\"'<b>").stdout
    )
    assert "\x1b" not in shown


class Answering:
    """A server that answers every request with this body."""

    def __init__(self, body):
        self.body = body

    def __enter__(self):
        import threading
        from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

        body = self.body

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self):
                self.send_response(200)
                self.send_header("Content-Type", "application/json")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *_):
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{self.server.server_port}"

    def __exit__(self, *_):
        self.server.shutdown()
        self.server.server_close()


def test_files_that_other_programs_made_are_understood_or_refused_whole(small):
    job = small([wrong(f"D{n}", n, 900 + n) for n in range(6)])
    job.run("run", "job.toml")
    rows = written_out(job)
    kept = [{"ID": row["id"], "Decision": "", "Why": "", "Coordinates": "", "New Street": ""} for row in rows]
    kept[0] |= {"Decision": " A ", "Why": "two\nlines"}
    kept[1] |= {"Coordinates": "47,25; -28,5"}
    at = {"A at": rows[0]["a at"]}
    book = openpyxl.Workbook()  # columns in another order and case, a second sheet, nothing but what is needed
    sheet = book.active
    names = ["Why", "Extra", "Decision", "A at", "ID", "Coordinates"]
    sheet.append(names)
    for row in kept:
        sheet.append([{**at, **row}.get(name) for name in names])
    book.create_sheet("Notes").append(["nothing here"])
    book.save(job.path("other.xlsx"))
    told = job.run("review", "job.toml", "--apply", "other.xlsx").stderr
    assert re.search("1 candidate accepted.*1 place set", told, re.DOTALL)
    text = "id;decision;coordinates;new street\r\n" + "".join(
        f"{row['id']};;{at};\r\n" for row, at in zip(rows[2:4], ("47,5 -28,5", "geo:47.75,-28.5"), strict=True)
    )
    job.path("excel.csv").write_bytes(text.encode("utf-16"))
    assert "2 places set" in job.run("review", "job.toml", "--apply", "excel.csv").stderr
    lines = "\n".join(json.dumps({"id": row["id"], "decision": "nothing"}) for row in rows[4:])
    job.path("lines.jsonl").write_text(lines + "\n")
    assert "2 addresses that nothing fits" in job.run("review", "job.toml", "--apply", "lines.jsonl").stderr
    before = decided(job)
    assert len(before) == 6
    chance = random.Random(3)
    whole = job.path("other.xlsx").read_bytes()
    for n, content in enumerate(
        (b"", b"\x00\xff" * 50, whole[:500], bytes(chance.randbytes(3000)), b"id,decision\n1", b"[[]]", b"[1]")
    ):
        for ending in ("xlsx", "csv", "json", "parquet"):
            job.path(f"bad{n}.{ending}").write_bytes(content)
            done = job.run("review", "job.toml", "--apply", f"bad{n}.{ending}", code=None)
            assert done.returncode in {0, 4}, (n, ending, done.stderr)
            assert done.stderr.strip()
    assert decided(job) == before


def test_fifty_decisions_feed_the_calibration_and_all_kinds_go_to_another_ledger(small):
    job = small([wrong(f"D{n}", n % 8, 900 + n) for n in range(56)])
    job.run("run", "job.toml")
    rows = written_out(job)
    made = [row | {"decision": "a" if n % 3 else "nothing", "why": "looked at it"} for n, row in enumerate(rows[:54])]
    made[0] = rows[0] | {"new street": GOOD[8][1]}
    job.run("review", "job.toml", "--apply", save(job, made))
    job.run("run", "job.toml")
    (learned,) = json.loads(job.run("calibrate", "job.toml", "--json").stdout)
    assert learned["decisions"] == 53, "a corrected address says nothing of the old one"
    assert learned["right"] == 36
    assert learned["slope"] is not None, "fifty are enough"
    # another ledger takes them over: the same outcomes, no request
    outcomes = job.summary()["outcomes"]
    job.run("cache", "export", "--job", "job.toml", "all.geojson")
    kinds = [feature["properties"] for feature in json.loads(job.path("all.geojson").read_text())["features"]]
    assert sum("pin" in one for one in kinds) == 53
    assert sum("correction" in one for one in kinds) == 1
    job.edit("job.toml", ('"ledger.sqlite"', '"new.sqlite"'))
    told = job.run("cache", "import", "--job", "job.toml", "all.geojson").stderr
    assert "54 decisions are imported" in told
    again = job.run("cache", "import", "--job", "job.toml", "all.geojson").stderr
    assert f"0 replies and 0 decisions are imported from all.geojson; {len(kinds)} were known already" in again
    summary = job.summary()
    assert summary["requests"]["sent"] == 0
    assert summary["outcomes"] == outcomes
    assert "corrected by" in job.run("explain", "job.toml", rows[0]["key"]).stdout
    # every trace of a corrected address is gone: also of the one that was asked in its place
    address_of = f"{made[0]['address']}"
    job.run("cache", "forget", "--job", "job.toml", address_of, "--every-trace", "--yes")
    with sqlite3.connect(job.path("new.sqlite")) as ledger:
        assert ledger.execute("SELECT count(*) FROM correction").fetchone() == (0,)
        left = [text for (text,) in ledger.execute("SELECT parts FROM address")]
    assert not [text for text in left if rows[0]["address"].split(",")[0] in text]


METHODS = st.sampled_from(["GET", "POST", "PUT", "DELETE", "OPTIONS", "HEAD", "TRACE", "PATCH"])
TEXTS = st.text(st.characters(min_codepoint=33, max_codepoint=126), max_size=20)
PATHS = st.sampled_from(["/", "//", "/{token}", "/{token}/", "/{token}/decisions", "/{token}/../{token}/", "/{short}/", "/%2e%2e/{token}/", "/x/decisions", "/{token}%00/", "/{upper}/"])  # fmt: skip
HEADERS = st.dictionaries(st.sampled_from(["Origin", "Referer", "Sec-Fetch-Site", "Content-Type", "X-Forwarded-Host", "Forwarded", "Cookie"]), TEXTS | st.sampled_from(["null", "http://evil.example", "application/json", "cross-site", "http://{host}"]), max_size=4)  # fmt: skip


@given(
    st.lists(
        st.tuples(METHODS, PATHS, HEADERS, st.sampled_from(["{host}", "evil.example", "localhost", "127.0.0.1"])),
        min_size=1,
        max_size=25,
    )
)
@settings(max_examples=25)
def test_no_request_decides_that_is_not_the_pages_own(requests):
    import aiohttp

    taken = []

    async def attack():
        server = ReviewServer(lambda: "the page", lambda rows: (taken.append(rows), DecisionsTaken((), 1))[1])
        async with server.running() as own, aiohttp.ClientSession() as session:
            host, token = own.split("/")[2:4]
            fill = {"host": host, "token": token, "short": token[:-1], "upper": token.swapcase()}
            for method, path, headers, name in requests:
                sent = {key: text.replace("{host}", host) for key, text in headers.items()} | {
                    "Host": name.format(**fill)
                }
                url = aiohttp.client.URL(f"http://{host}{path.format(**fill)}", encoded=True)
                async with session.request(method, url, headers=sent, data=b'[{"id":"1-a","decision":"a"}]') as reply:
                    body = await reply.read()
                ours = (
                    name == "{host}"
                    and sent.get("Sec-Fetch-Site", "none") in {"none", "same-origin"}
                    and sent.get("Origin", f"http://{host}") == f"http://{host}"
                    and f"/{token}/" in f"{path.format(**fill)}/"
                )
                if b"the page" in body:
                    assert ours, (method, path, sent)
                if taken:
                    assert ours, (method, path, sent)
                    assert (method, path) == ("POST", "/{token}/decisions")
                    assert sent["Origin"] == f"http://{host}"
                    taken.clear()
                assert reply.headers.get("X-Frame-Options", "DENY") == "DENY"

    asyncio.run(attack())


class Decisions(RuleBasedStateMachine):
    """People decide in any order; after a run, each record is as the last of them said."""

    def __init__(self, job, items):
        super().__init__()
        self.job, self.items = job, items
        self.model = dict.fromkeys(items)
        for key in items:
            job.run("pin", "job.toml", key, "--off", code=None)
        job.run("run", "job.toml")

    @rule(at=st.integers(0, 3), what=st.sampled_from(["a", "nothing", "place", "address"]))
    def decide(self, at, what):
        key = list(self.items)[at]
        row = dict(self.items[key]) | {"decision": what}
        if what == "place":
            row["coordinates"] = f"47.{at + 1}, -28.{at + 1}"
        if what == "address":
            row["new street"], row["new town"], row["new postcode"] = GOOD[8][1:4]
        self.job.run("review", "job.toml", "--apply", save(self.job, [row]), code=None)
        self.model[key] = what

    @rule(at=st.integers(0, 3))
    def undo(self, at):
        key = list(self.items)[at]
        self.job.run("run", "job.toml")
        self.job.run("pin", "job.toml", key, "--off", code=None)
        gone = "address" if self.model[key] == "address" else None
        for other, what in self.model.items():
            if other == key or (gone and what == "address"):
                self.model[other] = None

    @invariant()
    def each_record_is_as_the_last_one_said(self):
        summary = self.job.summary()
        assert summary["requests"]["sent"] == 0
        for at, (key, what) in enumerate(self.model.items()):
            outcome, lat = cells(self.job, key, "Outcome", "Latitude")
            expected = {None: "doubtful", "nothing": "unplaced"}.get(what, "placed")
            assert outcome == expected, (key, what, self.model)
            assert what != "place" or lat == f"47.{at + 1}"
        listed = json.loads(self.job.run("review", "job.toml", "--json").stdout)["groups"]
        assert sum(group["questions"] for group in listed) == sum(what is None for what in self.model.values())


def test_any_course_of_decisions_ends_as_the_last_of_them_said(small):
    job = small([*(wrong(f"D{n}", n, 900 + n) for n in range(4)), GOOD[8]])
    job.run("run", "job.toml")
    items = {row["key"]: row for row in written_out(job)}
    assert len(items) == 4
    run_state_machine_as_test(
        lambda: Decisions(job, items), settings=settings(max_examples=2, stateful_step_count=6, deadline=None)
    )


EVENTS = st.lists(
    st.one_of(
        st.tuples(st.just("answer"), st.integers(0, 1), st.sampled_from([None, 47.1, 47.2])),
        st.tuples(st.just("address"), st.integers(0, 1), st.none()),
        st.tuples(st.sampled_from(["pin", "pin address"]), st.integers(0, 1), st.sampled_from([None, 47.7, 47.8])),
        st.tuples(st.just("off"), st.integers(0, 1), st.none()),
    ),
    max_size=14,
)


@given(EVENTS)
@settings(max_examples=30)
def test_the_history_of_a_record_is_what_happened_to_it(tmp_path_factory, events):
    """One record with two addresses in turn; the layers of its history neither overlap nor miss anything."""
    store = open_store(tmp_path_factory.mktemp("history") / "ledger.sqlite", SystemClock())
    ways = [Address(street=f"{n} Kelp Lane") for n in range(2)]
    clock = iter(datetime(2026, 1, 1, tzinfo=UTC) + timedelta(hours=n) for n in range(100))
    with store.transaction() as connection:
        connection.execute(insert(job).values(id=1, path="job"))
        for n, way in enumerate(ways, 1):
            connection.execute(insert(address).values(id=n, key=subject_key(way), parts=json.dumps(way.as_dict())))
        record = {
            "id": 1,
            "job_id": 1,
            "key": "K",
            "place": 1,
            "raw_hash": "",
            "held_hash": "",
            "state": "ask",
            "reasons": "[]",
        }
        connection.execute(insert(work).values(**record, address_id=1))
    book = SqlJudgeBook(store, 1, {})
    now, answers, pins, log = 0, {}, {}, []
    for what, at, value in events:
        stamp = next(clock).isoformat(timespec="milliseconds")
        decisions = PinBook(store, 1, stamp)
        if what == "answer":
            row = Judged(at + 1, None, 0, True, Outcome.PLACED if value else Outcome.UNPLACED, value, value and -28.5,
                         0.9, "", "", "", NO_PARTS, (), "", "")  # fmt: skip
            store.clock = At(stamp)
            book.put_judged([row], "rules", [])
            answers[at] = value
        elif what == "address":
            with store.transaction() as connection:
                keep_past_addresses(connection, 1, {"K": subject_key(ways[at])}, stamp)
                connection.execute(work.update().values(address_id=at + 1))
            now = at
        elif what == "off":
            decisions.remove("K")
            pins.pop("K", None)
            pins.pop(now, None)
        else:
            made = Pin(value, value and -28.5, "Ida", f"at {stamp}", stamp)
            (
                decisions.put_on_record("K", made)
                if what == "pin"
                else decisions.put_on_address(subject_key(ways[at]), made)
            )
            pins["K" if what == "pin" else at] = value
        log.append((stamp, pins.get("K", pins.get(now, "none")), answers.get(now, "none")))
    found = SqlHistoryBook(store, 1).past(["K"])["K"]
    for stamp, pinned, answered in log:
        there = [one for one in found if one.since <= stamp and (not one.until or one.until > stamp)]
        said = [one for one in there if one.said]
        silent = [one for one in there if not one.said]
        assert len(silent) == (answered != "none"), (stamp, there)
        assert all((one.position and one.position.lat) == answered for one in silent)
        assert bool(said) == (pinned != "none"), (stamp, found)
        assert pinned == "none" or pinned in {one.position and one.position.lat for one in said}
    assert all(one.until == "" or one.since < one.until for one in found)
    store.close()


class At:
    """A clock that stands still."""

    def __init__(self, stamp):
        self._stamp = stamp

    def now(self):
        return datetime.fromisoformat(self._stamp)


class Known:
    """A side of a comparison, from a dictionary."""

    is_truth = False

    def __init__(self, rows, name="a"):
        self.rows, self.name = rows, name

    def pages(self):
        yield list(self.rows.items())

    def standing(self, keys):
        return {key: self.rows[key] for key in keys if key in self.rows}


STANDINGS = st.builds(
    RecordStanding,
    st.sampled_from([None, *Outcome]),
    st.none() | st.builds(Position, st.floats(-80, 80), st.floats(-180, 180)),
    st.none() | st.floats(0, 1),
)
SIDES = st.dictionaries(st.text("abcdef", min_size=1, max_size=2), STANDINGS, max_size=30)


@given(SIDES, SIDES, st.floats(1, 1e7))
def test_a_comparison_counts_what_the_plainest_one_counts_in_both_directions(one, other, tolerance):
    found = compare(Known(one), Known(other, "b"), tolerance)
    back = compare(Known(other, "b"), Known(one), tolerance)
    both = one.keys() & other.keys()
    away = sorted(distance_m(one[k].position, other[k].position) for k in both if one[k].position and other[k].position)
    assert (found.records, found.only) == (len(both), [len(one.keys() - both), len(other.keys() - both)])
    assert sorted(found.distances) == pytest.approx(away)
    assert found.moved == sum(metres > tolerance for metres in away) == len(found.farthest)
    assert [pair.away_m for pair in found.farthest] == sorted(
        (m for m in found.distances if m > tolerance), reverse=True
    )
    assert all(metres >= away[math.ceil(share * len(away)) - 1] - 1e-6 for share, metres in found.quantiles.items())
    assert sum(found.outcomes.values()) == len(both)
    assert (back.records, back.moved, back.only) == (found.records, found.moved, found.only[::-1])
    assert {(b, a): count for (a, b), count in found.outcomes.items()} == dict(back.outcomes)


PLACES = st.builds(Position, st.floats(47, 48), st.floats(-29, -28))
LABELS = st.sampled_from(["12 Kelp Lane, Holm", "Kelp Lane, Holm", "14 Kelp Ln", "Holm", ""])
CANDIDATES = st.lists(st.tuples(PLACES, LABELS).map(lambda one: Candidate(one[0], label=one[1])), max_size=9)


@given(CANDIDATES, CANDIDATES, st.integers(0, 20))
def test_offers_are_lettered_in_order_the_answer_first_and_none_twice(first, second, chosen):
    asked = Address(street="12 Kelp Lane", town="Holm", country="XT")
    thresholds = Thresholds(50.0, 0.9)
    everything = [*first, *second]
    answer = everything[chosen % len(everything)].position.rounded() if everything else None
    found = offers_of(asked, {"one": (first, thresholds), "two": (second, thresholds)}, answer)
    assert "".join(offer.letter for offer in found) == LETTERS[: len(found)]
    assert bool(found) == bool(everything)
    assert len(found) <= 5
    if found:
        assert found[0].position == answer
        assert found[0].away_m == 0
    sure = [offer.confidence for offer in found if offer.position != answer]
    assert sure == sorted(sure, reverse=True)
    assert all(0 <= offer.confidence <= 1 and offer.reach_m >= 0 for offer in found)
    for at, offer in enumerate(found):
        for other in found[:at]:
            assert offer.matched != other.matched or distance_m(offer.position, other.position) > 0.5
