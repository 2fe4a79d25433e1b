"""Two sides are compared before anybody pays for the whole; what moved over time is shown, and refused."""

import csv
import json
import random
import re

import pytest
from conftest import real_addresses
from hypothesis import given
from hypothesis import strategies as st

from yellowtor.run.compare import estimate, wilson
from yellowtor.run.sample import allocate

ROWS = real_addresses(24)


@pytest.fixture
def two(small):
    """A job, and another without the country, in the same ledger."""
    job = small([*ROWS, ["N", "1 Nowhere Way", "Nixville", "99999"], ["E", "", "", ""]])
    job.edit("job.toml", ('"Matched address"', '"Matched address"\nreasons = "Why"'))
    text = job.path("job.toml").read_text()
    other = (
        text.replace("placed.csv", "bare.csv").replace("cabinets.", "bare.").replace('fixed = { country = "XT" }', "")
    )
    job.path("bare.toml").write_text(other)
    return job


def compared(job, *args, code=0):
    return json.loads(job.run("compare", *args, "--json", code=code).stdout)


def positions(job):
    return {key: (row["Latitude"], row["Longitude"]) for key, row in job.rows("placed.csv").items() if row["Latitude"]}


def test_jobs_are_compared_with_each_other_with_the_truth_and_with_how_they_stood(two):
    job = two
    job.run("run", "job.toml")
    job.run("run", "bare.toml")
    found = compared(job, "job.toml", "bare.toml", "--png", "c.png", "--page", "c.html")
    assert (found["records"], found["only_a"], found["only_b"]) == (26, 0, 0)
    assert sum(one["records"] for one in found["outcomes"]) == 26
    assert found["both_placed"] >= 20
    assert job.path("c.png").read_bytes()[:4] == b"\x89PNG"
    assert job.path("c.html").read_text().startswith("<!doctype html>")
    # known positions: two are far off, one row can't be read, one key is unknown
    true = positions(job)
    keys = sorted(true)
    rows = [
        ["Id", "Latitude", "Longitude"],
        *([key, *true[key]] for key in keys[2:]),
        ["X9", "1", "2"],
        ["N", "abc", "1"],
    ]
    rows += [[keys[0], "47.0001", "-28.9"], [keys[1], "", ""]]
    with job.path("truth.csv").open("w", newline="") as file:
        csv.writer(file).writerows(rows)
    told = job.run("compare", "job.toml", "truth.csv")
    assert "2 rows have no position" in told.stderr
    assert re.search(rf"{len(keys) - 2} of {len(keys) - 1} positions are right", told.stdout)
    right = compared(job, "truth.csv", "job.toml")
    assert (right["right"], right["judged"], right["only_a"]) == (len(keys) - 2, len(keys) - 1, 1)
    assert [pair["key"] for pair in right["farthest"]] == [keys[0]]
    assert right["farthest"][0]["away_m"] > 1_000
    # over time: a person decides, the address changes, and both are listed
    job.run("pin", "job.toml", keys[3], "--at", "47.25,-28.5", "--why", "stood there", "--by", "Ida")
    job.edit("records.csv", (ROWS[5][1], ROWS[6][1]))
    job.run("run", "job.toml")
    moved = compared(job, "job.toml@-1", "job.toml")
    assert {pair["key"] for pair in moved["farthest"]} >= {keys[3]}
    assert moved["records"] == 26
    assert not [one for one in moved["outcomes"] if (one["a"] is None) != (one["b"] is None)], (
        "all of them had an outcome"
    )
    assert compared(job, "job.toml@2000-01-01", "job.toml")["both_placed"] == 0
    assert compared(job, "job.toml@2999-01-01T10:00", "job.toml")["moved"] == 0
    history = json.loads(job.run("explain", "job.toml", keys[3], "--history", "--json").stdout)
    assert [(one["outcome"], one["decision"] is not None) for one in history] == [("placed", False), ("placed", True)]
    assert history[0]["service"] == "stand-in"
    assert history[0]["judged_by"]
    job.run("pin", "job.toml", keys[3], "--off")
    job.run("run", "job.toml")
    told = job.run("explain", "job.toml", keys[3], "--history").stdout
    assert "pinned by Ida" in told
    assert "stand-in, reply of 2" in told
    changed = json.loads(job.run("explain", "job.toml", ROWS[5][0], "--history", "--json").stdout)
    assert len({one["address"] for one in changed}) == 2, "the address that it had is kept"
    for bad, why in (
        ("job.toml@-99", "had fewer runs"),
        ("job.toml@soon", "say when"),
        ("none.toml", "none.toml"),
        ("c.png", "a table is a file"),
    ):
        assert why in job.run("compare", bad, "job.toml", code=3).stderr
    assert "must be a job" in job.run("compare", "truth.csv", "truth.csv", code=3).stderr
    assert (
        "would be overwritten" in job.run("compare", "job.toml", "bare.toml", "--page", "cabinets.html", code=3).stderr
    )
    job.run(
        "cache",
        "forget",
        "--job",
        "job.toml",
        ", ".join([ROWS[5][1], f"{ROWS[5][3]} {ROWS[5][2]}", "XT"]),
        "--every-trace",
        "--yes",
    )
    assert len(json.loads(job.run("explain", "job.toml", ROWS[5][0], "--history", "--json").stdout)) == 1


def test_a_sample_asks_little_says_what_the_whole_costs_and_is_never_paid_again(two):
    job = two
    job.edit(
        "stand-in.toml",
        ("[allowance]", '[[allowance.prices]]\ncurrency = "EUR"\ntiers = [{ per_thousand = 5 }]\n\n[allowance]'),
    )
    job.edit("job.toml", ('service = "stand-in.toml"', 'service = "stand-in.toml"\nconfirm_above = 0.01'))
    assert "Nothing was sent" in job.run("compare", "job.toml", "bare.toml", "--sample", "8", code=10).stderr
    found = compared(job, "job.toml", "bare.toml", "--sample", "8", "--yes")
    sample = found["sample"]
    assert sample["drawn"] == found["records"] == 8
    assert [side["requests"] for side in sample["sides"]] == [8, 8]
    assert [side["whole_cost"]["EUR"] for side in sample["sides"]] == pytest.approx([25 * 0.005, 25 * 0.005])
    assert sample["low"] <= sample["moved_share"] <= sample["high"]
    again = compared(job, "job.toml", "bare.toml", "--sample", "8")
    assert [side["requests"] for side in again["sample"]["sides"]] == [0, 0], "the same sample, and it is known"
    assert [pair["key"] for pair in again["farthest"]] == [pair["key"] for pair in found["farthest"]]
    other = compared(job, "job.toml", "bare.toml", "--sample", "8", "--seed", "7", "--yes")
    assert sum(side["requests"] for side in other["sample"]["sides"]) > 0
    spent = sum(side["requests"] for one in (found, other) for side in one["sample"]["sides"])
    assert job.summary("--yes")["requests"]["sent"] + spent // 2 == 25, "what a sample asked is not asked again"
    assert not job.path("bare.csv").exists()


def test_a_run_that_would_move_too_many_writes_nothing(two, tmp_path):
    job = two
    job.edit("job.toml", ('to = "placed.csv"', 'to = "placed.csv"\nmost_moved = "10 %"'))
    job.run("run", "job.toml")
    before = job.path("placed.csv").read_bytes()
    streets = [row[1] for row in ROWS[:6]]
    text = job.path("records.csv").read_text()
    for old, new in zip(streets, reversed(streets), strict=True):
        text = text.replace(f"{ROWS[streets.index(old)][0]},{old}", f"{ROWS[streets.index(old)][0]},#{new}")
    rows = [[row[0], *ROWS[5 - n][1:4]] if n < 6 else row for n, row in enumerate(ROWS)]
    with job.path("records.csv").open("w", newline="") as file:
        csv.writer(file).writerows(
            [
                ["Id", "Street", "Town", "Postcode", "Latitude", "Longitude", "Notes"],
                *(row + [""] * (7 - len(row)) for row in rows),
            ]
        )
    assert "would write nothing" in job.run("run", "job.toml", "--dry-run").stderr
    refused = job.run("run", "job.toml", code=4).stderr
    assert re.search(r"6 of 2\d placed records \(2\d\.\d%\) would move farther than 50 m", refused), refused
    assert job.path("placed.csv").read_bytes() == before
    job.run("run", "job.toml", "--most-moved", "1 %", code=4)
    assert "not a share" in job.run("run", "job.toml", "--most-moved", "lots", code=2).stderr
    assert job.summary("--most-moved", "100%")["requests"]["sent"] == 0
    assert job.path("placed.csv").read_bytes() != before
    job.run("run", "job.toml")
    job.edit("job.toml", ('"10 %"', '"110 %"'))
    assert "most_moved" in job.run("check", "job.toml", code=3).stdout + job.run("check", "job.toml", code=3).stderr


@given(st.dictionaries(st.text(min_size=1, max_size=3), st.integers(1, 500), max_size=12), st.integers(1, 60))
def test_a_sample_is_drawn_in_proportion(counts, size):
    shares = allocate(counts, size)
    assert sum(shares.values()) == min(size, sum(counts.values()))
    assert all(0 <= shares[name] <= count for name, count in counts.items())
    if len(counts) <= size:
        assert all(shares.values()), "of each at least one"


def test_the_interval_of_a_sample_holds_the_truth_about_as_often_as_it_says():
    chance, held = random.Random(4), 0
    for _ in range(400):
        strata = []
        true = 0.0
        for records, share in ((700, 0.04), (200, 0.2), (100, 0.5)):
            drawn = records // 5
            strata.append((records, drawn, sum(chance.random() < share for _ in range(drawn))))
            true += records * share / 1000
        found = estimate(strata)
        held += found.low <= true <= found.high
    assert 0.93 <= held / 400 <= 1.0
    assert wilson(0.0, 50)[0] == 0.0
    assert wilson(1.0, 50)[1] == 1.0
