"""Asked in reverse: from a position to the address that is there, or to none."""

import math
import sqlite3
import tomllib
from contextlib import closing

import pandas as pd
import pytest
from conftest import DATA
from hypothesis import given
from hypothesis import strategies as st

import yellowtor
from yellowtor.answers.geography.levels import Level
from yellowtor.answers.judging.reverse_judgement import judge_nearby
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import AskedPosition, subject_from
from yellowtor.standin.gazetteer import read_gazetteer

DOORS = [p for p in read_gazetteer(DATA)[0] if p.number == "12" and p.country_code == "XT"][:5]
LAMPS = [["Id", "Lat", "Lon"], *([f"L{n}", f"{d.lat:.6f}", f"{d.lon:.6f}"] for n, d in enumerate(DOORS))]
WRONG = {
    "swapped": ["-28.5", "47.5"], "0,0": ["0", "0.0"], "no numbers": ["north", "west"], "off the globe": ["147", "-28"],
    "one of the two missing": ["47.5", ""], "outside the job's area": ["46.1", "-28.5"], "missing": ["", ""],
}  # fmt: skip
JOB = """
ledger = "ledger.sqlite"
direction = "reverse"
records = { file = "lamps.csv", key = "Id", latitude = "Lat", longitude = "Lon" }
ask = { service = "stand-in.toml" }
judge = { tolerance_m = 25, area = [-29.6, 47.0, -27.4, 48.0] }
[write]
to = "placed.csv"
[write.columns]
outcome = "Outcome"
matched = "Address"
matched_town = "Town"
postal = "Letter"
postal_2 = "Second line"
distance_m = "Away"
reasons = "Why"
"""


@pytest.fixture
def lamps(small):
    def make(rows=(), shape="stand-in", **manners):
        job = small([], **manners)
        job.path("job.toml").write_text(JOB)
        text = (DATA / f"{shape}.toml").read_text(encoding="utf-8")
        job.path("stand-in.toml").write_text(text.replace("per_second = 40\n", ""), encoding="utf-8")
        lines = [",".join(f'"{cell}"' for cell in row) for row in [*LAMPS, *rows]]
        job.path("lamps.csv").write_text("\n".join(lines))
        return job

    return make


@pytest.mark.parametrize("shape", ["stand-in", "stand-in-xml", "stand-in-text", "stand-in-geojson"])
def test_a_position_becomes_the_address_that_is_there_in_each_shape_and_an_invalid_one_costs_nothing(lamps, shape):
    job = lamps([[f"W {what}", *cells] for what, cells in WRONG.items()], shape)
    summary = job.summary()
    assert {name: n for name, n in summary["outcomes"].items() if n} == {"placed": 5, "incomplete": len(WRONG)}
    assert job.service.requests == 5
    rows = job.rows("placed.csv")
    for number, door in enumerate(DOORS):
        row = rows[f"L{number}"]
        assert (row["Outcome"], row["Town"]) == ("placed", door.town)
        assert row["Address"].startswith(f"{door.number} {door.street}, {door.postcode} {door.town}")
        assert row["Letter"].split("\n")[:2] == [f"{door.number} {door.street}", f"{door.postcode} {door.town}"]
        assert row["Second line"] == f"{door.postcode} {door.town}"
        assert float(row["Away"]) < 1, "five decimals of a degree are a metre"
    for what in WRONG:
        assert what in rows[f"W {what}"]["Why"]
        assert rows[f"W {what}"]["Address"] == ""
    job.edit("job.toml", ("tolerance_m = 25", "tolerance_m = 20"), ('"Town"', '"Place"'))
    assert job.summary()["requests"]["sent"] == 0
    told = job.run("run", "job.toml").stderr
    assert "latitude and longitude swapped, 1 (W swapped)" in told
    assert "--repair" not in told


def test_positions_that_are_one_when_rounded_are_asked_about_once_and_a_doubtful_address_is_not_written(lamps):
    door = DOORS[0]
    job = lamps([["N", f"{door.lat + 0.0003}", f"{door.lon}"], ["M", f"{door.lat + 0.00031}", f"{door.lon}"]])
    job.edit("job.toml", ('"stand-in.toml" }', '"stand-in.toml", decimals = 4 }'))
    assert job.summary()["requests"]["sent"] == 6
    rows = job.rows("placed.csv")
    assert rows["N"]["Outcome"] == rows["M"]["Outcome"] == "doubtful"
    assert rows["N"]["Address"] == rows["N"]["Letter"] == ""
    assert " m from the point" in rows["N"]["Why"]
    job.edit(
        "job.toml",
        ('to = "placed.csv"', 'to = "placed.csv"\ndoubtful = true\npostal = ["{town}", "{street} {number}"]'),
    )
    assert job.summary()["requests"]["sent"] == 0
    row = job.rows("placed.csv")["N"]
    assert row["Letter"] == f"{row['Town']}\n{row['Second line']}"
    assert row["Address"].startswith(" ".join(reversed(row["Second line"].rsplit(" ", 1))))


def test_try_asks_about_a_position_and_what_can_not_be_asked_is_told(lamps):
    job = lamps()
    at = f"{DOORS[0].lat}, {DOORS[0].lon}"
    told = job.run("try", "--at", at, "--service", "stand-in.toml", "--ledger", "l.sqlite").stdout
    assert DOORS[0].street in told
    assert "the place answered is 0 m from the point" in told
    asked = job.service.requests
    assert DOORS[1].street in job.run("try", "--job", "job.toml", "--record", "L1", "--show", "reading").stdout
    assert job.service.requests == asked + 1
    assert "is not a latitude" in job.run("try", "--at", "0,0", "--service", "stand-in.toml", code=2).stderr
    assert "a pin is a position" in job.run("pin", "job.toml", code=3).stderr
    assert "5 distinct questions" in job.run("check", "job.toml").stdout
    text = job.path("stand-in.toml").read_text(encoding="utf-8")
    reverse = text[text.index("[reverse]") : text.index("[allowance]")]
    for old, new, said in [
        (reverse, "", "can't be asked about positions: its description has no [reverse]"),
        ("{lat}", "{q}", "{q} is not a variable (known: base, "),
        ("&east={lon}", "", "reverse needs the variables {lat} and {lon}"),
    ]:
        job.path("stand-in.toml").write_text(text.replace(old, new), encoding="utf-8")
        assert said in job.run("run", "job.toml", code=3).stderr
    job.edit("job.toml", ('latitude = "Lat", longitude = "Lon"', 'name = "Id"'))
    assert "needs the positions: records.latitude and records.longitude" in job.run("run", "job.toml", code=3).stderr
    assert job.service.requests == asked + 1


def test_a_table_and_a_frame_get_their_addresses_and_an_edited_position_is_a_change(lamps, monkeypatch):
    job = lamps()
    with closing(sqlite3.connect(job.path("lamps.sqlite"))) as base:
        base.execute("CREATE TABLE lamps (id INTEGER PRIMARY KEY, lat REAL, lon REAL, street TEXT)")
        base.executemany("INSERT INTO lamps (lat, lon) VALUES (?, ?)", [(d.lat, d.lon) for d in DOORS[:3]])
        base.commit()
        columns = JOB[JOB.index("[write.columns]") :]
        job.edit(
            "job.toml", ('to = "placed.csv"', "in_place = true\ncreate = true"), (columns, '[write.columns]\nmatched_street = "street"'),
            ('file = "lamps.csv", key = "Id", latitude = "Lat", longitude = "Lon"',
             'database = "sqlite:///lamps.sqlite", table = "lamps", latitude = "lat", longitude = "lon"'),
        )  # fmt: skip
        assert job.summary()["requests"]["sent"] == 3
        base.execute("UPDATE lamps SET lat = ?, lon = ? WHERE id = 1", (DOORS[3].lat, DOORS[3].lon))
        base.commit()
        summary = job.summary()
        assert (summary["scan"]["changed"], summary["requests"]["sent"]) == (1, 1)
        assert base.execute("SELECT street FROM lamps").fetchall() == [(DOORS[n].street,) for n in (3, 1, 2)]
    for name, value in job.env.items():
        monkeypatch.setenv(name, value)
    monkeypatch.chdir(job.folder)
    frame = pd.DataFrame({"Id": [7, 8], "Lat": [DOORS[1].lat, 0], "Lon": [DOORS[1].lon, 0]})
    told = tomllib.loads(JOB)
    placed = yellowtor.place(frame, told)
    assert list(placed["Address"].str.startswith(f"12 {DOORS[1].street}")) == [True, False]
    assert placed.attrs["yellowtor"]["requests"] == 0
    assert placed["Away"][0] < 1


def test_replies_in_reverse_may_have_a_shape_of_their_own(lamps):
    job = lamps()
    own = (
        "[reverse.reply]\n"
        'candidates = "$.places[0]"\nfields = { latitude = "$.spot.north", longitude = "$.spot.east", street = "$.bits.way" }'
    )
    job.edit("stand-in.toml", ("[allowance]", f"{own}\n[allowance]"))
    job.edit("job.toml", ("tolerance_m = 25", "tolerance_m = 2500"))
    assert job.summary()["outcomes"]["placed"] == 5
    assert [row["Address"] for row in job.rows("placed.csv").values()] == [door.street for door in DOORS]


@given(st.floats(-90, 90), st.floats(-180, 180), st.integers(0, 7))
def test_an_asked_position_has_the_precision_of_the_question(lat, lon, decimals):
    asked = AskedPosition.rounded(Position(lat, lon), decimals)
    for text, exact in ((asked.lat, lat), (asked.lon, lon)):
        assert math.isclose(float(text), exact, abs_tol=0.51 * 10**-decimals)
        assert len(text.partition(".")[2]) == decimals
        assert float(text) != 0 or "-" not in text, "there is one zero"
    assert subject_from(asked.as_dict()) == asked


@given(st.lists(st.floats(0, 0.01), min_size=1, max_size=4), st.floats(1, 500))
def test_of_equals_the_nearest_wins_and_farther_is_never_surer(steps, tolerance):
    asked, thresholds = Position(47.5, -28.5), Thresholds(tolerance, 0.8)

    def at(step, name="a"):
        return Candidate(Position(47.5 + step, -28.5), Level.BUILDING, parts={"number": name})

    all_of_them = judge_nearby(asked, Kind.ANSWERED, "", [at(s, str(n)) for n, s in enumerate(steps)], thresholds)
    assert all_of_them.candidate.position.lat - 47.5 == pytest.approx(min(steps), abs=tolerance / 1e5 + 5e-5)
    alone = [judge_nearby(asked, Kind.ANSWERED, "", [at(s)], thresholds).confidence.value for s in sorted(steps)]
    assert alone == sorted(alone, reverse=True)
    assert all_of_them.confidence.value <= max(alone)
    assert judge_nearby(asked, Kind.NOTHING_FOUND, "", [], thresholds).outcome is Outcome.UNPLACED
