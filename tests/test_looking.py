"""Looking before asking: how addresses are put together, and what a job would do with its records."""

import json
import os
import pty
import re
import shutil
import subprocess
import tomllib

import pytest
from conftest import DATA, PROGRAM, real_addresses, write_csv
from hypothesis import assume, given
from hypothesis import strategies as st

from yellowtor.addresses.line_template import LineTemplate
from yellowtor.answers.geography.cell_coordinates import CellCoordinates, Finding, read_coordinates, read_positions
from yellowtor.contracts.position import Area

CELLS = {"Street": "Kelp Lane", "No": "4", "Zip": "001", "Town": "Ørlvík", "Region": "North-East", "C": "XT"}


@pytest.mark.parametrize(
    ("given", "line"),
    [
        ("Street No Zip Town Region C", "Kelp Lane 4, 001 Ørlvík (North-East), XT"),
        ("Street Town C", "Kelp Lane, Ørlvík, XT"), ("Town Region", "Ørlvík (North-East)"), ("Street C", "Kelp Lane, XT"),
        ("No", "4"), ("C", "XT"), ("", ""),
    ],
)  # fmt: skip
def test_what_is_empty_takes_its_punctuation_along(given, line):
    template = LineTemplate("{Street} {No}, {Zip} {Town} ({Region}), {C}")
    assert template.fill(lambda name: CELLS[name] if name in given.split() else "") == line


def test_whole_addresses_with_line_breaks_or_of_columns_are_placed_like_those_in_parts(small):
    rows = real_addresses(4)
    job = small(
        [[key, "", "", "", "", "", f"{street}\n {town},\r\n{postcode}"] for key, street, town, postcode in rows]
    )
    parts = 'street = "Street"\ntown = "Town"\npostcode = "Postcode"\nneeded = ["street", "town"]'
    text = "\n".join(line.split("  ")[0] for line in job.path("job.toml").read_text().splitlines())
    assert parts in text
    job.path("job.toml").write_text(text.replace(parts, 'whole = "Notes"'))
    assert job.summary()["outcomes"]["placed"] == 4
    whole = job.rows("placed.csv")
    lined = [[key, street.replace("Lane", "Lne."), town, postcode] for key, street, town, postcode in rows]
    write_csv(job.path("records.csv"), lined)
    words = 'line = "{Street}, {Postcode} {Town}"\nwords = { Street = { "lne." = "Lane" } }'
    job.edit("job.toml", ('whole = "Notes"', words))
    assert job.summary()["outcomes"]["placed"] == 4
    for key, row in job.rows("placed.csv").items():
        assert (row["Latitude"], row["Longitude"]) == (whole[key]["Latitude"], whole[key]["Longitude"])
    asked = json.loads(job.run("preview", "job.toml", "--json").stdout)["first"]
    assert [seen["address"] for seen in asked] == [f"{s}, {p} {t}, XT" for _, s, t, p in rows[:3]]


def test_a_preview_says_what_would_be_asked_and_what_would_not_and_sends_nothing(small):
    real = real_addresses(2)
    odd = {"12345": "only digits", "Q": "one letter", "info@harbour.example": "an e-mail address", "test": "test data",
           "#N/A": "the error of a formula", "xxxxx": "one letter again and again"}  # fmt: skip
    rows = [*real, ["R7", *real[0][1:]], ["R8", "5 Far Road", ""], ["R9", *real[1][1:], "47.5", "-28.5"]]
    job = small([*rows, *([f"O{i}", text] for i, text in enumerate(odd))])
    job.edit("job.toml", ('"street", "town"]', '"street"]'))
    del job.env["YELLOWTOR_STANDIN_KEY"]
    told = job.run("preview", "job.toml", "--show", "1").stdout
    assert f"{real[0][1]}, {real[0][3]} {real[0][2]}, XT" in told
    assert "key=%3CYELLOWTOR_STANDIN_KEY%3E" in told.replace("\n", ""), "a key that is not there is not masked"
    found = json.loads(job.run("preview", "job.toml", "--json").stdout)
    counts = {name: found[name] for name in ("records", "questions", "kept", "incomplete")}
    assert counts == {"records": 11, "questions": 9, "kept": 1, "incomplete": 0}
    assert found["odd"] == dict.fromkeys(odd.values(), 1)
    assert {seen["cells"]["Street"]: seen["odd"] for seen in found["problems"]} == {t: [why] for t, why in odd.items()}
    job.edit("job.toml", ('"street"]', '"street", "town"]'))
    found = json.loads(job.run("preview", "job.toml", "--json").stdout)
    assert (found["incomplete"], found["questions"]) == (7, 2)
    assert "town missing" in job.run("preview", "job.toml").stdout
    assert job.service.requests == 0
    assert not job.path("ledger.sqlite").exists()
    assert not job.path("placed.csv").exists()
    job.edit("job.toml", ('"Street"', '"Stret"'))
    assert "has no column 'Stret'" in job.run("preview", "job.toml", code=4).stderr
    job.edit("job.toml", ('"Stret"', '"Street"'))
    job.edit("records.csv", ("R9,", "R7,"))
    assert "the key 'R7' in column 'Id' occurs twice" in job.run("preview", "job.toml", code=4).stderr


HELD = {
    "plain": ("47.5", "-28.5"), "comma": ("47,5", "-28,25"), "sexagesimal": ("47°30'N", "28°15′00″W"),
    "swapped": ("-28.25", "47.5"), "letters": ("W 28.25", "N 47.5"), "zero": ("0", "0.0"), "words": ("see map", "?"),
    "half": ("47.5", ""), "globe": ("99", "200"), "elsewhere": ("12", "13"), "minutes": ("47°61'", "28°15'W"),
}  # fmt: skip
SAME = ["comma", "sexagesimal", "swapped", "letters"]


def test_coordinates_that_records_have_are_checked_and_repaired_on_request_where_they_are_certain(small):
    ((_, *address),) = real_addresses(1)
    lost = ["9 No Such Street", "Nowhere-on-Sea", ""]
    rows = [[name, *address, *where] for name, where in HELD.items()]
    job = small([*rows, ["lost", *lost, "0", "0"], ["pair", *lost, "47,25", "-28"]])
    summary = job.summary()
    assert summary["coordinates"] == {
        "a decimal comma": {"records": 2, "keys": ["comma", "pair"]},
        "degrees, minutes and seconds": {"records": 1, "keys": ["sexagesimal"]},
        "latitude and longitude swapped": {"records": 2, "keys": ["swapped", "letters"]},
        "0,0": {"records": 2, "keys": ["zero", "lost"]}, "no numbers": {"records": 2, "keys": ["words", "minutes"]},
        "one of the two missing": {"records": 1, "keys": ["half"]}, "off the globe": {"records": 1, "keys": ["globe"]},
        "outside the job's area": {"records": 1, "keys": ["elsewhere"]},
    }  # fmt: skip
    kept = [name for name, row in job.rows("placed.csv").items() if row["Outcome"] == "kept"]
    assert kept == ["plain", *SAME, "elsewhere", "pair"]
    written = {name: (row["Latitude"], row["Longitude"]) for name, row in job.rows("placed.csv").items()}
    assert {name: written[name] for name in kept[:-1]} == {name: HELD[name] for name in kept[:-1]}, "nothing silently"
    assert written["lost"] == ("0", "0"), "not ours to empty"
    assert all(float(written[name][0]) > 47 for name in ("zero", "words", "half", "globe", "minutes"))
    told = job.run("run", "job.toml", "--repair").stderr
    assert "5 of them are rewritten as plain degrees" in told
    assert "0 new, 0 changed, 13 as they were" in told
    repaired = {name: (row["Latitude"], row["Longitude"]) for name, row in job.rows("placed.csv").items()}
    assert {name: tuple(map(float, repaired[name])) for name in SAME} == dict.fromkeys(SAME, (47.5, -28.25))
    assert {**repaired, **{name: written[name] for name in (*SAME, "pair")}} == written
    job.edit("job.toml", ("[address]", "keep = false\n\n[address]"))
    assert job.summary()["outcomes"] | {"placed": 11, "unplaced": 2} == summary["outcomes"] | {
        "kept": 0, "placed": 11, "unplaced": 2}  # fmt: skip


def test_a_draft_leads_from_a_source_and_a_service_to_a_job_that_runs(example, tmp_path):
    job = example()
    job.path("job.toml").unlink()
    told = job.run("draft", "cabinets.xlsx", "--into", "job.toml").stderr
    assert "C-001  25 Ferry Steps, 00170 Skelinstead" in told
    assert "stand-in.toml, the only description here" in told
    job.edit("job.toml", ('# fixed = { country = "…" }', 'fixed = { country = "XT" }'))
    outcomes = job.summary()["outcomes"]
    assert outcomes["kept"] == 8
    assert outcomes["placed"] > 220
    assert job.rows()["C-001"]["Outcome"] == "placed"
    shutil.copy(DATA / "stand-in-xml.toml", job.folder)
    told = job.run("draft", "cabinets.xlsx")
    assert tomllib.loads(told.stdout)["ask"]["service"] == "stand-in.toml"
    assert "Took 'stand-in.toml'; it might be 'stand-in-xml.toml'" in told.stderr
    assert "already exists" in job.run("draft", "cabinets.xlsx", "--into", "job.toml", code=3).stderr


GERMAN = "Kunde;Straße;PLZ;Ort;Land;GPS Breite;GPS Länge\n" + "".join(
    f"K{i};Kelpweg {i % 9 + 1};0{1000 + i % 7};Skelin;XT;{'47,1234;-28,1234' if i % 3 else ';'}\n" for i in range(30)
)
FRENCH = "réf\tadresse\tcode_postal\tville\n" + "".join(
    f"{i}\t{i} rue du Quai\t{29000 + i % 4}\tØrlvík\n" for i in range(9)
)
WHOLE = "AssetNo,Address,Size\n" + "".join(f'{i},"{i} Kelp Lane, Ørlvík, 00412",{i % 3}\n' for i in range(9))


@pytest.mark.parametrize(
    ("text", "columns"),
    [
        (GERMAN, {"key": "Kunde", "street": "Straße", "postcode": "PLZ", "town": "Ort", "country": "Land",
                  "latitude": "GPS Breite", "longitude": "GPS Länge"}),
        (FRENCH, {"key": "réf", "street": "adresse", "postcode": "code_postal", "town": "ville"}),
        (WHOLE, {"key": "AssetNo", "whole": "Address"}),
    ],
)  # fmt: skip
def test_columns_are_guessed_from_names_in_several_languages_and_from_contents(small, text, columns):
    job = small([])
    job.path("export.txt").write_text(text)
    drafted = tomllib.loads(job.run("draft", "export.txt").stdout)
    found = drafted["address"] | drafted["write"]["columns"] | drafted["records"]
    parts = ("key", "whole", "number", "street", "town", "postcode", "region", "country", "latitude", "longitude")
    wanted = {"latitude": "Latitude", "longitude": "Longitude"} | columns
    assert {part: found[part] for part in parts if part in found} == wanted
    assert drafted["ask"]["service"] == "stand-in.toml"
    assert drafted["write"]["to"] == "export-placed.txt"


def test_on_a_terminal_a_draft_asks_where_two_columns_fit(small):
    job = small([])
    rows = "".join(f"{i},A{i},{i} Kelp Lane,Ørlvík\n" for i in range(9))
    job.path("export.csv").write_text(f"Id,Ref,Street,Town\n{rows}")
    ours, theirs = pty.openpty()
    command = [*PROGRAM, "draft", "export.csv"]
    ran = subprocess.Popen(command, cwd=job.folder, env=job.env, stdin=theirs, stderr=theirs, stdout=-1, text=True)
    os.write(ours, b"Rf\nRef\n")
    out, _ = ran.communicate(timeout=60)
    told = os.read(ours, 65536).decode()
    os.close(ours)
    os.close(theirs)
    assert tomllib.loads(out)["records"]["key"] == "Ref"
    assert "Which column tells records apart? (Id, Ref) [Id]" in told
    assert "'Rf' is not one of them" in told


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("a,b\n1,2\n", "no column that looks like a part of an address (it has: a, b)"),
        ("Street,Town\nA 1,B\nA 1,B\n", "no column that tells records apart"), ("Street,Town\n", "has no records"),
    ],
)  # fmt: skip
def test_where_there_is_nothing_to_go_by_a_draft_says_so(small, text, message):
    job = small([])
    job.path("export.csv").write_text(text)
    assert message in job.run("draft", "export.csv", "--into", "new.toml", code=4).stderr
    assert not job.path("new.toml").exists()


PARTS = st.fixed_dictionaries(
    {name: st.sampled_from(["", text, f"{text}-1", f" {text}  2"]) for name, text in CELLS.items()}
)


@given(PARTS)
def test_a_line_holds_every_cell_in_order_and_no_punctuation_that_parts_nothing(cells):
    template = LineTemplate("{Street} {No}, {Zip} {Town} ({Region}), {C}")
    line = template.fill(lambda name: " ".join(cells[name].split()))
    texts = [" ".join(cells[name].split()) for name in template.columns if cells[name].strip()]
    at = -1
    for text in texts:
        at = line.index(text, at + 1)
    left = line
    for text in texts:
        left = left.replace(text, "x", 1)
    assert not re.search(r"^[ ,]|[ ,]$|, *,|\(\s*\)|  ", left), line
    assert bool(line) == bool(texts)


AXES = {"lat": (90, "NS"), "lon": (180, "EW")}


PLAIN = st.sampled_from(["", "47.5", "1.25", "8", "-12.123456", "0", "1_0", "nan", "91"])
ODD = st.floats().map(repr) | st.sampled_from(
    [" ", " 1.5", "inf", "0.0001", "8,5", "47°30′N", "N 4", "-180", "٣", "1e1"]
)


@given(st.data(), st.sampled_from(".,"), st.sampled_from([None, Area(0, 0, 50, 50)]))
def test_the_positions_of_many_records_are_those_of_each(data, decimal, area):
    cell = PLAIN if data.draw(st.booleans()) else PLAIN | ODD
    lats, lons = zip(*data.draw(st.lists(st.tuples(cell, cell), min_size=1, max_size=8)), strict=True)
    each = [read_coordinates(lat, lon, decimal, area) for lat, lon in zip(lats, lons, strict=True)]
    assert read_positions(lats, lons, decimal, area) == ([one.position for one in each], [one.finding for one in each])


@given(st.data())
def test_a_position_is_read_back_from_however_people_write_it(data):
    written, true = {}, {}
    style = data.draw(st.sampled_from(["plain", "comma", "letters", "minutes", "seconds", "colons"]))
    for axis, (most, letters) in AXES.items():
        value = data.draw(st.integers(1, most * 3600 - 1)) / 3600 * data.draw(st.sampled_from([1, -1]))
        size, letter = abs(value), letters[value < 0]
        minutes = size % 1 * 60
        whole = {
            "plain": f"{value:.9f}", "comma": f"{value:.9f}".replace(".", ","), "letters": f"{letter} {size:.9f}",
            "minutes": f"{int(size)}° {minutes:.7f}' {letter}",
            "seconds": f"{int(size)}°{int(minutes + 1e-9)}′{round(size * 3600) % 60}″{letter}",
            "colons": f"{'-' * (value < 0)}{int(size)}:{int(minutes + 1e-9)}:{round(size * 3600) % 60}",
        }  # fmt: skip
        written[axis], true[axis] = whole[style], value
    assume(abs(true["lat"]) > 0.01 or abs(true["lon"]) > 0.01)
    assume("60.0" not in written["lat"] + written["lon"])
    held = read_coordinates(written["lat"], written["lon"])
    assert held.position, written
    assert abs(held.position.lat - true["lat"]) + abs(held.position.lon - true["lon"]) < 1e-6
    findings = {"plain": None, "comma": Finding.COMMA}
    assert held.finding is findings.get(style, Finding.SEXAGESIMAL)
    if style in {"letters", "minutes", "seconds"}:
        assert read_coordinates(written["lon"], written["lat"]) == CellCoordinates(held.position, Finding.SWAPPED)
