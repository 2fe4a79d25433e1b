"""The ledger of several jobs, of older versions, and what it reports."""

import json
import sqlite3
from datetime import UTC, datetime
from pathlib import Path

import pytest
from conftest import judging_pace, lay_out, real_addresses, write_csv

from yellowtor.allowance.forecast import forecast
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import Left, Span, Window


def test_several_jobs_at_once_keep_the_pace_and_the_day_of_the_account_they_share(ledger, tmp_path, serve):
    """Asserted from the stand-in's clock and counters: it knows one account, eight processes charge it."""
    service = serve()
    addresses, jobs = real_addresses(160), []
    for number in range(8):
        job = lay_out(tmp_path / f"job{number}", service, paced=True)
        job.edit(
            "job.toml",
            ('ledger = "ledger.sqlite"', f'ledger = "{ledger.text}"'),
            ('file = "cabinets.xlsx"\nsheet = "Cabinets"', 'file = "records.csv"'),
            ('name = "Cabinet"\n', ""), ('"Number and street"', '"Street"'), ('to = "cabinets-placed.xlsx"', 'to = "placed.csv"'),
        )  # fmt: skip
        job.edit("stand-in.toml", ("per_second = 40", "per_second = 30"), ("per_day = 2500", "per_day = 100"))
        write_csv(job.path("records.csv"), addresses[number * 15 : number * 15 + 20])  # each shares five with the next
        jobs.append(job)
    with judging_pace(service, 30, believed=0.01):
        running = [job.start("run", "job.toml", "--json") for job in jobs]
        told = [process.communicate(timeout=90) for process in running]
    summaries = [json.loads(out) if out else pytest.fail(err) for out, err in told]
    counted = service.counters()
    assert counted["requests"] == sum(s["requests"]["sent"] for s in summaries) == 100
    assert sum(s["outcomes"]["waiting"] for s in summaries) > 0
    assert {process.returncode for process in running} <= {0, 6}


def test_a_broken_file_and_a_server_that_is_not_there_are_told(small):
    job = small(real_addresses(1))
    job.path("ledger.sqlite").write_bytes(b"no database at all" * 100)
    assert "is damaged: file is not a database" in job.run("run", "job.toml", code=8).stderr
    job.edit("job.toml", ("ledger.sqlite", "postgresql://anna@127.0.0.1:9/none"))
    told = job.run("run", "job.toml", code=8).stderr
    assert "The ledger postgresql://anna@127.0.0.1:9/none can't be reached: connection" in told
    job.edit("job.toml", ("postgresql://", "mariadb://"))
    assert "a ledger is a file, or a PostgreSQL" in job.run("run", "job.toml", code=3).stderr
    assert job.service.requests == 0


def test_a_reply_is_kept_for_every_job_that_asks_the_same(small, tmp_path):
    rows = real_addresses(5)
    one = small(rows)
    one.run("run", "job.toml")
    (tmp_path / "small" / "job.toml").rename(tmp_path / "small" / "renamed.toml")
    told = one.run("run", "renamed.toml").stderr
    assert "0 requests sent; 5 questions answered from the ledger" in told


@pytest.mark.parametrize(
    ("requests", "windows", "used", "at_once", "goes", "ends"),
    [
        (0, [], [], 0, 0, "2026-03-28T12:00:00"),
        (100, [], [], 100, 1, "2026-03-28T12:00:10"),
        (100, [Window(40)], [10], 30, 3, "2026-03-30T00:00:03"),  # 30 at once, 40 tomorrow, 30 the day after
        (100, [Window(40)], [40], 0, 3, "2026-03-31T00:00:02"),
        (100, [Window(60, Span.HOUR), Window(80)], [0, 0], 60, 3, "2026-03-29T00:00:02"),
        (30, [Window(10, Span.MINUTE, rolling=True)], [0], 10, 3, "2026-03-28T12:02:03"),
        (100, [Window(1, Span.MONTH)], [0], 1, 100, "2034-06-01"),
    ],
)
def test_the_forecast_is_exact(requests, windows, used, at_once, goes, ends):
    now = datetime(2026, 3, 28, 12, tzinfo=UTC)
    lefts = [Left(w.name, w.words, w.limit, w.limit - n, "") for w, n in zip(windows, used, strict=True)]
    made = forecast(requests, Pace(10), windows, lefts, now)
    assert (made.at_once, made.stretches, made.seconds) == (at_once, goes, pytest.approx(at_once * 0.1015))
    assert made.ends_at.startswith(ends)
    assert forecast(requests, Pace(None), windows, lefts, now).seconds is None


def layout(path):
    with sqlite3.connect(path) as ledger:
        names = [name for (name,) in ledger.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY 1")]
        columns = {name: ledger.execute(f"PRAGMA table_info({name})").fetchall() for name in names}
        indices = {name: sorted(i[1:4] for i in ledger.execute(f"PRAGMA index_list({name})")) for name in names}
        return columns, indices, ledger.execute("PRAGMA user_version").fetchall()


def test_an_older_ledger_is_brought_up_to_date_whole_and_nothing_is_asked_again(small):
    known = real_addresses(4)
    rows = [*known, ["R4", *known[0][1:]], ["R5", "", "Nowhere", ""], ["R6", *known[1][1:], "47.5", "-28.5"],
            ["R7", "9 No Such Street", known[2][2], ""]]  # fmt: skip
    job = small(rows)
    old = job.path("ledger.sqlite")
    with sqlite3.connect(old) as ledger:
        text = (Path(__file__).parent / "data" / "ledger-1.sql").read_text(encoding="utf-8")
        ledger.executescript(text.replace("{job}", str(job.path("job.toml").resolve())))
        ledger.execute("PRAGMA user_version = 1")
    kept = old.read_bytes()
    for _ in range(2):
        summary = job.summary()
        assert summary["scan"] == {"records": 8, "new": 0, "changed": 0, "vanished": 0}
        assert summary["requests"]["sent"] == 0
        assert {k: n for k, n in summary["outcomes"].items() if n} == {
            "placed": 5, "kept": 1, "doubtful": 1, "incomplete": 1,
        }  # fmt: skip
    job.edit("job.toml", ("ledger.sqlite", "new.sqlite"))
    job.path("placed.csv").unlink()
    job.run("run", "job.toml", "--dry-run")
    old_layout, new_layout = layout(old), layout(job.path("new.sqlite"))
    assert old_layout[0].pop("alembic_version")
    old_layout[1].pop("alembic_version")
    assert old_layout == new_layout
    broken = job.path("broken.sqlite")
    broken.write_bytes(kept)
    with sqlite3.connect(broken) as ledger:  # what can't be brought up to date stays as it is
        ledger.execute("CREATE TABLE record (x)")
    job.edit("job.toml", ("new.sqlite", "broken.sqlite"))
    assert "table record already exists" in job.run("run", "job.toml", code=8).stderr
    with sqlite3.connect(broken) as ledger:
        assert ledger.execute("PRAGMA user_version").fetchall() == [(1,)]
        assert len(ledger.execute("SELECT * FROM last_order").fetchall()) == 8
