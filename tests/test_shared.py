"""A ledger that is shared: several workers on one job, one that dies, a server that is gone for a while."""

import json
import os
import signal
import subprocess
import time

import pytest
from conftest import Ledger, real_addresses


@pytest.fixture
def shared(small, postgres, tmp_path):
    """shared(n) is a job with n records on a ledger that other jobs may use too."""

    def make(count, **manners):
        job = small(real_addresses(count), **manners)
        job.ledger = Ledger(tmp_path, postgres)
        job.edit("job.toml", ("ledger.sqlite", job.ledger.text))
        return job

    return make


def until(told, process=None):
    """Wait for something to become true; at most half a minute."""
    for _ in range(600):
        if told():
            return
        assert process is None or process.poll() is None, process.communicate()
        time.sleep(0.05)
    pytest.fail("it never came true")


def test_a_check_looks_at_a_shared_ledger_and_makes_nothing(shared):
    job = shared(2)
    assert "shared, created by the first run" in (told := job.run("check", "job.toml")).stdout + told.stderr
    assert job.ledger.sql("SELECT 1 FROM pg_tables WHERE schemaname = 'yellowtor'") == []
    job.run("run", "job.toml")
    told = job.run("check", "job.toml")
    assert "created by the first run" not in told.stdout + told.stderr


def test_characters_that_nobody_sees_hold_nothing_up_and_make_no_other_question(shared):
    """U+0000 is one that PostgreSQL keeps in no text."""
    job = shared(2)
    head, one, two, *_ = job.path("records.csv").read_text().splitlines()
    key, rest = one.split(",", 1)
    street = rest[: rest.index(",")]
    job.path("records.csv").write_text("\n".join([head, one, two, f"\0{key}x\u200e,{street[:3]}\0\xad{rest[3:]}", ""]))
    for sent in (2, 0):
        summary = job.summary()
        assert (summary["requests"]["sent"], summary["outcomes"]["placed"]) == (sent, 3)
    assert "is pinned at" in job.run("pin", "job.toml", f"{key}x\u200e", "--at", "47.7,-28.9", "--why", "seen").stderr
    job.edit("job.toml", ('to = "placed.csv"', 'to = "placed\\u0000.csv"'))
    assert "has the character U+0000 in it" in job.run("check", "job.toml", code=3).stdout


def test_two_workers_share_a_job_and_no_question_is_asked_twice(shared):
    job = shared(200)
    job.edit("stand-in.toml", ("per_day", "per_second = 20\nper_day"))
    first = job.start("run", "job.toml", "--json")
    until(lambda: job.service.requests > 0, first)
    second = job.start("run", "job.toml", "--share", "--json")
    told = job.run("run", "job.toml", code=9).stderr
    assert f"process {first.pid}) works on this job since" in told
    assert "or help it with --share. Nothing was sent." in told
    (one, _), (two, said) = first.communicate(timeout=60), second.communicate(timeout=60)
    mine, yours = json.loads(one), json.loads(two or said)
    assert mine["requests"]["sent"] + yours["sent"] == job.service.requests == 200
    assert yours["sent"] > 10
    assert mine["outcomes"]["placed"] == 200
    assert {row["Outcome"] for row in job.rows("placed.csv").values()} == {"placed"}
    job.edit("job.toml", (job.ledger.text, "ledger.sqlite"))
    assert (
        "only with a shared ledger can two runs work on one job" in job.run("run", "job.toml", "--share", code=3).stderr
    )


def test_when_a_worker_dies_the_other_asks_what_it_had_in_flight_once_more(shared):
    job = shared(140, faults={"slow": 1}, slow_s=1.0)
    first = job.start("run", "job.toml")
    until(lambda: job.service.requests >= 4, first)
    second = job.start("run", "job.toml", "--share")
    until(lambda: job.ledger.sql("SELECT 1 FROM request WHERE run_id = 2 AND state = 'answered'"), second)
    first.send_signal(signal.SIGKILL)
    first.communicate()
    assert "The run that worked on the job has ended" in second.communicate(timeout=120)[1]
    told = job.run("run", "job.toml").stderr
    assert "cut off: counted as spent, and may be asked once more" in told
    assert "0 requests sent" in told
    (abandoned,) = job.ledger.sql("SELECT count(*) FROM request WHERE state = 'abandoned'")
    assert 140 <= job.service.requests <= 140 + abandoned[0] <= 140 + 16, "what was reserved may not have been sent"
    assert len([row for row in job.rows("placed.csv").values() if row["Outcome"] == "placed"]) == 140


def test_a_server_that_is_restarted_in_mid_run_is_waited_for_and_no_reply_is_lost(shared, postgres):
    job = shared(150)
    job.edit("stand-in.toml", ("per_day", "per_second = 30\nper_day"))
    running = job.start("run", "job.toml", "--json")
    until(lambda: job.service.requests > 20, running)
    folder = postgres.partition("host=")[2]
    from pgserver._commands import POSTGRES_BIN_PATH

    control = [POSTGRES_BIN_PATH / "pg_ctl", "-D", folder, "-m", "immediate", "-w", "restart"]
    log = job.path("restart.log")
    with log.open("w") as said:  # the server inherits what it is started with
        done = subprocess.run(control, user=os.stat(folder).st_uid, stdout=said, stderr=said, stdin=subprocess.DEVNULL)
    assert not done.returncode, log.read_text()
    out, err = running.communicate(timeout=90)
    summary = json.loads(out or pytest.fail(err))
    assert summary["outcomes"]["placed"] == 150
    lost = job.ledger.sql("SELECT count(*) FROM request WHERE state IN ('abandoned', 'reserved')")[0][0]
    assert job.service.requests == summary["requests"]["sent"] == 150, f"{lost} were reserved in vain"
