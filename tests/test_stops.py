"""Stop anywhere, go on anywhere: killed at chosen and seeded instants, interrupted, run twice at once."""

import json
import random
import signal
import sqlite3
import time
import zipfile

import pytest
from conftest import KILLER, PROGRAM, SABOTEUR, real_addresses

POINTS = ["reserved, not sent", "replied, not committed", "in the commit", "before the rename", "after the rename"]
MOST = {"in the commit": 8}  # a run has about 12 of them, and some 220 requests
SEEDED = [(point, random.Random(point).randint(1, MOST.get(point, 25))) for point in POINTS[:3]]
MOMENTS = [*SEEDED, *((point, n) for point in POINTS[3:] for n in (1, 2, 3))]
PARALLEL = 8
IN_HAND = 2 * PARALLEL  # without a pace, as many again have their reservation and wait for a connection


def readings(workbook):
    with zipfile.ZipFile(workbook) as package:
        return {name: package.read(name) for name in package.namelist()}


@pytest.fixture(scope="module")
def undisturbed(tmp_path_factory):
    """The workbook that a run writes when nobody stops it."""
    from conftest import DATA, KEY, Service, lay_out

    from yellowtor.standin.server import Manners, StandIn, running

    with running(StandIn(DATA, Manners(key=KEY, per_second=None))) as address:
        example = lay_out(tmp_path_factory.mktemp("undisturbed") / "example", Service(address, KEY))
        example.run("run", "job.toml")
    return readings(example.path("cabinets-placed.xlsx"))


@pytest.mark.parametrize(("point", "nth"), MOMENTS)
def test_killed_at_any_moment_the_next_run_ends_the_job_and_pays_for_nothing_twice(example, undisturbed, point, nth):
    job = example()
    victim = job.start(point, nth, "run", "job.toml", program=SABOTEUR)
    victim.communicate(timeout=60)
    assert victim.returncode == -signal.SIGKILL
    target = job.path("cabinets-placed.xlsx")
    if target.exists():
        assert readings(target) == undisturbed, "the target is whole or not there"
    before = job.service.counters()
    summary = job.summary()
    assert readings(target) == undisturbed
    counted = job.service.counters()
    twice = [question for question, count in counted["by_question"].items() if count > 1]
    assert len(twice) <= len(summary["cut_in_flight"]) <= IN_HAND
    assert max(counted["by_question"].values()) <= 2
    assert counted["requests"] - before["requests"] == summary["requests"]["sent"]
    if "rename" in point:
        assert summary["requests"]["sent"] == 0
    with sqlite3.connect(job.path("ledger.sqlite")) as ledger:
        (kept,) = ledger.execute("SELECT sum(used) FROM window_use").fetchone()
        assert counted["requests"] <= kept <= counted["requests"] + IN_HAND, "what was in flight counts as spent"
    assert job.summary()["requests"]["sent"] == 0
    assert not list(job.folder.glob(".*.new"))


def test_killed_forty_times_each_question_was_paid_for_once_apart_from_what_was_in_flight(small):
    """By the stand-in's own count, in one job that goes on from kill to kill; see killer.py."""
    job = small(real_addresses(800), faults={"slow": 7}, slow_s=0.02)
    done = job.run("11", "40", job.path("ledger.sqlite"), "run", "job.toml", program=KILLER)
    told = json.loads(done.stdout)
    killed = [how for how, code in told["ends"] if code == -signal.SIGKILL]
    assert len(told["ends"]) == 40
    assert len(killed) > 22, "some came to their end before"
    assert set(killed) == {"point", "time", "copy"}
    assert told["last"] == 0, job.path("log.txt").read_text()[-2000:]
    counted = job.service.counters()["by_question"]
    with sqlite3.connect(job.path("ledger.sqlite")) as ledger:
        assert ledger.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        (cut,) = ledger.execute("SELECT count(*) FROM request WHERE state = 'abandoned'").fetchone()
        (kept,) = ledger.execute("SELECT sum(used) FROM window_use").fetchone()
        again = dict(ledger.execute("SELECT question_key, count(*) FROM request GROUP BY 1 HAVING count(*) > 1"))
    assert len(counted) == 800
    assert sum(counted.values()) <= 800 + cut, "only what was in flight was asked once more"
    assert sum(count > 1 for count in counted.values()) <= len(again)
    assert 40 < cut <= len(killed) * IN_HAND, "many were killed while they asked"
    assert kept == 800 + cut, "and it counts as spent"
    rows = job.rows("placed.csv")
    assert len(rows) == 800
    assert {row["Outcome"] for row in rows.values()} <= {"placed", "doubtful"}
    assert not list(job.folder.glob(".*.new"))


def test_killed_in_the_scan_of_a_changed_source_that_then_is_changed_back_it_knows_the_source_anew(small):
    job = small(real_addresses(5))
    job.run("run", "job.toml")
    before, written = job.path("records.csv").read_bytes(), job.path("placed.csv").read_bytes()
    job.path("records.csv").write_bytes(before.replace(b"R0,", b"R9,").replace(b"R1,", b"R1,1"))
    job.start("in the scan", 1, "run", "job.toml", program=SABOTEUR).communicate(timeout=60)
    job.path("records.csv").write_bytes(before)
    summary = job.summary()
    assert summary["requests"]["sent"] == 0
    assert summary["scan"]["changed"] == 1, "the kill came when the change was in the ledger"
    assert job.path("placed.csv").read_bytes() == written


def test_interrupted_it_writes_what_is_settled_and_the_next_run_goes_on(example):
    job = example(paced=True)
    running = job.start("run", "job.toml")
    while job.service.requests < 40:
        time.sleep(0.05)
    running.send_signal(signal.SIGINT)
    _, told = running.communicate(timeout=30)
    assert running.returncode == 130
    assert "Stopping: waiting for replies to requests that were sent. Press Ctrl-C again to stop at once." in told
    assert "The answers so far are written" in told
    sent = job.service.requests
    done = [row for row in job.rows().values() if row["Outcome"] == "placed"]
    assert 30 <= len(done) < 200
    assert sent < 100
    assert job.summary()["cut_in_flight"] == []
    counted = job.service.counters()
    assert max(counted["by_question"].values()) == 1
    assert counted["requests"] == len(counted["by_question"])


def test_interrupted_twice_it_ends_at_once_and_counts_what_was_in_flight_as_spent(small):
    job = small(real_addresses(20), faults={"slow": 1}, slow_s=20)
    running = job.start("run", "job.toml")
    while job.service.counters()["most_in_a_second"] < PARALLEL:
        time.sleep(0.05)
    running.send_signal(signal.SIGINT)
    time.sleep(0.3)
    running.send_signal(signal.SIGINT)
    running.communicate(timeout=10)
    assert running.returncode == 130
    plan = job.summary("--dry-run")
    assert len(plan["cut_in_flight"]) == PARALLEL
    assert plan["plan"]["left"][0]["left"] == 2500 - PARALLEL


def test_a_second_run_of_the_same_job_is_turned_away(example):
    job = example(paced=True)
    first = job.start("run", "job.toml")
    while job.service.requests < 5:
        time.sleep(0.05)
    assert "works on this job since" in job.run("run", "job.toml", code=9).stderr
    first.send_signal(signal.SIGTERM)
    first.communicate(timeout=30)
    assert first.returncode == 130


def test_a_full_disk_leaves_the_target_as_it_was(small):
    job = small([[*row, "", "", "x" * 90_000] for row in real_addresses(5)])
    job.summary()
    before = job.path("placed.csv").read_bytes()
    job.edit("job.toml", ("place_at = 0.9", "place_at = 1.0"))
    limited = ["bash", "-c", 'ulimit -f 400; trap "" XFSZ; exec "$0" "$@"', *PROGRAM]
    told = job.run("run", "job.toml", program=limited, code=4).stderr
    assert job.path("placed.csv").read_bytes() == before
    assert "It was not changed" in told
    assert not list(job.folder.glob(".*.new"))
    assert job.summary()["requests"]["sent"] == 0
    assert job.path("placed.csv").read_bytes() != before


def test_a_disk_that_fills_up_in_mid_run_ends_it_and_loses_nothing_that_was_kept(small):
    job = small(real_addresses(600))
    limited = ["bash", "-c", 'ulimit -f 700; trap "" XFSZ; exec "$0" "$@"', *PROGRAM]
    told = job.run("run", "job.toml", program=limited, code=8).stderr
    assert "can't be used: " in told
    assert "What was committed before is safe." in told
    assert 20 < job.service.requests < 600
    summary = job.summary()
    assert summary["outcomes"]["placed"] + summary["outcomes"]["doubtful"] == 600
    assert len(summary["cut_in_flight"]) <= IN_HAND
    counted = job.service.counters()
    assert counted["requests"] <= 600 + len(summary["cut_in_flight"])
    assert max(counted["by_question"].values()) <= 2
