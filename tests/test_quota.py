"""What is left of an allowance, and what it was used for: as the ledger knows it, whoever used it."""

import json
import re

from conftest import real_addresses

ROWS = [*real_addresses(5), ["N", "1 Nowhere Lane", "Xyphoria", ""]]
WINDOWS = """
[[allowance.windows]]
requests = 9
in = "hour"
rolling = true

[[allowance.windows]]
requests = 1000
in = "month"
leave = 100

[reply]
"""


PRICE = """
[[allowance.prices]]
currency = "EUR"
tiers = [{ upto = 4, per_thousand = 0 }, { per_thousand = 500 }]

[reply]
"""


def test_requests_are_paid_for_by_their_number_in_the_month_and_no_run_spends_more_than_it_may(small):
    job = small(ROWS)
    job.edit("stand-in.toml", ("\n[reply]\n", PRICE))
    job.edit("job.toml", ('service = "stand-in.toml"', 'service = "stand-in.toml"\nconfirm_above = 0.9'))
    assert "The cost is at most 1.00 EUR." in job.run("run", "job.toml", "--dry-run").stderr
    assert (
        "may cost 1.00 EUR, above ask.confirm_above = 0.9: allow it with --yes"
        in job.run("run", "job.toml", code=10).stderr
    )
    assert job.service.requests == 0
    few = job.run("run", "job.toml", "--spend-at-most", "0.6", code=6).stderr
    assert "5 requests sent; 0 questions answered from the ledger; cost 0.50 EUR" in few
    assert "window spent (the run has spent its budget)" in few
    assert "Run the job again after" not in few
    job.run("run", "job.toml", "--wait", "--spend-at-most", "0.2", code=6)
    assert job.service.requests == 5, "and it did not wait for money"
    summary = job.summary()
    assert [(s["sent"], s["cost_millionths"], s["currency"]) for s in summary["services"]] == [(1, 500_000, "EUR")]
    assert "40 a second · 1.00 EUR this month" in job.run("quota", "job.toml").stdout.replace("no pace", "40 a second")
    for old, new, told in [
        ("upto = 4, ", "", "the last of the tiers, and no other, has no upto"),
        ("per_thousand = 500 ", "per_thousand = 0.0005 ", "no more than three decimals"),
        ("EUR", "euro", "allowance.prices.0.currency = 'euro'"),
        (PRICE, "\n[reply]\n", "charge in none that has a price"),
    ]:
        text = job.path("stand-in.toml").read_text()
        job.edit("stand-in.toml", (old, new))
        assert told in job.run("run", "job.toml", "--spend-at-most", "1", code=3).stderr
        job.path("stand-in.toml").write_text(text)


def test_quota_tells_each_window_and_who_used_it_and_sends_nothing(small):
    job = small(ROWS, faults={"busy": 6})
    job.edit("stand-in.toml", ("\n[reply]\n", WINDOWS))
    assert "nothing is used yet" in job.run("quota", "job.toml", code=3).stderr
    job.run("run", "job.toml")
    job.path("other.toml").write_text(job.path("job.toml").read_text().replace('town = "Town"', 'town = "Notes"'))
    job.edit("other.toml", ('needed = ["street", "town"]', ""), ('"placed.csv"', '"other.csv"'))
    job.run("run", "other.toml", code=6)
    assert job.service.requests == 9
    del job.env["YELLOWTOR_STANDIN_KEY"]
    (quota,) = json.loads(job.run("quota", "job.toml", "--json").stdout)
    assert {w["window"]: (w["limit"], w["left"]) for w in quota["windows"]} == {
        "day": (2500, 2491), "rolling hour": (9, 0), "month": (900, 891),
    }  # fmt: skip
    assert quota["services"] == [quota["account"]] == ["stand-in"]
    assert [name.rpartition("/")[2] for name in quota["by_job"]] == ["job.toml", "other.toml"]
    assert sum(quota["by_job"].values()) == sum(quota["by_day"].values()) == sum(quota["by_kind"].values()) == 9
    assert quota["by_job"][str(job.path("job.toml"))] == 7
    assert quota["by_kind"]["unavailable"] == 1
    told = job.run("quota", "job.toml").stdout
    assert re.search(r"rolling hour +9 +0 +9 +\d{4}-\d\d-\d\d \d\d:\d\d", told)
    assert re.search(r"other\.toml +2 +━", told)
    assert job.service.requests == 9
