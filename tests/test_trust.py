"""What people see of a confidence: its story, its causes, the rules of the job, and its calibration."""

import gzip
import json
import sqlite3
from contextlib import closing

import pytest
from conftest import Ledger, real_addresses, write_csv
from hypothesis import given
from hypothesis import strategies as st

from yellowtor.addresses.leaving_out import FIELDS, without
from yellowtor.answers.judging.calibrating import Decision, fit_calibration, held_out
from yellowtor.answers.judging.confidence import calibrated
from yellowtor.contracts.address import Address

TEN = real_addresses(10)
STREET = TEN[0][1].partition(" ")[2]
NO_HOUSE = ["W", f"9999 {STREET}", *TEN[0][2:]]


def test_explain_tells_the_whole_story_and_sends_nothing(small):
    job = small([TEN[0], NO_HOUSE, ["N", TEN[1][1], ""]])
    assert "no ledger" in job.run("explain", "job.toml", "W", code=3).stderr
    summary = job.summary()
    assert [(d["cause"], d["records"], d["key"]) for d in summary["doubts"]] == [("house number", 1, "W")]
    sent = job.service.requests
    shown = job.run("explain", "job.toml", "W").stdout
    order = [f"9999 {STREET}", "Question", "stand-in  1 request; reply of", "alone", "question", "log-odds",
             "the house number is not confirmed", "Outcome", "▲ doubtful"]  # fmt: skip
    assert [shown.index(part) for part in order] == sorted(shown.index(part) for part in order)
    assert 'judge.level = "segment"' in " ".join(shown.split())
    placed, doubtful, incomplete = (
        json.loads(job.run("explain", "job.toml", key, "--json").stdout) for key in (TEN[0][0], "W", "N")
    )
    assert (placed["outcome"], placed["services"][0]["evidence"]) == ("placed", [])
    (found,) = doubtful["services"]
    assert {part["part"]: part["agreement"] for part in found["alignment"]}["street"] == "agrees"
    assert found["evidence"][0]["cause"] == "house number"
    assert found["evidence"][0]["without"] > doubtful["confidence"] == found["candidates"][0]["alone"]
    assert (incomplete["not_asked"], incomplete["services"]) == ("town missing", [])
    assert "no record with the key 'X'" in job.run("explain", "job.toml", "X", code=4).stderr
    assert job.service.requests == sent


def test_the_coarsest_level_is_the_jobs_and_no_part_of_must_agree_is_contradicted(small):
    job = small([TEN[0], NO_HOUSE])
    job.edit("job.toml", ("tolerance_m = 50", 'tolerance_m = 50\nlevel = "segment"'))
    assert job.summary()["outcomes"]["placed"] == 2, "a street is enough"
    job.edit("job.toml", ('level = "segment"', 'level = "entrance"'))
    summary = job.summary()
    assert (summary["outcomes"]["doubtful"], summary["doubts"][0]["cause"]) == (2, "too coarse")
    job.edit("job.toml", ('level = "entrance"', 'must_agree = ["house"]'))
    assert "must_agree" in job.run("run", "job.toml", code=3).stderr
    assert job.service.requests == 2


@pytest.mark.parametrize("where", ["sqlite", "postgresql"])
def test_the_other_records_tell_of_a_service_that_answers_one_point_for_many_streets(small, tmp_path, where, request):
    """A house each in twelve streets of one town: five at one point, one far away, the others where they belong."""
    points = dict.fromkeys(("Karl Row", "Osten Lane", "Pib Street", "Quill Road", "Zum Avenue"), (47.5, -29.0))
    near = ("Amber Row", "Bristle Lane", "Dove Street", "Elm Road", "Fir Avenue", "Gull Close")
    points |= {name: (47.5, -29.01 + at / 1000) for at, name in enumerate(near)} | {"Hazel Row": (47.5, -27.5)}
    head = "number,street,town,postcode,region,country,country_code,lat,lon"
    lines = [f"4,{name},Holm,00112,Vest,Brænadûn Isles,XT,{lat},{lon}" for name, (lat, lon) in points.items()]
    (tmp_path / "addresses.csv.gz").write_bytes(gzip.compress("\n".join([head, *lines, ""]).encode()))
    towns = "name,region,country,country_code,lat,lon,population\nHolm,Vest,Brænadûn Isles,XT,47.5,-29.0,900\n"
    (tmp_path / "towns.csv").write_text(towns)
    rows = [[name, f"4 {name.replace('Hazel', 'Hasel')}", "Holm", "00112"] for name in points]
    job = small(rows[:3], gazetteer=tmp_path)
    if where == "postgresql":
        job.edit("job.toml", ("ledger.sqlite", Ledger(tmp_path, request.getfixturevalue("postgres")).text))
    assert job.summary()["outcomes"]["placed"] == 3, "as long as they are few"
    write_csv(job.path("records.csv"), rows)
    summary = job.summary()
    assert [(d["cause"], d["records"]) for d in summary["doubts"]] == [
        ("one point for many", 5),
        ("far from its town", 1),
    ]
    story = " ".join(job.run("explain", "job.toml", "Karl Row").stdout.split())
    assert "the service answers this point for 5 different streets" in story
    assert "Without this it would be placed" in story
    assert "km from the other records" in job.run("explain", "job.toml", "Hazel Row").stdout
    before = job.path("placed.csv").read_bytes()
    assert job.summary()["requests"]["sent"] == 0
    assert job.path("placed.csv").read_bytes() == before
    job.edit("job.toml", ("tolerance_m = 50", "tolerance_m = 5000"))
    assert [d["cause"] for d in job.summary()["doubts"]] == ["far from its town"], "one point is near enough to all"


def test_what_is_left_out_is_not_sent_and_preview_shows_what_was_found(small):
    number, town = TEN[0][1], TEN[0][2:]
    job = small(
        [["A", f"{number} Apt 4, c/o R. Pell", *town], ["B", f"{number} (back door)", *town], ["C", number, *town]]
    )
    parsed = json.loads(job.run("preview", "job.toml", "--json").stdout)["first"][0]["parsed"]
    assert (parsed["unit"], parsed["care of"]) == ("apt 4", "c/o r pell")
    assert job.summary("--dry-run")["plan"]["open_questions"] == 3
    job.edit("job.toml", ("[ask]", '[ask]\nleave_out = ["unit", "care of", "notes"]'))
    assert job.summary()["requests"]["sent"] == 1, "they differ only in what is left out"
    assert {row["Outcome"] for row in job.rows("placed.csv").values()} == {"placed"}
    (asked,) = job.service.counters()["by_question"]
    assert "Pell" not in asked


@given(
    st.text(max_size=40) | st.sampled_from(["12 Wharf Lane #12", "Apt 4", "12 Kelp (a) - b, c/o D", "#(", "PO Box 8"])
)
def test_leaving_out_takes_only_signs_away(street):
    left = without(Address(street=street), list(FIELDS)).street
    remaining = iter(" ".join(street.split()) if left != street else street)
    assert all(sign in remaining for sign in left)


def pin(job, truth):
    """Pin records as `yellowtor pin` does, many at once."""
    with closing(sqlite3.connect(job.path("ledger.sqlite"))) as ledger, ledger:
        for key, (lat, lon) in truth.items():
            ledger.execute(
                "INSERT INTO pin (job_id, key, lat, lon, who, why, pinned_at) SELECT id, ?, ?, ?, 'me', 'seen', '2026-01-01' "
                "FROM job LIMIT 1", (key, lat, lon),
            )  # fmt: skip


def test_decisions_correct_the_confidence_of_a_service(small):
    rows = real_addresses(70)
    job = small(rows)
    job.summary()
    placed = {key: row for key, row in job.rows("placed.csv").items() if row["Outcome"] == "placed"}
    keys = list(placed)[:60]
    wrong = {key for at, key in enumerate(keys) if at % 3 == 0}
    truth = {key: (float(placed[key]["Latitude"]) + (key in wrong), float(placed[key]["Longitude"])) for key in keys}
    pin(job, dict(list(truth.items())[:40]))
    assert "a service needs 50" in job.run("calibrate", "job.toml").stderr
    pin(job, dict(list(truth.items())[40:]))
    (found,) = json.loads(job.run("calibrate", "job.toml", "--json", "--png", "reliability.png").stdout)
    assert (found["decisions"], found["right"]) == (60, 40)
    assert found["error_after"] < 0.1 < found["error_before"]
    assert job.path("reliability.png").read_bytes().startswith(b"\x89PNG")
    job.edit("job.toml", ("tolerance_m = 50", 'tolerance_m = 50\ncalibration = "job-calibration.json"'))
    summary = job.summary()
    assert summary["requests"]["sent"] == 0
    other = next(row for key, row in job.rows("placed.csv").items() if key not in truth)
    assert other["Outcome"] == "doubtful", "a service that is wrong in one of three is trusted less"
    assert "calibrated on 60" in job.run("explain", "job.toml", other["Id"]).stdout
    job.run("calibrate", "job.toml")
    kept = json.loads(job.path("job-calibration.json").read_text())
    assert kept["earlier"][0] == kept["services"], "the corrections before are kept"
    job.path("job-calibration.json").write_text('{"services": {"stand-in": {"slope": -1}}}')
    assert "is no file that `yellowtor calibrate` has written" in job.run("run", "job.toml", code=3).stderr


@given(
    st.lists(st.builds(Decision, st.floats(0, 1), st.booleans()), min_size=1, max_size=80),
    st.floats(0, 1),
    st.floats(0, 1),
)
def test_a_correction_never_turns_the_order_around(decisions, one, other):
    found = fit_calibration(decisions)
    low, high = sorted((one, other))
    assert 0 <= calibrated(low, found) <= calibrated(high, found) <= 1
    assert all(
        0 <= after.value <= 1 and after.right is before.right
        for before, after in zip(decisions, held_out(decisions), strict=True)
    )


@pytest.mark.parametrize("share", [0.5, 0.9])
def test_a_correction_of_many_decisions_is_the_share_of_right_ones(share):
    decisions = [Decision(0.99, at < share * 1000) for at in range(1000)]
    assert calibrated(0.99, fit_calibration(decisions)) == pytest.approx(share, abs=0.02)
