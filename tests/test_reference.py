"""A table of addresses as the service: nothing is sent, messy questions are found, what is not in it is not."""

import csv
import gzip
import json
import os
import random
import signal
import sqlite3
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest
from conftest import DATA, Example, real_addresses
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from yellowtor.addresses.parsing.vocabulary import vocabulary
from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.judging.judgement import judge
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Position, distance_m
from yellowtor.errors import BadSource
from yellowtor.reference.build import build_index
from yellowtor.reference.columns import RowColumns, RowRules
from yellowtor.reference.index import ReferenceIndex
from yellowtor.reference.index_files import read_index, write_index
from yellowtor.reference.search import Search

HEADER = ["number", "street", "town", "postcode", "region", "country", "lat", "lon"]
KINDS = ["Street", "Road", "Lane", "Weg"]
NAMES = ["Kelp", "Tarrock", "Old Mill", "Saint Brenna", "Cormorant", "Sea View", "Ørlun", "Quillin"]
TOWNS = [("Nymrberga", "00101"), ("Jorvmere", "00202"), ("Bad Skelin", "00303"), ("Dunvaholt", "00404")]


def made_rows():
    """Streets of four towns; the odd numbers 1 to 31 of a street stand in a line to the east, the even ones beside."""
    for t, (town, postcode) in enumerate(TOWNS):
        for s, name in enumerate(NAMES):
            kind = KINDS[(t + s) % 4]
            street = f"{name}{kind.lower()}" if kind == "Weg" and " " not in name else f"{name} {kind}"
            for number in range(1, 32):
                if number not in {11, 12, 20}:
                    lat, lon = 47 + 0.2 * t + 0.003 * s + 0.0002 * (number % 2), -28 + 0.0003 * number
                    yield [f"{number}", street, town, postcode, "Kelmound", "XT", f"{lat:.6f}", f"{lon:.6f}"]


ROWS = list(made_rows())


def searching(rows, **rules):
    columns = RowColumns(RowRules({**dict(zip(HEADER, range(8), strict=True)), "latitude": 6, "longitude": 7}, **rules))
    columns.add(rows)
    arrays, _ = build_index(columns, columns.array("y"), columns.array("x"))
    return Search(ReferenceIndex(arrays, {}))


SEARCH = searching(ROWS)


def best(asked, search=SEARCH, tolerance_m=50.0):
    """What is judged to be the answer."""
    found = search.find([asked])[0]
    kind = Kind.ANSWERED if found else Kind.NOTHING_FOUND
    return judge(asked, frozenset(), kind, "", found, Thresholds(tolerance_m, 0.9))


def away(judgement, row):
    assert judgement.candidate is not None, judgement
    return distance_m(judgement.candidate.position, Position(float(row[6]), float(row[7])))


# ---- the search


def misspelled(draw, text):
    """The text with one typing error, not at its beginning."""
    at = draw(st.sampled_from([i for i, letter in enumerate(text) if i and letter.isalpha()]))
    kind = draw(st.integers(0, 3))
    if kind == 3 and text[at + 1 : at + 2].isalpha():
        return text[:at] + text[at + 1] + text[at] + text[at + 2 :]
    return text[:at] + ["", text[at] * 2, "x"][kind % 3] + text[at + 1 :]


@st.composite
def messy_questions(draw):
    """An address of the table with one thing wrong with it, or two, and its row."""
    row = draw(st.sampled_from(ROWS))
    number, street, town, postcode, *_ = row
    first = draw(st.booleans())
    line = f"{number} {street}" if first else f"{street} {number}"
    match draw(
        st.sampled_from(["street", "town", "postcode", "no postcode", "no town", "line", "unit", "case", "swapped"])
    ):
        case "street":
            wrong = misspelled(draw, street)
            assume(
                vocabulary().marked.isdisjoint(wrong.casefold().split())
            )  # Weg 1, less a letter: the ground floor, 1
            line = line.replace(street, wrong)
        case "town":
            town = misspelled(draw, town)
        case "postcode":
            postcode = "99" + postcode[2:]
        case "no postcode":
            postcode = ""
        case "no town":
            town = ""
        case "unit":
            line += draw(st.sampled_from([", Apt 4", " 2nd floor", " (ring twice)", ", c/o R. Pell"]))
        case "case":
            line, town = line.upper().replace("Ø", "O"), town.upper()
        case "swapped":
            line, town = town, line
        case "line":
            order = [line, f"{postcode} {town}"] if draw(st.booleans()) else [f"{postcode} {town}", line]
            return Address(whole=", ".join(order)), row
    return Address(street=line, town=town, postcode=postcode, country=draw(st.sampled_from(["", "XT"]))), row


@settings(deadline=None, max_examples=150)
@given(messy_questions())
def test_an_address_of_the_table_is_found_with_any_one_thing_wrong(question):
    asked, row = question
    answer = best(asked)
    assert away(answer, row) < 1, (asked, row, answer)
    assert answer.confidence.value > 0.2, (asked, answer)  # a short name with an error may be another one
    many = SEARCH.find([asked, Address(street="1 Nowhere Way", town="Nixville"), asked])
    assert many[0] == many[2] == SEARCH.find([asked])[0], "in a batch as alone"


def test_what_is_not_in_the_table_does_not_become_its_neighbour():
    r = random.Random(5)
    wrong = []
    for _ in range(400):
        number, street, town, postcode, *_ = r.choice(ROWS)
        other = "".join(r.choice("bdfgklmnprstvz") + r.choice("aeiou") for _ in range(4)).title()
        asked = r.choice(
            [
                Address(street=f"{number} {other} Street", town=town, postcode=postcode),
                Address(street=f"{number} {street}", town=other),
                Address(street=f"{int(number) + 400} {street}", town=town, postcode=postcode),
                Address(whole=f"{number} {other} Road, {other}by"),
                Address(town=other),
            ]
        )
        answer = best(asked)
        if answer.confidence and answer.confidence.value > 0.5:
            wrong.append((asked, answer))
    assert len(wrong) <= 8, wrong[:3]  # 2 %
    assert not SEARCH.find([Address(street="5 Vuzofani Street", town="Rolimefa")])[0]
    assert SEARCH.find([Address(), Address(whole=" , "), Address(street="🙂" * 50, town="x" * 5_000)]) == [[], [], []]


def test_a_house_that_is_missing_is_interpolated_and_a_street_has_its_middle_and_extent():
    between = SEARCH.find([Address(street="20 Kelp Street", town="Nymrberga", postcode="00101")])[0][0]
    assert (between.method, between.level) == (Method.INTERPOLATED, Level.THOROUGHFARE_ACCESS)
    assert between.parts["number"] == "20"
    assert distance_m(between.position, Position(47.0, -28 + 0.0003 * 20)) < 1, "between 18 and 22, on its side"
    assert "between 18 and 22" in between.extra["found by"]
    beyond = SEARCH.find([Address(street="99 Kelp Street", town="Nymrberga")])[0][0]
    assert beyond.parts["number"] == "31"
    street = SEARCH.find([Address(street="Kelp Street", town="Nymrberga")])[0][0]
    assert (street.level, street.method) == (Level.SEGMENT, Method.CENTRE)
    assert 250 < street.radius_m < 600
    towns = SEARCH.find(
        [Address(street="7 Vuzofani Alley", town="Jorvmere"), Address(town="Jorvmer"), Address(postcode="00202")]
    )
    for found in towns:
        assert found[0].parts["town"] == "Jorvmere"
        assert found[0].level in {Level.ADDRESS_AREA, Level.POSTAL_DESCRIPTOR}
    letters = searching(
        [["12a", *ROWS[0][1:]], ["14-18", *ROWS[0][1:6], "47.001", "-28"], ["12", *ROWS[0][1:6], "47.002", "-28"]]
    )
    for asked, number in (("12A", "12a"), ("16", "14-18"), ("12", "12"), ("12 b", "12")):
        assert letters.find([Address(street=f"Kelp Street {asked}", town="Nymrberga")])[0][0].parts["number"] == number


def test_namesakes_are_rivals_and_other_names_are_names():
    places = [
        ["", "", "Holm", "", "North", "XT", "50", "10", "900", ""],
        ["", "", "Holm", "", "South", "XT", "52", "11", "90000", "Holme; Holmia"],
        ["1", "Kelp Lane", "Holm", "00500", "South", "XT", "52.001", "11", "", ""],
        ["1", "Kelp Lane", "Holm", "00600", "North", "XT", "50.001", "10", "", ""],
    ]
    columns = RowColumns(
        RowRules(
            dict(zip([*HEADER[:6], "latitude", "longitude", "population", "alternatives"], range(10), strict=True))
        )
    )
    columns.add(places)
    arrays, counts = build_index(columns, columns.array("y"), columns.array("x"))
    search = Search(ReferenceIndex(arrays, {}))
    found = search.find([Address(town="Holm"), Address(town="Holmia"), Address(town="Holm", region="North")])
    assert [one.parts["region"] for one in found[0]] == ["South", "North"], "the larger first"
    assert [one.parts["town"] for one in found[1]] == ["Holmia"]
    assert best(Address(town="Holm", country="XT"), search, 2_000).confidence.value <= 0.5
    assert best(Address(town="Holm", region="North", country="XT"), search, 2_000).candidate.position.lat == 50
    houses = search.find([Address(street="1 Kelp Lane", town="Holm"), Address(street="1 Kelp Lane", town="Holmia")])
    assert sorted(one.parts["postcode"] for one in houses[0]) == ["00500", "00600"]
    assert [one.parts["postcode"] for one in houses[1]] == ["00500"]
    assert (counts.rows, counts.addresses) == (4, 2)


@settings(deadline=None, max_examples=40)
@given(st.floats(-90, 90), st.floats(-180, 180), st.integers(0, 10**6), st.sampled_from([50.0, 900.0, 60_000.0]))
def test_the_nearest_addresses_of_any_position_are_those_of_comparing_all(lat, lon, seed, within):
    assume(max(abs(lat), abs(lon)) > 2)  # 0,0 is no position
    r = random.Random(seed)
    rows = []
    for n in range(40):
        turned = (lon + r.uniform(-1, 1) * 10 ** r.uniform(-5, 0) + 180) % 360 - 180
        near = max(-90, min(90, lat + r.uniform(-1, 1) * 10 ** r.uniform(-5, 0)))
        rows.append([f"{n}", "Kelp Lane", "Holm", "1", "", "", repr(near), repr(turned)])
    here = Position(lat, lon)
    there = [Position(round(float(row[6]), 7), round(float(row[7]), 7)) for row in rows]
    there = [one for one in there if not one.is_null_island]
    expected = sorted(away for one in there if (away := distance_m(here, one)) <= within)[:5]
    found = [distance_m(here, one.position) for one in searching(rows).near(here, within)] if there else []
    assert found == pytest.approx(expected, abs=0.05)


def test_an_index_that_is_replaced_while_it_is_opened_is_never_of_two_editions(tmp_path):
    def build(at):
        write_index(tmp_path / "i", {name: np.full(100 + at, at) for name in "abcdefgh"}, {})

    build(0)
    with ThreadPoolExecutor(1) as aside:
        done = aside.submit(lambda: [build(at) for at in range(1, 60)])
        opened = 0
        while not done.done() or not opened:
            try:
                arrays, _ = read_index(tmp_path / "i")
            except BadSource:  # in the moment between two
                continue
            opened += 1
            assert len({(len(one), int(one[0])) for one in arrays.values()}) == 1
    assert [path.name for path in tmp_path.iterdir()] == ["i"]


# ---- the program


@pytest.fixture
def table(tmp_path):
    """A job on a reference table, without any service."""
    job = Example(tmp_path, None)
    write(job.path("addresses.csv"), [HEADER, *ROWS])
    asked = [[f"R{at}", f"{row[0]} {row[1]}", row[2], row[3]] for at, row in enumerate(ROWS[::9])]
    write(
        job.path("records.csv"), [["Id", "Street", "Town", "Postcode"], *asked, ["N", "1 Vuzofani Way", "Rolimefa", ""]]
    )
    job.path("addresses.toml").write_text(
        (DATA / "addresses.toml")
        .read_text()
        .replace("addresses.csv.gz", "addresses.csv")
        .replace("country_code", "country")
    )
    job.path("job.toml").write_text(JOB)
    return job


JOB = """
ledger = "ledger.sqlite"
[records]
file = "records.csv"
key = "Id"
[address]
street = "Street"
town = "Town"
postcode = "Postcode"
[ask]
service = "addresses.toml"
[judge]
tolerance_m = 50
[write]
to = "placed.csv"
[write.columns]
latitude = "Latitude"
longitude = "Longitude"
outcome = "Outcome"
extra = { "found by" = "How" }
[markers]
geojson = "placed.geojson"
"""


def write(path, rows):
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(rows)


def positions(job):
    return {key: (row["Latitude"], row["Longitude"]) for key, row in job.rows("placed.csv").items() if row["Latitude"]}


def test_a_job_is_answered_by_a_table_and_again_when_the_table_changes(table):
    job = table
    summary = job.summary()
    count = len(ROWS[::9])
    assert (summary["outcomes"]["placed"], summary["outcomes"]["unplaced"]) == (count, 1)
    assert (summary["requests"]["sent"], summary["requests"]["searched"]) == (0, count + 1)
    there = positions(job)
    assert all(tuple(map(float, there[f"R{at}"])) == (float(row[6]), float(row[7])) for at, row in enumerate(ROWS[::9]))
    assert job.rows("placed.csv")["R0"]["How"] == "the whole names; house number"
    assert "Made-up addresses of the islands" in job.path("placed.geojson").read_text(), "the credit"
    assert job.summary()["requests"]["searched"] == 0
    editions = {path.name for path in job.path("addresses.index").iterdir() if path.is_dir()}
    write(job.path("addresses.csv"), [HEADER, [*ROWS[0][:6], "47.9", "-28.9"], *ROWS[1:]])
    assert job.summary()["requests"]["searched"] == count + 1
    assert positions(job)["R0"] == ("47.9", "-28.9")
    now = {path.name for path in job.path("addresses.index").iterdir() if path.is_dir()}
    assert len(now) == 1
    assert now.isdisjoint(editions), "the old edition is gone"
    stats = json.loads(job.run("index", "addresses.toml", "--stats", "--json").stdout)
    assert (stats["rows"], stats["addresses"], stats["streets"]) == (len(ROWS), len(ROWS), 33), (
        "a house far off is another street's"
    )
    assert stats["countries"] == {"XT": len(ROWS)}
    job.path("addresses.csv").chmod(0o600)
    job.run("index", "addresses.toml")
    index = [path for path in job.path("addresses.index").iterdir() if path.is_dir()]
    assert [path.stat().st_mode & 0o077 for path in index] == [0], "as private as the table"
    assert (
        "found by" in job.run("try", "1 Kelp Streat, Nymrberga", "--service", "addresses.toml", "--ledger", "x").stdout
    )


def test_only_what_the_table_does_not_know_is_asked_of_a_service(small):
    known = [["Kelp Street 1", "Nymrberga", "00101"]]
    job = small([["A", *known[0]], ["B", *real_addresses(3)[1][1:]]])
    write(job.path("addresses.csv"), [HEADER, *ROWS])
    job.path("addresses.toml").write_text(
        (DATA / "addresses.toml")
        .read_text()
        .replace("addresses.csv.gz", "addresses.csv")
        .replace("country_code", "country")
    )
    text = job.path("job.toml").read_text()
    job.path("job.toml").write_text(
        text.replace('service = "stand-in.toml"', 'services = ["addresses.toml", "stand-in.toml"]')
    )
    before = job.service.requests
    plan = json.loads(job.run("plan", "job.toml", "--json").stdout)
    assert plan["open_questions"] == 2
    summary = job.summary()
    assert summary["outcomes"]["placed"] == 2
    assert summary["placed_by"] == {"Island addresses": 1, "stand-in": 1}
    assert job.service.requests - before == summary["requests"]["sent"] == 1


def as_gzip(folder):
    with gzip.open(folder / "t.csv.gz", "wt", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([HEADER, *ROWS])
    return 'file = "t.csv.gz"'


def as_parquet(folder):
    import pyarrow as pa
    import pyarrow.parquet as pq

    columns = {name: [row[at] for row in ROWS] for at, name in enumerate(HEADER)}
    columns |= {name: list(map(float, columns[name])) for name in ("lat", "lon")}
    pq.write_table(pa.table(columns), folder / "t.parquet")
    return 'file = "t.parquet"'


def as_folder(folder):
    (folder / "parts").mkdir()
    write(folder / "parts" / "1.csv", [HEADER, *ROWS[:100]])
    write(folder / "parts" / "2.tsv", [])
    (folder / "parts" / "2.tsv").write_text(
        "\n".join("\t".join(row) for row in [HEADER[::-1], *(row[::-1] for row in ROWS[100:])])
    )
    return 'file = "parts"'


def as_sqlite(folder):
    with sqlite3.connect(folder / "t.sqlite") as database:
        database.execute(f"CREATE TABLE places ({', '.join(HEADER)})")
        database.executemany(f"INSERT INTO places VALUES ({', '.join('?' * 8)})", ROWS)
    database.close()
    return 'database = "sqlite:///t.sqlite"\ntable = "places"'


def as_geo(folder, ending, crs):
    import geopandas as gpd

    frame = gpd.GeoDataFrame(
        {name: [row[at] for row in ROWS] for at, name in enumerate(HEADER[:6])},
        geometry=gpd.points_from_xy([float(row[7]) for row in ROWS], [float(row[6]) for row in ROWS], crs=4326),
    )
    frame.to_crs(crs).to_file(folder / f"t.{ending}")
    return f'file = "t.{ending}"'


FORMATS = {
    "gzip": as_gzip,
    "parquet": as_parquet,
    "folder": as_folder,
    "sqlite": as_sqlite,
    "geojson": lambda folder: as_geo(folder, "geojson", 4326),
    "gpkg": lambda folder: as_geo(folder, "gpkg", 3857),
}


@pytest.mark.parametrize("form", FORMATS)
def test_a_table_of_any_format_gives_the_same_answers(table, form):
    job = table
    said = FORMATS[form](job.folder)
    job.edit("addresses.toml", ('file = "addresses.csv"', said))
    if form in {"geojson", "gpkg"}:
        job.edit("addresses.toml", ('latitude = "lat"\n', ""), ('longitude = "lon"\n', ""))
    assert job.summary()["outcomes"]["placed"] == len(ROWS[::9])
    there = positions(job)
    assert all(
        distance_m(Position(*map(float, there[f"R{at}"])), Position(float(row[6]), float(row[7]))) < 0.2
        for at, row in enumerate(ROWS[::9])
    )


@pytest.mark.parametrize(("ending", "crs"), [("geojson", 4326), ("gpkg", 3857)])
def test_in_reverse_the_nearest_address_and_the_areas_around_the_point_are_offered(table, ending, crs):
    import geopandas as gpd
    from shapely.geometry import MultiPolygon, box

    job = table
    north = box(-29, 47.1, -28, 48).difference(box(-28.6, 47.4, -28.4, 47.6))  # with a hole
    frame = gpd.GeoDataFrame(
        {"town": ["Northby", "Holeham", "All"]},
        geometry=[north, MultiPolygon([box(-28.6, 47.4, -28.4, 47.6)]), box(-30, 46, -27, 49)],
        crs=4326,
    )
    frame.to_crs(crs).to_file(job.folder / f"towns.{ending}")
    job.path("towns.toml").write_text(
        f"[service]\nname = 'Towns'\n[reference]\nfile = 'towns.{ending}'\nlevel = 'address area'\n[reference.columns]\ntown = 'town'\n"
    )
    for at, names in (
        ("47.2,-28.9", ["Northby", "All"]),
        ("47.5,-28.5", ["Holeham", "All"]),
        ("46.5,-28.5", ["All"]),
        ("10,10", []),
    ):
        job.run("try", "--at", at, "--service", "towns.toml", "--ledger", "t.sqlite", "--save", "reply.http")
        found = json.loads(job.path("reply.http").read_bytes().partition(b"\r\n\r\n")[2])["candidates"]
        assert [one["parts"]["town"] for one in found] == names
        job.path("reply.http").unlink()
    house = job.run(
        "try",
        "--at",
        f"{ROWS[0][6]},{float(ROWS[0][7]) + 0.0001}",
        "--service",
        "addresses.toml",
        "--ledger",
        "t.sqlite",
    ).stdout
    assert "the nearest address, 8 m away" in " ".join(house.split())


BAD = {
    "missing column": (HEADER, ROWS[:20], ('"street"', '"strasse"'), 4, "no column 'strasse'"),
    "metres": (HEADER, [[*row[:6], "5200000", "300000"] for row in ROWS[:20]], None, 4, "reference.crs"),
    "mixed": (HEADER, [*ROWS[:20], *([*row[:6], "5200000", "300000"] for row in ROWS[:11])], None, 4, "one coordinate system"),
    "no position": (HEADER, [[*row[:6], "", ""] for row in ROWS[:5]], None, 4, "5 with no coordinates"),
    "empty": (HEADER, [], None, 4, "no row that can be used"),
    "same id": ([*HEADER, "id"], [[*row, "7"] for row in ROWS[:3]], ("[reference.columns]", '[reference.columns]\nid = "id"'), 4, "in several rows"),
    "unknown level": (HEADER, ROWS[:3], ('file = "addresses.csv"', 'file = "addresses.csv"\nlevel = "fine"'), 3, "reference.level"),
    "no file": (HEADER, ROWS[:3], ('"addresses.csv"', '"nowhere.csv"'), 4, "nowhere.csv"),
    "no part": (HEADER, ROWS[:3], ("[reference.columns]", '[reference.columns]\nstreets = "x"'), 3, "streets is not a key"),
    "not a table": (HEADER, ROWS[:3], ('"addresses.csv"', '"job.toml"'), 3, "a table is a folder or a file"),
}  # fmt: skip


@pytest.mark.parametrize("case", BAD)
def test_a_bad_table_gets_one_message_and_leaves_no_index(table, case):
    header, rows, change, code, message = BAD[case]
    write(table.path("addresses.csv"), [header, *rows])
    if change:
        table.edit("addresses.toml", change)
    for command in (["index", "addresses.toml"], ["run", "job.toml"]):
        told = table.run(*command, code=code).stderr
        assert message in told
        assert "Traceback" not in told
        assert told.count("yellowtor:") == 1
    assert not list(table.folder.rglob("index.json"))
    assert not table.path("placed.csv").exists()


def test_a_table_cut_short_and_a_killed_build_leave_nothing_half(table):
    job = table
    packed = gzip.compress("\n".join(",".join(row) for row in [HEADER, *ROWS]).encode())
    job.path("cut.csv.gz").write_bytes(packed[:-40])
    job.path("cut.toml").write_text(job.path("addresses.toml").read_text().replace("addresses.csv", "cut.csv.gz"))
    assert "can't be read" in job.run("index", "cut.toml", code=4).stderr
    assert not list(job.folder.rglob("index.json"))
    write(
        job.path("addresses.csv"),
        [HEADER, *(row for at in range(40) for row in ([str(int(r[0]) + 40 * at), *r[1:]] for r in ROWS))],
    )
    for wait in (0.5, 0.9, 1.3):
        process = job.start("index", "addresses.toml")
        time.sleep(wait)
        process.send_signal(signal.SIGKILL)
        process.communicate()
        whole = [head.parent for head in job.folder.rglob("index.json") if not head.parent.name.endswith(".part")]
        assert all(json.loads((one / "index.json").read_text())["counts"]["rows"] for one in whole)
    two = [job.start("run", "job.toml"), job.start("index", "addresses.toml")]
    told = [process.communicate() for process in two]
    assert [process.returncode for process in two] == [0, 0], told
    assert len(positions(job)) == len(ROWS[::9])


def test_many_questions_are_searched_by_several_processes_and_a_killed_one_loses_nothing(table):
    job = table
    r = random.Random(3)
    rows = [
        [f"K{n}", f"{r.choice(ROWS)[0]}{'abcdefgh'[n % 8]} {r.choice(ROWS)[1]} {n}", r.choice(TOWNS)[0], ""]
        for n in range(4_000)
    ]
    write(job.path("records.csv"), [["Id", "Street", "Town", "Postcode"], *rows])
    process = job.start("run", "job.toml")
    deadline = time.monotonic() + 150
    workers = []
    while process.poll() is None and not workers and time.monotonic() < deadline:
        workers = children(process.pid)
        time.sleep(0.02)
    assert workers, "it has started others"
    os.kill(workers[0], signal.SIGKILL)
    told = process.communicate()[1]
    assert "Traceback" not in told
    if process.returncode:  # it was needed once more
        assert "nothing is lost" in told
    summary = job.summary()
    assert sum(summary["outcomes"].values()) == 4_000
    assert not summary["outcomes"].get("failed")
    assert not summary["outcomes"].get("waiting")


def children(parent):
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            owner = (folder / "stat").read_text().rpartition(")")[2].split()[1]
            if int(owner) == parent and b"reference_workers" in (folder / "cmdline").read_bytes():
                found.append(int(folder.name))
    return found


def test_draft_recognises_a_table_that_knows_positions(table):
    job = table
    told = job.run("draft", "addresses.csv", "--into", "drafted.toml")
    assert "describes a reference table" in told.stderr
    text = job.path("drafted.toml").read_text()
    for column in HEADER:
        assert f'"{column}"' in text
    job.edit("job.toml", ("addresses.toml", "drafted.toml"))
    job.run("run", "job.toml")
    assert len(positions(job)) == len(ROWS[::9])
    assert list(job.path("cache").rglob("index.json"))
    assert "[records]" in job.run("draft", "placed.csv", "--as", "job").stdout
    assert "[records]" in job.run("draft", "records.csv", "--service", "s.toml").stdout


def test_pairs_are_one_address_written_differently(table):
    job = table
    rows = [
        ["1", "12 Kelp Street", "Holm", "00412"],
        ["2", "Kelp St., 12", "Holm", "00412"],
        ["3", "12 Kelpp Street", "Holm", ""],
        ["4", "14 Kelp Street", "Holm", "00412"],
        ["5", "12 kelp street", "HOLM", "00412"],
        ["6", "12 Reef Road", "Holm", "00412"],
        ["7", "12 Kelp Street", "Dunva", "00999"],
        ["8", "", "", ""],
        ["=9", "12 Reef Rd", "Holm", "00412"],
    ]
    write(job.path("records.csv"), [["Id", "Street", "Town", "Postcode"], *rows])
    told = job.run("pairs", "job.toml", "--to", "pairs.csv")
    with job.path("pairs.csv").open(newline="") as file:
        found = list(csv.DictReader(file))
    pairs = {(one["records"], one["other records"]) for one in found}
    assert pairs == {("1, 5", "2"), ("1, 5", "3"), ("2", "3"), ("6", "'=9")}, told
    assert all(float(one["confidence"]) > 0.5 for one in found)
    assert not any(cell.startswith("=") for one in found for cell in one.values())
    write(
        job.path("other.csv"),
        [
            ["Id", "Street", "Town", "Postcode"],
            ["A", "Kelp Strete 12", "Holm", "00412"],
            ["B", "1 Far Lane", "Holm", ""],
        ],
    )
    job.path("other.toml").write_text(JOB.replace("records.csv", "other.csv"))
    printed = job.run("pairs", "other.toml", "job.toml").stdout
    assert [row["other records"] for row in csv.DictReader(printed.splitlines())] == ["1, 5", "2", "3"]
    assert "would be overwritten" in job.run("pairs", "job.toml", "--to", "records.csv", code=3).stderr
