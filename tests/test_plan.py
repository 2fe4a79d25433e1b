"""The plan and the run: the run does what the plan says, by the stand-in's own count."""

import json
import re
import shutil
import struct
from collections import Counter
from datetime import UTC, datetime, timedelta

import pytest
from conftest import DATA, lay_out, real_addresses, write_csv
from hypothesis import given, settings
from hypothesis import strategies as st

from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.parts import Options
from yellowtor.run.run_job import conduct, plan_run
from yellowtor.wiring.run_parts import PartsOptions, job_parts

KNOWN = real_addresses(24)
STRAY = [["S0", "1 Nowhere Lane", "Xyphoria", ""], ["S1", "", "Nowhere", ""], ["S2", "9 Xqzw", "Wqxzk", ""]]
ROW = st.sampled_from([*KNOWN, *KNOWN, *STRAY])


class Nobody:
    """Watches nothing."""

    def __getattr__(self, name):
        return lambda *_, **__: None


def sized(path):
    """The width and height of a PNG (ISO/IEC 15948), in pixels."""
    picture = path.read_bytes()
    assert picture[:4] == b"\x89PNG"
    return struct.unpack(">II", picture[16:24])


def in_process(job, options, verb):
    with job_parts(job.path("job.toml"), PartsOptions()) as (parts, _):
        last = Cancellation() if verb is conduct else None
        return plan_run(parts, options, [], Nobody()) if verb is plan_run else conduct(parts, options, Nobody(), last)


@settings(max_examples=10)
@given(
    st.lists(ROW, min_size=1, max_size=30), st.none() | st.integers(1, 25), st.none() | st.integers(1, 25),
    st.none() | st.integers(1, 20), st.integers(1, 2), st.integers(0, 6),
)  # fmt: skip
def test_a_run_without_faults_keeps_to_its_plan_and_never_passes_the_upper_figure(
    tmp_path_factory, serve, monkeypatch, rows, per_day, second_day, at_most, services, before
):
    first, second = serve(), serve()
    job = lay_out(tmp_path_factory.mktemp("plan"), first)
    other = (
        job.path("stand-in.toml")
        .read_text()
        .replace("YELLOWTOR_STANDIN", "SECOND")
        .replace('name = "stand-in"', 'name = "other"')
    )
    job.path("other.toml").write_text(other.replace("per_day = 2500", f"per_day = {second_day}" if second_day else ""))
    job.edit("stand-in.toml", ("per_day = 2500", f"per_day = {per_day}" if per_day else ""))
    job.edit(
        "job.toml", ('file = "cabinets.xlsx"\nsheet = "Cabinets"', 'file = "records.csv"'), ('name = "Cabinet"\n', ""),
        ('"Number and street"', '"Street"'), ('to = "cabinets-placed.xlsx"', 'to = "placed.csv"'),
        ('service = "stand-in.toml"', f"services = {['stand-in.toml', 'other.toml'][:services]}"),
    )  # fmt: skip
    write_csv(job.path("records.csv"), [[f"K{at}", *row[1:]] for at, row in enumerate(rows)])
    for name, value in {"YELLOWTOR_STANDIN": first.address, "YELLOWTOR_STANDIN_KEY": first.key, "SECOND": second.address, "SECOND_KEY": second.key}.items():  # fmt: skip
        monkeypatch.setenv(name, value)
    if before:
        in_process(job, Options(at_most=before), conduct)
    sent, also = first.requests, second.requests
    plan = in_process(job, Options(at_most=at_most), plan_run).plan
    assert (first.requests, second.requests) == (sent, also), "a plan sends nothing"
    done = in_process(job, Options(at_most=at_most), conduct)
    asked = first.requests - sent
    assert asked == plan.requests == plan.forecast.at_once
    assert plan.pinned + plan.kept + plan.incomplete + plan.to_answer == len(rows)
    assert done.outcomes["incomplete"] == plan.incomplete
    limits = [limit for limit in (plan.open_questions, at_most) if limit is not None]
    assert asked == min(limits) or plan.forecast.requests > asked, "all of them, unless a window is spent"
    for later in plan.later:
        assert later.least <= later.expected <= later.most
        assert second.requests - also <= later.most
        if plan.forecast.requests == asked and not second_day:
            assert second.requests - also >= later.least


def test_a_plan_says_what_a_run_would_do_cost_and_when_it_would_be_done_also_with_other_limits(small):
    job = small([*real_addresses(45), *STRAY], hints="none")
    job.edit(
        "stand-in.toml",
        ("per_day = 2500", "per_day = 20\nper_second = 10"),
        ("[allowance]", '[[allowance.prices]]\ncurrency = "EUR"\ntiers = [{ upto = 30, per_thousand = 0 }, { per_thousand = 100 }]\n\n[allowance]'),
    )  # fmt: skip
    told = job.run(
        "plan", "job.toml", "--what-if", "day=40", "--what-if", "day=none,pace=20", "--png", "plan.png"
    ).stdout
    day = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
    assert f"Complete by {day + timedelta(days=2):%Y-%m-%d} 00:00 UTC at the latest." in told
    lines = [line.split() for line in told.splitlines() if line.strip()]
    assert ["to", "be", "asked", "47"] in lines
    months = Counter((day + timedelta(days=n)).month for n, count in enumerate((20, 20, 7)) for _ in range(count))
    cost = sum(max(0, count - 30) for count in months.values()) / 10  # 1.70, or less over the end of a month
    assert next(line[1:4] for line in lines if line[0] == "stand-in") == ["47", f"{cost:.2f}", "EUR"]
    assert next(line[-5:-2] for line in lines if line[0] == "stand-in") == ["in", "3", "stretches"]
    assert next(line[-5:-2] for line in lines if line[0] == "day=40") == ["in", "2", "stretches"]
    assert next(line[3:5] for line in lines if line[0] == "day=none,pace=20") == ["2", "s"]
    assert sized(job.path("plan.png")) == (1280, 800)
    whole = json.loads(job.run("plan", "job.toml", "--json", "--what-if", "month=30").stdout)
    ends = datetime.fromisoformat(whole["forecast"]["ends_at"])
    assert timedelta(0) <= ends - (day + timedelta(days=2)) < timedelta(seconds=2), "seven more at ten a second"
    assert whole["what_if"][0]["stretches"] == 3
    assert job.service.requests == 0
    capped = json.loads(job.run("plan", "job.toml", "--json", "--what-if", "cap day=10").stdout)["what_if"][0]
    assert (capped["stretches"], capped["at_once"]) == (5, 10)
    job.run("run", "job.toml", code=6)
    assert job.service.requests == 20
    assert "day: 0 of 20 left; renewed at" in job.run("plan", "job.toml").stdout
    for wish in ("day", "day=0", "year=4", "day=4;pace=2"):
        assert (
            f"--what-if {wish!r}: say pace=N, second=N" in job.run("plan", "job.toml", "--what-if", wish, code=3).stderr
        )


def test_a_plan_goes_by_how_long_replies_take_where_the_pace_would_allow_more(small):
    job = small(real_addresses(24), faults={"slow": 1}, slow_s=0.2)
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 4"))
    told = job.run("plan", "job.toml").stdout
    assert "The duration is unknown: stand-in has no pace, and no reply so far." in told
    job.run("run", "job.toml", "--at-most", "4", code=6)
    plan = json.loads(job.run("plan", "job.toml", "--json", "--what-if", "pace=2", "--what-if", "pace=900").stdout)
    made, slower, no_faster = plan["forecast"], *plan["what_if"]
    assert made["reply_s"] > 0.2
    assert made["seconds"] == pytest.approx(20 / 4 * made["reply_s"])
    assert (slower["seconds"], slower["reply_s"]) == (20 * 1.015 / 2, None)
    assert no_faster["seconds"] == made["seconds"]
    assert re.search(r"Complete by about [-: 0-9]{16} UTC, if replies take as long as the last ones: those of stand-in \d{3} ms", job.run("plan", "job.toml").stdout)  # fmt: skip
    assert made["seconds"] <= 2 * job.summary()["requests"]["seconds"], "and so they do"
    assert "There is nothing to ask." in job.run("plan", "job.toml").stdout


def test_the_record_of_requests_is_exported_for_accounting(small):
    job = small(real_addresses(3), faults={"busy": 2})
    job.run("run", "job.toml")
    assert "requests written to bill.csv" in job.run("quota", "job.toml", "--requests", "bill.csv").stderr
    head, *rows = [line.split(",") for line in job.path("bill.csv").read_text().splitlines()]
    found = [dict(zip(head, row, strict=True)) for row in rows]
    assert len(found) == job.service.requests == 5, "every second is busy, and asked again"
    assert {row["kind"] for row in found} == {"answered", "unavailable"}
    assert all(row["service"] == row["account"] == "stand-in" and int(row["took_ms"]) >= 0 for row in found)
    assert all(row["reserved_at"] <= row["settled_at"] and row["job"].endswith("job.toml") for row in found)
    assert job.run("quota", "job.toml", "--requests", "-").stdout.splitlines()[0] == ",".join(head)
    job.run("quota", "job.toml", "--png", "quota.png")
    assert sized(job.path("quota.png")) == (1280, 800)
    for name in ("xml", "text"):
        shutil.copy(DATA / f"stand-in-{name}.toml", job.folder)
    services = 'services = ["stand-in.toml", "stand-in-xml.toml", "stand-in-text.toml"]'
    job.edit("job.toml", ('service = "stand-in.toml"', services))
    job.run("quota", "job.toml", "--png", "quota.png")
    assert sized(job.path("quota.png")) == (1280, 1080), "a band for each account"


@pytest.mark.parametrize("zone", ["Europe/Lisbon", "America/Havana"])
def test_a_window_that_rolls_over_at_a_change_of_its_zones_clocks_is_waited_for_once(small, zone):
    """Seen from the evening before each change of 2026: the plan's next go begins at the zone's own midnight."""
    from zoneinfo import ZoneInfo

    from yellowtor.allowance.forecast import forecast
    from yellowtor.allowance.pace import Pace
    from yellowtor.allowance.windows import Span, Window

    where, hour = ZoneInfo(zone), timedelta(hours=1)
    at = datetime(2026, 1, 1, tzinfo=UTC)
    lengths = set()
    while at.year == 2026:
        window = Window(1, Span.DAY, where)
        start, end = window.start(at), window.end(at)
        assert start <= at < end
        assert end.astimezone(where).date() == start.astimezone(where).date() + timedelta(days=1)
        assert window.start(end) == end, "it is in just one window"
        assert window.start(end - timedelta(seconds=1)) == start
        made = forecast(2, Pace(None), [window], [type("L", (), {"left": 1})()], at)
        assert made.curve[1][0] == end
        lengths.add((end - start) / hour)
        at += timedelta(hours=7)
    assert lengths == {23.0, 24.0, 25.0}
