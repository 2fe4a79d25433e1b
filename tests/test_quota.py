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
