"""A reference table under attack: strange rows, broken indexes, a full disk, a faulty question; and laws of its parts."""

import csv
import gzip
import json
import os
import random
import resource
import shutil
import sqlite3
import string
import subprocess
import sys
from collections import defaultdict

import numpy as np
import pytest
from conftest import DATA, Example
from hypothesis import given, settings
from hypothesis import strategies as st
from test_reference import HEADER, JOB, KINDS, NAMES, ROWS, TOWNS, positions, searching, write

from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Position, distance_m
from yellowtor.errors import BadSource
from yellowtor.reference.build import build_index
from yellowtor.reference.columns import RowColumns, RowRules
from yellowtor.reference.csr import Lists, lists_of, ranges, run_starts
from yellowtor.reference.hashing import pair_key, pair_keys, text_key, text_keys
from yellowtor.reference.index import ReferenceIndex
from yellowtor.reference.pairs import pairs_of
from yellowtor.reference.search import Search
from yellowtor.reference.spelling import Spelling, word_table
from yellowtor.reference.streets import group_streets
from yellowtor.services.reference_workers import SearchOptions, SearchWorkers, find_all

DESCRIPTION = """
[service]
name = "Mine"
attribution = "Mine alone"
[reference]
file = "table.csv"
index = "index"
[reference.columns]
number = "number"
street = "street"
town = "town"
postcode = "postcode"
region = "region"
country = "country"
latitude = "lat"
longitude = "lon"
"""


@pytest.fixture
def mine(tmp_path):
    """mine(rows) is a job on a reference table of such rows, with records of some of its addresses."""

    def make(rows=ROWS, header=HEADER):
        job = Example(tmp_path, None)
        write(job.path("table.csv"), [header, *rows])
        asked = [[f"R{at}", f"{row[0]} {row[1]}", row[2], row[3]] for at, row in enumerate(ROWS[::60])]
        write(job.path("records.csv"), [["Id", "Street", "Town", "Postcode"], *asked])
        job.path("mine.toml").write_text(DESCRIPTION)
        job.path("job.toml").write_text(JOB.replace("addresses.toml", "mine.toml"))
        return job

    return make


def stats(job):
    return json.loads(job.run("index", "mine.toml", "--stats", "--json").stdout)


def searched(job, *parts, code=0):
    """The candidates that `try` is given for an address in parts."""
    reply = job.path("reply.http")
    reply.unlink(missing_ok=True)
    job.run("try", *(word for part in parts for word in ("--part", part)), "--service", "mine.toml", "--ledger", "tried.sqlite",
        "--save", "reply.http", "--anew", code=code)  # fmt: skip
    return json.loads(reply.read_bytes().partition(b"\r\n\r\n")[2])["candidates"]


# ---- the rows of a table


def test_strange_rows_are_left_out_or_are_text_everywhere(mine):
    strange = [
        ["1", "<script>alert(1)</script> Street", "Holm", "00123", "", "XT", "47", "-28"],
        ["2", "A" * 5_000, "Holm", "1", "", "XT", "47.1", "-28"],
        ["3", "Kelp\nStreet", "Ho\tlm", "2", "\u202eNorth", "XT", "47.2", "-28"],
        ["4", "", "", "", "", "", "47", "-28"],
        ["999999999999", "Kelp Lane", "Holm", "2", "", "XT", "47.3", "-28"],
        ["12/1/5-7b rear", "Kelp Lane", "Holm", "2", "", "XT", "47.301", "-28"],
        ["١٢", "شارع البحر", "المدينة", "", "", "XT", "47.4", "-28"],
        ["5", "海街", "東京", "", "", "XT", "47.5", "-28"],
        ["6", "Ulica 🙂", "🙂", "", "", "XT", "47.6", "-28"],
        *[["7", "Kelp Lane", "Holm", "2", "", "XT", text, "-28"] for text in ("nan", "1e400", "47,5", "1_0", "north")],
        ["8", "Kelp Lane", "Holm", "2", "", "XT", "91", "-28"],
        ["9", "=HYPERLINK(1)", "Holm", "", "", "XT", "47.9", "-28"],
    ]
    job = mine([*strange, *ROWS])
    found = stats(job)
    assert found["rows"] == len(strange) + len(ROWS)
    assert found["impossible"] == 1
    assert found["left_out"] == {
        "a part of more than 300 characters": 1,
        "no street and no place": 1,
        "coordinates that are no numbers": 5,
    }
    assert found["addresses"] == len(ROWS) + len(strange) - 8
    for asked, lat in ((("street=12 شارع البحر", "town=المدينة"), 47.4), (("street=5 海街", "town=東京"), 47.5)):
        assert searched(job, *asked)[0]["position"]["lat"] == lat
    for number in ("4294967295", "16777216", "999999999999", "0", "-1"):
        own = searched(job, f"street={number} Kelp Street", "town=Nymrberga", "postcode=00101")
        assert {one["parts"].get("street") for one in own} <= {"Kelp Street"}, "never a house of another street"
    rows = [["S1", "1 <script>alert(1)</script> Street", "Holm", "00123"], ["S9", "9 =HYPERLINK(1)", "Holm", ""]]
    write(job.path("records.csv"), [["Id", "Street", "Town", "Postcode"], *rows])
    job.edit(
        "job.toml",
        ('outcome = "Outcome"', 'outcome = "Outcome"\nmatched = "Matched"'),
        ('geojson = "placed.geojson"', 'page = "p.html"'),
    )
    job.edit("job.toml", ("tolerance_m = 50", "tolerance_m = 50\nplace_at = 0.05"))
    job.run("run", "job.toml")
    assert "<script>alert(1)" not in job.path("p.html").read_text()
    assert not [row["Matched"] for row in job.rows("placed.csv").values() if row["Matched"].startswith("=")]


def test_rows_without_a_position_at_0_0_do_not_refuse_the_table(mine):
    nowhere = [[*row[:6], "0", "0.0"] for row in ROWS[:200]]
    job = mine([*nowhere, *ROWS])
    assert stats(job)["impossible"] == 200
    assert job.summary()["outcomes"]["placed"] == len(ROWS[::60])
    job = mine(nowhere)
    assert "no row that can be used" in job.run("index", "mine.toml", code=4).stderr


def test_dates_levels_districts_identifiers_and_fixed_parts_of_rows(mine):
    header = [*HEADER, "quarter", "kind", "from", "until", "row"]
    rows = [
        ["1", "Kelp Lane", "Holm", "100", "", "", "47", "-28", "Eastend", "door", "", "", "a1"],
        ["2", "Kelp Lane", "Holm", "100", "", "", "47.001", "-28", "Eastend", "plot", "2020-01-01", "2999-12-31", "a2"],
        ["3", "Kelp Lane", "Holm", "100", "", "", "47.002", "-28", "", "building", "2999-01-01", "", "a3"],
        ["4", "Kelp Lane", "Holm", "100", "", "", "47.003", "-28", "", "", "", "2001-01-01", "a4"],
        ["5", "Kelp Lane", "Holm", "100", "", "", "47.004", "-28", "", "castle", "", "", "a5"],
        ["6", "Kelp Lane", "Holm", "100", "", "DE", "47.005", "-28", "", "", "", "", "a6"],
    ]
    job = mine(rows, header)
    job.edit("mine.toml",
        ('index = "index"', 'index = "index"\nfixed = { country = "XT" }\nlevels = { door = "entrance", plot = "parcel" }'),
        ("[reference.columns]", '[reference.columns]\ndistrict = "quarter"\nlevel = "kind"\nvalid_from = "from"\nvalid_until = "until"\nid = "row"'))  # fmt: skip
    found = stats(job)
    assert found["left_out"] == {"not valid today": 2, "an unknown level": 1}
    assert found["levels"] == {"entrance": 1, "parcel": 1, "": 1}
    assert found["countries"] == {"XT": 2, "DE": 1}
    (door,) = searched(job, "street=1 Kelp Lane", "town=Holm", "country=XT")
    assert (door["level"], door["extra"]["id"], door["parts"]["country"]) == ("entrance", "a1", "XT")
    (district,) = searched(job, "street=2 Kelp Lane", "town=Eastend")
    assert (district["level"], district["parts"]["town"], district["extra"]["id"]) == ("parcel", "Eastend", "a2")
    east = searched(job, "town=Eastend")
    assert [one["parts"]["town"] for one in east] == ["Eastend"]


def test_text_of_another_dialect_and_system_gives_the_same_positions(mine):
    from pyproj import Transformer

    job = mine()
    turn = Transformer.from_crs(4326, 25832, always_xy=True)
    east = [[*row[:5], "DE", float(row[6]), float(row[7]) + 37] for row in ROWS]  # within the zone
    with job.path("table.csv").open("w", newline="", encoding="utf-16") as file:
        out = csv.writer(file, delimiter=";")
        out.writerow([*HEADER[:6], "Hochwert", "Rechtswert"])
        for row in east:
            x, y = turn.transform(row[7], row[6])
            out.writerow([*row[:6], f"{y:.3f}".replace(".", ","), f"{x:.3f}".replace(".", ",")])
    job.edit(
        "mine.toml",
        ('"lat"', '"Hochwert"'),
        ('"lon"', '"Rechtswert"'),
        ('index = "index"', 'index = "index"\ncrs = "EPSG:25832"'),
    )
    told = job.run("run", "job.toml", code=4).stderr  # 5200000,123 may be thousands: nothing is guessed
    assert 'decimal = ","' in told
    job.edit("mine.toml", ('index = "index"', 'index = "index"\ntext = { decimal = "," }'))
    job.summary()
    there = positions(job)
    for at, row in enumerate(east[::60]):
        assert distance_m(Position(*map(float, there[f"R{at}"])), Position(row[6], row[7])) < 0.1
    job.edit("mine.toml", ('crs = "EPSG:25832"\n', ""))
    assert "reference.crs" in job.run("run", "job.toml", code=4).stderr
    job.edit("mine.toml", ('index = "index"', 'index = "index"\ncrs = "EPSG:1"'))
    assert "reference.crs" in job.run("run", "job.toml", code=3).stderr


def test_ask_countries_limits_a_table_also_by_codes_of_ones_own(mine):
    job = mine([*ROWS, *([*row[:5], "QO", f"{float(row[6]) + 3:.6f}", row[7]] for row in ROWS)])
    job.edit("job.toml", ('service = "mine.toml"', 'service = "mine.toml"\ncountries = ["QO"]'))
    job.summary()
    there = positions(job)
    assert there
    assert all(float(lat) > 49.9 for lat, _ in there.values())
    job.edit("job.toml", ('["QO"]', '["QQ"]'))
    assert job.summary()["outcomes"]["unplaced"] == len(ROWS[::60])


# ---- the index and its processes


BREAKS = {
    "an array that is cut short": lambda folder: (folder / "key.npy").write_bytes(
        (folder / "key.npy").read_bytes()[:-9]
    ),
    "an array that is none": lambda folder: (folder / "target.npy").write_bytes(b"<html>"),
    "an empty array": lambda folder: (folder / "house_key.npy").write_bytes(b""),
    "an array that is gone": lambda folder: (folder / "place_name.npy").unlink(),
    "a head that is no JSON": lambda folder: (folder / "index.json").write_text("{"),
    "a head without arrays": lambda folder: (folder / "index.json").write_text('{"format": 4}'),
    "another version": lambda folder: (folder / "index.json").write_text(
        (folder / "index.json").read_text().replace('"format": 4', '"format": 3')
    ),
}


def test_a_broken_index_gets_one_message_and_is_mended_by_building_it(mine):
    job = mine()
    job.run("index", "mine.toml")
    (folder,) = [one for one in job.path("index").iterdir() if one.is_dir()]
    shutil.copytree(folder, job.path("whole"))
    for name, spoil in BREAKS.items():
        shutil.copytree(job.path("whole"), folder, dirs_exist_ok=True)
        spoil(folder)
        told = job.run("run", "job.toml", code=4).stderr
        assert told.count("yellowtor:") == 1, name
        assert "delete this folder" in told, name
        shutil.rmtree(folder)
    assert job.summary()["outcomes"]["placed"] == len(ROWS[::60])


def test_a_full_disk_a_table_that_changes_and_a_missing_package_leave_no_index(mine):
    job = mine()

    def small_files():
        resource.setrlimit(resource.RLIMIT_FSIZE, (6_000, 6_000))

    process = job.start("index", "mine.toml", preexec_fn=small_files)
    told = process.communicate(timeout=60)[1]
    assert process.returncode == 4, told
    assert "can't be written" in told
    assert not list(job.path("index").glob("*/")), "nothing half"
    told = changed_while_read(job)
    assert "was changed while it was read" in told
    assert not list(job.path("index").glob("*/"))
    job.path("scipy.py").write_text("raise ImportError('none here')")
    for blocked in ("numpy", "scipy"):
        code = f"import sys; sys.modules[{blocked!r}] = None; from yellowtor.cli.main import main; main(sys.argv[1:])"
        for command in (["index", "mine.toml"], ["run", "job.toml"], ["plan", "job.toml"]):
            done = subprocess.run(
                [sys.executable, "-c", code, *command], cwd=job.folder, env=job.env, capture_output=True, text=True
            )
            assert done.returncode == 3, done.stderr
            assert "yellowtor[reference]" in done.stderr


def changed_while_read(job):
    """What is said when a row is added to the table after its first batch was read."""
    code = """
import sys
from yellowtor.reference.columns import RowColumns
before = RowColumns.add
def add(self, rows):
    before(self, rows)
    with open("table.csv", "a") as file:
        file.write("1,New Street,Holm,1,,XT,47,-28\\n")
RowColumns.add = add
from yellowtor.cli.main import main
main(["index", "mine.toml"])
"""
    done = subprocess.run([sys.executable, "-c", code], cwd=job.folder, env=job.env, capture_output=True, text=True)
    assert done.returncode == 4, done.stderr
    return done.stderr


class FaultySearch:
    """Fails with some questions, as a fault of ours would."""

    def __init__(self, search):
        self.search = search

    def find(self, asked):
        if any("666" in one.street for one in asked):
            raise ZeroDivisionError
        return self.search.find(asked)

    def near(self, here, within_m):
        if here.lat > 80:
            raise KeyError
        return self.search.near(here, within_m)


def test_a_question_that_meets_a_fault_fails_alone():
    search = FaultySearch(searching(ROWS[:40]))
    asked = [{"street": f"{number} Kelp Street", "town": "Nymrberga"} for number in ("1", "666", "2")]
    lines = [json.loads(line) for line in find_all(search, json.dumps(asked).encode(), SearchOptions()).splitlines()]
    assert lines[1] == {"fault": "ZeroDivisionError"}
    assert [line["candidates"][0]["parts"]["number"] for line in (lines[0], lines[2])] == ["1", "2"]
    spots = [{"lat": "47.0", "lon": "-28.0"}, {"lat": "85.0", "lon": "0.0"}]
    near = [
        json.loads(line) for line in find_all(search, json.dumps(spots).encode(), SearchOptions((), 900.0)).splitlines()
    ]
    assert len(near[0]["candidates"]) == 5
    assert near[1] == {"fault": "KeyError"}


@pytest.mark.parametrize(
    "body",
    [
        b"",
        b"{",
        b"[]",
        b"null",
        b'{"candidates": 5}',
        b'{"candidates": [{}]}',
        b'{"candidates": [{"position": {"lat": 99, "lon": 0}}]}',
        b'{"fault": "KeyError"}',
    ],
)
def test_a_kept_reply_that_is_spoiled_is_unreadable_and_never_nothing_found(mine, body):
    from yellowtor.services.reference_service import ReferenceService
    from yellowtor.services.reference_settings import ReferenceDescription
    from yellowtor.services.request_maker import Wishes
    from yellowtor.settings import read_settings

    job = mine(ROWS[:5])
    description = read_settings(job.path("mine.toml"), ReferenceDescription, "service description")
    service = ReferenceService(description, Wishes(), job.path("index"), "edition", "table.csv")
    assert service.read(Reply(200, {}, body)).kind is Kind.UNREADABLE
    assert service.read(Reply(200, {}, b'{"candidates": []}')).kind is Kind.NOTHING_FOUND


def test_workers_answer_as_one_process_does_and_end_with_it(mine):
    job = mine()
    job.run("index", "mine.toml")
    (folder,) = [one for one in job.path("index").iterdir() if one.is_dir()]
    asked = [{"street": f"{row[0]} {row[1]}", "town": row[2]} for row in random.Random(2).sample(ROWS, 60)]
    asked += [{"whole": f"{row[3]} {row[2]}, {row[1]} {row[0]}"} for row in ROWS[::50]]
    message = json.dumps(asked).encode()
    alone = find_all(Search(ReferenceIndex.open(folder)), message, SearchOptions())
    workers = SearchWorkers(folder, SearchOptions(), 2)
    try:
        assert [workers.find(message) for _ in range(4)] == [alone] * 4
    finally:
        codes = workers.close()
    assert codes == [0, 0]


# ---- laws of the parts


@given(st.lists(st.lists(st.integers(0, 9), max_size=5), max_size=20), st.data())
def test_lists_in_arrays_are_those_of_python(values, data):
    made: Lists = lists_of(values, np.int64)
    rows = data.draw(st.lists(st.integers(0, len(values) - 1), max_size=20)) if values else []
    own, found = made.of(np.array(rows, np.int64))
    assert found.tolist() == [value for row in rows for value in values[row]]
    assert own.tolist() == [at for at, row in enumerate(rows) for _ in values[row]]
    starts = np.array([7 * row for row in rows], np.int64)
    counts = np.array([len(values[row]) for row in rows], np.int64)
    assert ranges(starts, counts).tolist() == [7 * row + n for row in rows for n in range(len(values[row]))]
    ordered = sorted(value for own in values for value in own)
    assert run_starts(np.array(ordered, np.int64)).tolist() == [
        at for at, one in enumerate(ordered) if not at or ordered[at - 1] != one
    ]


@given(st.lists(st.text(max_size=8), min_size=1, max_size=30), st.sampled_from(["street", "town"]))
def test_keys_of_arrays_are_those_of_single_texts_and_kinds_never_meet(texts, kind):
    keys = text_keys(kind, texts)
    assert keys.tolist() == [text_key(kind, text) for text in texts]
    assert not set(keys.tolist()) & set(text_keys("postcode", texts).tolist())
    turned = keys[::-1].copy()
    assert pair_keys(keys, turned).tolist() == [
        pair_key(one, other) for one, other in zip(keys.tolist(), turned.tolist(), strict=True)
    ]
    if len(set(texts)) > 1:
        one, other = sorted(set(texts))[:2]
        assert pair_key(text_key(kind, one), text_key(kind, other)) != pair_key(
            text_key(kind, other), text_key(kind, one)
        )


WORDS = sorted({"".join(random.Random(n).choices("abcdefghiklmnorstuw", k=4 + n % 12)) for n in range(900)})
KNOWN = Spelling(*word_table(WORDS), WORDS)


@given(st.sampled_from(WORDS), st.data())
def test_a_word_with_one_error_is_found_and_itself_is_first(word, data):
    assert KNOWN.like(word)[0] == (word, 1.0)
    at = data.draw(st.integers(1, len(word) - 1))
    letter = data.draw(st.sampled_from(string.ascii_lowercase))
    spoiled = data.draw(
        st.sampled_from([
            word[:at] + word[at + 1 :], word[:at] + letter + word[at:], word[:at] + letter + word[at + 1 :],
            word[: at - 1] + word[at] + word[at - 1] + word[at + 1 :],
        ])
    )  # fmt: skip
    if len(spoiled) >= 4:
        found = KNOWN.like(spoiled)
        assert word in dict(found), (word, spoiled, found)
        assert all(0.6 <= value <= 1 for _, value in found)
        assert [value for _, value in found] == sorted((value for _, value in found), reverse=True)


@settings(deadline=None, max_examples=60)
@given(
    st.lists(
        st.tuples(st.integers(0, 2), st.integers(0, 3), st.integers(-1, 9), st.integers(0, 30)), min_size=1, max_size=60
    )
)
def test_every_house_is_in_one_street_in_order_and_streets_that_touch_are_one(houses):
    town, name, number, place = (np.array(column) for column in zip(*houses, strict=True))
    lat, lon = 47 + 0.015 * place.astype(float), np.full(len(houses), -28.0)
    made = group_streets([town, name], [number], lat, lon)
    assert sorted(made.order.tolist()) == list(range(len(houses)))
    streets = [made.order[a:b].tolist() for a, b in zip(made.starts[:-1], made.starts[1:], strict=True)]
    of_name = defaultdict(list)
    for street, middle in zip(streets, made.middle.tolist(), strict=True):
        assert middle in street
        assert len({(town[at], name[at]) for at in street}) == 1
        assert [number[at] for at in street] == sorted(number[at] for at in street)
        of_name[town[street[0]], name[street[0]]].append({int(place[at]) for at in street})
    for parts in of_name.values():
        cells = [{int(np.floor((47 + 0.015 * one) / 0.02)) for one in own} for own in parts]
        for own in cells:
            assert all(one == min(own) or any(one - step in own for step in (1,)) for one in own), (
                "what is apart is not one"
            )
        for at, own in enumerate(cells):
            assert not any(abs(one - other) <= 1 for rest in cells[at + 1 :] for one in own for other in rest)


def test_equal_rows_are_one_and_one_address_at_two_places_is_counted():
    far = [*ROWS[0][:6], f"{float(ROWS[0][6]) + 0.005:.6f}", ROWS[0][7]]
    columns = RowColumns(RowRules({**dict(zip(HEADER, range(8), strict=True)), "latitude": 6, "longitude": 7}))
    columns.add([*ROWS, *ROWS[:30], far])
    arrays, counts = build_index(columns, columns.array("y"), columns.array("x"))
    assert (counts.duplicates, counts.two_places, counts.addresses) == (30, 1, len(ROWS) + 1)
    found = Search(ReferenceIndex(arrays, {})).find([Address(street=f"{ROWS[0][0]} {ROWS[0][1]}", town=ROWS[0][2])])[0]
    assert sorted(one.position.lat for one in found) == [float(ROWS[0][6]), float(far[6])], "both are offered"
    columns.add([["", "", "", "", "", "", "95", "200"]] * 20)
    with pytest.raises(BadSource):
        build_index(columns, np.append(columns.array("y"), [95.0] * 0), columns.array("x") * 1e5)


def test_a_search_answers_the_same_in_any_batch_and_order():
    r = random.Random(11)
    search = searching(ROWS)
    asked = []
    for row in r.sample(ROWS, 120):
        line = f"{row[0]} {row[1]}"
        at = r.randrange(3, len(line) - 1)
        asked += [
            Address(street=line[:at] + line[at + 1 :], town=row[2]),
            Address(whole=f"{line}, {row[3]} {row[2]}, XT"),
            Address(street=line, town=r.choice(TOWNS)[0], postcode=row[3]),
            Address(street=f"{r.choice(NAMES)} {r.choice(KINDS)} {r.randrange(900)}", town=row[2]),
        ]
    together = search.find(asked)
    assert [search.find([one])[0] for one in asked] == together
    order = r.sample(range(len(asked)), len(asked))
    assert [together[at] for at in order] == search.find([asked[at] for at in order])
    assert max(map(len, together)) <= 30


@settings(deadline=None, max_examples=25)
@given(st.lists(st.sampled_from(ROWS), min_size=2, max_size=12, unique_by=lambda row: tuple(row[:4])))
def test_pairs_are_found_from_both_sides_and_a_list_has_none_with_itself(rows):
    ones = [Address(street=f"{row[0]} {row[1]}", town=row[2], postcode=row[3]) for row in rows]
    others = [Address(whole=f"{row[1]} {row[0]}, {row[3]} {row[2]}") for row in rows]
    assert [pair for batch in pairs_of(ones, None, 0.9) for pair in batch] == [], "they are different houses"
    there = {(pair.one, pair.other) for batch in pairs_of(ones, others, 0.9) for pair in batch}
    back = {(pair.other, pair.one) for batch in pairs_of(others, ones, 0.9) for pair in batch}
    assert there == back == {(at, at) for at in range(len(rows))}


def test_a_table_in_a_database_is_read_with_its_password_and_built_anew_by_index(mine):
    job = mine()
    with sqlite3.connect(job.path("t.sqlite")) as database:
        database.execute(f"CREATE TABLE places ({', '.join(HEADER)})")
        database.executemany(f"INSERT INTO places VALUES ({', '.join('?' * 8)})", [*ROWS, ROWS[0], [None] * 8])
    database.close()
    job.edit("mine.toml", ('file = "table.csv"', 'database = "sqlite:///t.sqlite"\ntable = "places"'))
    assert job.summary()["outcomes"]["placed"] == len(ROWS[::60])
    with sqlite3.connect(job.path("t.sqlite")) as database:
        database.execute("UPDATE places SET lat = '47.9' WHERE number = '1' AND street = 'Kelp Street'")
    database.close()
    assert job.summary()["requests"]["searched"] == 0, "nobody has said that it changed"
    job.run("index", "mine.toml")
    assert [one["position"]["lat"] for one in searched(job, "street=1 Kelp Street", "town=Nymrberga")] == [47.9]
    assert job.summary()["requests"]["searched"] == len(ROWS[::60]), "another building of the index is another question"
    assert positions(job)["R0"][0] == "47.9"
    assert job.summary()["requests"]["searched"] == 0
    job.edit("mine.toml", ('table = "places"', 'table = "plaices"'))
    told = job.run("index", "mine.toml", code=4).stderr
    assert "plaices" in told
    assert os.listdir(job.path("index"))


def test_the_demos_tables_answer_the_register_without_any_service(tmp_path):
    job = Example(tmp_path, None)
    for name in (
        "register.toml",
        "addresses.toml",
        "addresses.csv.gz",
        "cabinets.xlsx",
        "coast.geojson",
        "roads.geojson",
    ):
        shutil.copyfile(DATA / name, job.path(name))
    told = job.run("run", "register.toml").stderr
    assert "nothing sent" in told
    assert "credit for data of Island addresses" in told
    with (DATA.parents[3] / "tests" / "data" / "truth.csv").open() as file:
        truth = {row["key"]: row for row in csv.DictReader(file)}
    placed = {key: row for key, row in job.rows("register-placed.xlsx").items() if row["Outcome"] == "placed"}
    wrong = [key for key, row in placed.items()
        if not truth[key]["lat"] or distance_m(Position(row["Latitude"], row["Longitude"]), Position(float(truth[key]["lat"]), float(truth[key]["lon"]))) > 50]  # fmt: skip
    assert len(placed) >= 215
    assert not wrong
    with gzip.open(job.path("addresses.csv.gz"), "rt", encoding="utf-8") as file:
        assert (
            sum(1 for _ in file) - 1
            == json.loads(job.run("index", "addresses.toml", "--stats", "--json").stdout)["rows"]
        )
