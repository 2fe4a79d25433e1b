"""What services bear and people allow: learned paces, limits in replies, caps, how long replies are kept."""

import sqlite3

import pytest
from conftest import real_addresses
from hypothesis import given
from hypothesis import strategies as st

from yellowtor.allowance.pace import Learned, Pace
from yellowtor.allowance.price import Price, Tier
from yellowtor.allowance.rate_limit_headers import StatedLimit, stated_limits

PRICES = '[[allowance.prices]]\ncurrency = "EUR"\ntiers = [{ upto = 20, per_thousand = 0 }, { per_thousand = 500 }]\n'


@given(st.integers(1, 6), st.floats(1, 50), st.lists(st.tuples(st.floats(0, 2), st.integers(1, 3)), max_size=60))
def test_with_a_burst_no_second_holds_more_than_it_and_the_pace_allow(burst, rate, steps):
    pace, tat, now, left = Pace(rate, burst), 0.0, 100.0, []
    for waits, units in steps:
        now += waits
        send_at, tat = pace.reserve(tat, now, units)
        assert send_at >= now
        left += [send_at] * units
    for first in left:
        inside = sum(first <= at < first + 1 for at in left)
        assert inside <= rate + burst + 2, "units of one request leave together"
    single = [at for at, (_, units) in zip(left, steps, strict=False)] if all(u == 1 for _, u in steps) else []
    for first in single:
        assert sum(first <= at < first + 1 for at in single) <= int(rate) + burst
    assert Pace(rate, burst).reserve(0.0, 100.0)[0] == 100.0


def test_a_pace_that_is_too_fast_is_halved_once_and_grows_again():
    described, found = Pace(40.0), Learned()
    assert found.pace(described, 5.0) == described
    found = found.too_fast(described, 33.0, 10.0)
    assert found.too_fast(described, 33.0, 11.0) == found, "what was on its way already says nothing new"
    assert found.pace(described, 10.0) == Pace(20.0)
    assert found.pace(described, 40.0).per_second == pytest.approx(20 * 2**0.5)
    assert found.too_fast(described, 33.0, 40.0).per_second == pytest.approx(10 * 2**0.5)
    assert found.pace(described, 70.0) == described
    told = found.stated(described, 5.0)
    assert told.pace(described, 1e9) == Pace(5.0), "what the service says holds until it says something else"
    assert told.stated(described, 80.0).pace(described, 1e9) == described
    assert found.stated(described, 80.0) == found, "and does not undo what was found"
    free = Learned().too_fast(Pace(None), 12.0, 0.0)
    assert (free.per_second, free.pace(Pace(None), 239.0).per_second is None) == (6.0, False)
    assert free.pace(Pace(None), 241.0) == Pace(None)


@pytest.mark.parametrize(
    ("fields", "told"),
    [
        ({}, []),
        ({"ratelimit": '"day";r=80;t=4000', "ratelimit-policy": '"day";q=1000;w=86400, "burst";q=10;w=1'},
         [StatedLimit(1000, 86400, 80, 4000), StatedLimit(10, 1)]),
        ({"ratelimit-limit": "100, 100;w=60", "ratelimit-remaining": "7", "ratelimit-reset": "12"}, [StatedLimit(100, 60, 7, 12)]),
        ({"ratelimit-remaining": "0", "ratelimit-reset": "soon"}, [StatedLimit(left=0)]),
    ],
)  # fmt: skip
def test_what_a_service_says_of_its_limits_is_read_from_the_fields_of_both_drafts(fields, told):
    assert stated_limits(fields) == told


@given(
    st.lists(st.tuples(st.integers(1, 30), st.integers(0, 5)), max_size=4), st.integers(0, 9), st.integers(0, 90), st.integers(0, 99)
)  # fmt: skip
def test_what_an_amount_buys_is_the_most_that_costs_no_more(tiers, last, used, amount):
    ends, at = [], 0
    for size, each in tiers:
        ends.append(Tier(at := at + size, each))
    price = Price("EUR", (*ends, Tier(None, last)))
    bought = price.affords(used, amount)
    if bought is None:
        assert price.cost(used, 10_000) <= amount
    else:
        assert price.cost(used, bought) <= amount < price.cost(used, bought + 1)


def test_a_pace_is_learned_from_too_fast_without_a_hint_and_the_run_ends_whole(small):
    job = small(real_addresses(60), per_second=8, hints="none")
    job.edit("stand-in.toml", ("per_day", "per_second = 30\nper_day"))
    told = job.run("run", "job.toml").stderr
    assert "stand-in said that requests are too fast and did not state its limit: the pace fell to" in told
    counted = job.service.counters()
    assert len([row for row in job.rows("placed.csv").values() if row["Outcome"] == "placed"]) == 60
    assert counted["by_kind"]["too fast"] < 40, "halved, and halved again"
    assert job.run("run", "job.toml").stderr.count("0 requests sent") == 1


def test_what_the_service_says_of_its_limits_outranks_what_the_description_believes(small):
    job = small(real_addresses(40), per_second=10, per_day=30, hints="limits")
    job.edit("stand-in.toml", ("per_day", "per_second = 40\nper_day"))
    told = job.run("run", "job.toml", code=6).stderr
    assert "note: stand-in says 10 requests a second, its description 40." in told
    assert "left of the day, the ledger 2," in told
    assert "the quota of the day is used up" in told
    counted = job.service.counters()
    assert counted["requests"] == 30, "of 2,500 that the description believed"
    assert counted["by_kind"].get("too fast", 0) <= 8, "what was on its way when the first reply told"


def test_caps_of_requests_and_of_money_end_a_run_for_one_job_or_all(small):
    job = small(real_addresses(60))
    job.edit("stand-in.toml", ("[allowance]", f'{PRICES}\n[[allowance.caps]]\nmoney = 5\nin = "month"\n\n[allowance]'))
    job.edit("job.toml", ("[judge]", '[[ask.caps]]\nrequests = 25\nin = "day"\n\n[judge]'))
    told = job.run("run", "job.toml", code=6).stderr
    assert job.service.requests == 25
    assert "the job's own cap of the day is used up" in told
    shown = job.run("quota", "job.toml").stdout
    assert "day, job's cap" in shown
    assert "2.50 EUR" in shown
    job.path("other.toml").write_text(job.path("job.toml").read_text().replace("requests = 25", "requests = 50"))
    told = job.run("run", "other.toml", code=6).stderr
    assert job.service.requests == 30, "20 are free, and 10 cost 5.00"
    assert "your own cap of the month's money is used up" in told
    job.edit("stand-in.toml", (PRICES, ""))
    assert "one of money needs prices" in job.run("run", "job.toml", code=3).stderr


def grow_older(ledger, days):
    with sqlite3.connect(ledger) as connection:
        connection.execute(
            "UPDATE reply SET received_at = strftime('%Y-%m-%dT%H:%M:%f+00:00', 'now', ?)", [f"-{days} days"]
        )


def test_replies_are_kept_for_as_long_as_the_terms_allow_and_nothing_found_less(small):
    rows = [*real_addresses(4), ["R4", "9 Xqzw", "Wqxzk", ""]]
    job = small(rows)
    job.edit("job.toml", ('fixed = { country = "XT" }          #', "#"))
    job.edit("stand-in.toml", ("[service]", "[service]\nkeep_days = 30\nkeep_nothing_days = 10"))
    job.run("run", "job.toml")
    grow_older(job.path("ledger.sqlite"), 11)
    told = job.run("run", "job.toml").stderr
    assert "1 replies of stand-in were too old and are deleted" in told
    assert "1 requests sent" in told
    grow_older(job.path("ledger.sqlite"), 31)
    job.edit("stand-in.toml", ("per_day = 2500", "per_day = 8"))
    told = job.run("run", "job.toml", code=6).stderr
    assert "2 requests sent" in told
    assert [row["Outcome"] for row in job.rows("placed.csv").values()] == [
        "placed",
        "placed",
        "waiting",
        "waiting",
        "waiting",
    ]
    assert job.service.requests == 5 + 1 + 2
