"""The whole example: against the truth, for the shipped data and for worlds that nobody has looked at."""

import csv
import json
import sqlite3
import zipfile
from contextlib import closing
from pathlib import Path

import pytest
from conftest import DATA, Example, lay_out

from yellowtor.contracts.position import Position, distance_m
from yellowtor.demo.make import make

OTHER_SEEDS = (4242,)
MESSES_THAT_ARE_NOT_PLACED = {"no such number", "twin street", "named place", "nowhere", "no town"}


def truth_of(path):
    with path.open(newline="", encoding="utf-8") as file:
        return {row["key"]: row for row in csv.DictReader(file)}


def check_against_truth(rows, truth):
    assert rows.keys() == truth.keys()
    for key, row in rows.items():
        true, outcome = truth[key], row["Outcome"]
        if outcome == "placed":
            assert true["mess"] not in MESSES_THAT_ARE_NOT_PLACED, f"{key}: an invented place was placed"
            here, there = Position(row["Latitude"], row["Longitude"]), Position(float(true["lat"]), float(true["lon"]))
            assert distance_m(here, there) <= 50, f"{key}: placed {distance_m(here, there):.0f} m off"
        elif outcome != "kept":
            assert row["Latitude"] == "", f"{key} is {outcome} and has a coordinate"
        assert (true["mess"] == "has coordinates") == (outcome == "kept")
        assert (true["mess"] == "no town") == (outcome == "incomplete")
        if true["mess"] in {"clean", "same address", "blanks", "no accents", "number behind", "twin town"}:
            assert outcome == "placed", f"{key} ({true['mess']}) is {outcome}"


@pytest.mark.parametrize("seed", OTHER_SEEDS)
def test_no_wrong_country_and_no_invented_place_is_placed_in_other_worlds(tmp_path, serve, seed):
    make(seed, tmp_path / "data")
    example = lay_out(tmp_path / "example", serve(gazetteer=tmp_path / "data"), tmp_path / "data")
    summary = example.summary()
    truth = truth_of(tmp_path / "data" / "truth.csv")
    check_against_truth(example.rows(), truth)
    assert sum(summary["outcomes"].values()) == summary["records"] == len(truth)
    asked = example.service.counters()
    assert max(asked["by_question"].values()) == 1
    assert asked["requests"] == summary["requests"]["sent"] == summary["plan"]["open_questions"]


def test_the_shipped_data_is_what_the_generator_makes(tmp_path):
    make(1, tmp_path)
    for name in ("towns.csv", "coast.geojson", "roads.geojson", "partners.sql", "partners-later.sql", "lamps.csv"):
        assert (tmp_path / name).read_bytes() == (DATA / name).read_bytes()
    assert (tmp_path / "truth.csv").read_bytes() == (Path(__file__).parent / "data" / "truth.csv").read_bytes()
    with zipfile.ZipFile(tmp_path / "cabinets.xlsx") as made, zipfile.ZipFile(DATA / "cabinets.xlsx") as shipped:
        sheet = "xl/worksheets/sheet1.xml"
        assert made.read(sheet) == shipped.read(sheet)


def test_the_demo_command_places_the_register_and_a_second_time_sends_nothing(tmp_path):
    example = Example(tmp_path, None)
    first = example.run("demo", "--into", "here")
    assert "0 questions answered from the ledger" in first.stderr
    check_against_truth(
        example.rows("here/cabinets-placed.xlsx"), truth_of(Path(__file__).parent / "data" / "truth.csv")
    )
    assert "47 new, 0 changed, 0 as they were" in first.stderr
    assert "2 new, 2 changed, 43 as they were; 2 no longer there" in first.stderr
    assert "3 requests sent; 41 questions answered" in first.stderr, "new and moved; another case is no other question"
    with closing(sqlite3.connect(example.path("here/partners.sqlite"))) as base:
        sites = base.execute(
            "SELECT outcome, count(*), count(lat) FROM sites WHERE closed_on IS NULL GROUP BY 1"
        ).fetchall()
        assert sites == [("kept", 3, 3), ("placed", 44, 44)]
        before = base.execute("SELECT * FROM sites").fetchall()
    with example.path("here/lamps-placed.csv").open(newline="", encoding="utf-8") as file:
        lamps = {row["Lamp"]: row for row in csv.DictReader(file)}
    assert [key for key, row in lamps.items() if row["Outcome"] == "incomplete"] == ["LP05", "LP09", "LP14", "LP21"]
    for row in lamps.values():
        assert (row["Outcome"] == "placed") == bool(row["Line 2"]) == bool(row["Away"])
    written = example.path("here/cabinets-placed.xlsx").read_bytes()
    second = example.run("demo", "--into", "here")
    assert "0 requests were sent" in second.stderr
    assert example.path("here/cabinets-placed.xlsx").read_bytes() == written
    with closing(sqlite3.connect(example.path("here/partners.sqlite"))) as base:
        assert base.execute("SELECT * FROM sites").fetchall() == before
    for file in ("cabinets-placed.xlsx", "cabinets.geojson", "cabinets.html"):
        assert f"here/{file}" in second.stderr


def test_the_geojson_is_valid_and_complete(example):
    example = example()
    summary = example.summary()
    data = json.loads(example.path("cabinets.geojson").read_text(encoding="utf-8"))
    assert data["type"] == "FeatureCollection"
    assert data["attribution"].startswith("Places:")
    points = sum(summary["outcomes"][o] for o in ("placed", "kept", "doubtful"))
    assert len(data["features"]) == points == len({f["id"] for f in data["features"]})
    for feature in data["features"]:
        lon, lat = feature["geometry"]["coordinates"]
        assert -30 < lon < -27, "RFC 7946 puts the longitude first"
        assert 46 < lat < 49
        if feature["properties"]["outcome"] != "kept":
            assert feature["properties"]["basis"] == "estimate"
            assert feature["properties"]["reasons"]
