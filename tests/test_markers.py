"""Marker files: each format read back by a program that is not ours; selection, looks, texts, and the page in a browser."""

import csv
import json
import re
import zipfile
from dataclasses import replace
from io import StringIO
from itertools import combinations, pairwise

import geopandas
import orjson
import pyarrow.parquet as pq
import pyogrio
import pytest
from conftest import real_addresses, write_csv
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from yellowtor.answers.geography.nearest import NearestPoints
from yellowtor.contracts.marker import OUTCOME_LOOKS, Look, Marker, MarkerHead, Shape
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position, distance_m
from yellowtor.markers.formats import delimited, geo_uris, geojson, gpx, kml, page, vcard
from yellowtor.markers.formats.kml import circle
from yellowtor.markers.pictures import png_of
from yellowtor.markers.target import MarkerTarget
from yellowtor.run.jobs.marker_settings import COLOURS, SCALE
from yellowtor.run.phases.colour_vision import told_apart
from yellowtor.run.phases.marker_looks import round_breaks

KML = "{http://www.opengis.net/kml/2.2}"
HOSTILE = [
    "</script><img src=x onerror=alert(1)>",
    "]]>&amp;<b>",
    '=HYPERLINK("http://x")',
    "\u202eright to left \u05d0\u05d1",
    "boat \U0001f6a3, line\u2028end",
    'a,b;c\\n"d"\nnext line',
]
ALL = ("m.geojson", "m.geojsons", "m.kml", "m.kmz", "m.gpx", "m.gpkg", "m.parquet", "m.csv", "m.wkt.csv", "m.json", "m.vcf", "m.uri", "m.html")  # fmt: skip
CHOSEN = """
[markers]
to = [{files}]
columns = ["Notes"]
name = "{{{{ Id }}}} {{{{ record['Notes'] }}}}"
description = "{{{{ answer.outcome }}}}: {{{{ Notes }}}}"
"""


@pytest.fixture
def marked(small):
    """marked(rows, settings, …) is a job whose markers are these settings; it has run."""

    def make(rows, settings, *, runs=True, **manners):
        job = small(rows, **manners)
        text = job.path("job.toml").read_text()
        job.path("job.toml").write_text(text[: text.index("[markers]")] + settings)
        if runs:
            job.run("run", "job.toml")
        return job

    return make


def files(*names):
    return CHOSEN.format(files=", ".join(f'"{name}"' for name in names))


def noted(rows, notes):
    return [[*row, "", "", note] for row, note in zip(rows, notes, strict=True)]


def table_of(path):
    with path.open(encoding="utf-8", newline="") as file:
        return list(csv.DictReader(file))


def cards(text):
    """The properties of each card of a vCard file, unfolded and unescaped."""
    plain = {"\\n": "\n", "\\,": ",", "\\;": ";", "\\\\": "\\"}
    for card in text.replace("\r\n ", "").split("BEGIN:VCARD\r\n")[1:]:
        pairs = (line.split(":", 1) for line in card.split("\r\n") if ":" in line)
        yield {name: re.sub(r"\\.", lambda found: plain[found[0]], value) for name, value in pairs}


def placemarks(content):
    """Name, description, columns, longitude and latitude of each placemark, in the order of the document."""
    for mark in etree.fromstring(content).iter(f"{KML}Placemark"):
        data = {one.get("name"): one[0].text for one in mark.iter(f"{KML}Data")}
        lon, lat = map(float, next(mark.iter(f"{KML}coordinates")).text.split(","))
        yield mark.find(f"{KML}name").text, mark.find(f"{KML}description").text, data, lon, lat


def test_every_format_says_the_same_to_a_reader_that_is_not_ours(marked):
    rows = noted(real_addresses(6), HOSTILE)
    job = marked(rows, files(*ALL))
    truth = job.rows("placed.csv")
    points = [(float(truth[row[0]]["Longitude"]), float(truth[row[0]]["Latitude"])) for row in rows]
    notes = [note.strip() for note in HOSTILE]
    names = [f"{row[0]} {note}" for row, note in zip(rows, notes, strict=True)]

    for file in ("m.geojson", "m.geojsons", "m.gpkg"):
        frame = pyogrio.read_dataframe(job.path(file))
        assert frame.crs.to_epsg() == 4326
        assert list(frame["name"]) == names, file
        assert list(frame["Notes"]) == notes
        assert [(p.x, p.y) for p in frame.geometry] == [pytest.approx(point, abs=1e-7) for point in points]
    frame = geopandas.read_parquet(job.path("m.parquet"))
    assert (list(frame["name"]), list(frame["Notes"])) == (names, notes)
    assert [(p.x, p.y) for p in frame.geometry] == points
    assert json.loads(pq.read_metadata(job.path("m.parquet")).metadata[b"geo"])["version"] == "1.1.0"

    flat = [name.replace("\r", "") for name in names]
    with zipfile.ZipFile(job.path("m.kmz")) as archive:
        assert archive.namelist()[0] == "doc.kml"
        assert archive.read("pictures/0.png").startswith(b"\x89PNG")
        kmz = archive.read("doc.kml")
    for content in (job.path("m.kml").read_bytes(), kmz):
        found = list(placemarks(content))
        assert [one[0] for one in found] == flat
        assert [one[1] for one in found] == [f"placed: {note}" for note in notes]
        assert [one[2]["Notes"] for one in found] == notes
        assert [one[3:] for one in found] == points
    assert len(pyogrio.read_dataframe(job.path("m.kml"))) == len(rows)
    way_points = pyogrio.read_dataframe(job.path("m.gpx"), layer="waypoints")
    assert list(way_points["name"]) == flat
    assert [(p.x, p.y) for p in way_points.geometry] == points

    for file in ("m.csv", "m.wkt.csv"):
        table = table_of(job.path(file))
        assert [row["Notes"] for row in table] == [f"'{n}" if n.startswith("=") else n for n in notes]
    assert [tuple(map(float, re.findall(r"[-\d.]+", row["geometry"]))) for row in table] == points
    array = json.loads(job.path("m.json").read_text())
    assert [(one["longitude"], one["latitude"], one["name"]) for one in array] == [
        (*point, name) for point, name in zip(points, names, strict=True)
    ]
    people = list(cards(job.path("m.vcf").read_bytes().decode()))
    assert [one["FN"] for one in people] == names
    assert all(len(line.encode()) <= 75 for line in job.path("m.vcf").read_bytes().decode().split("\r\n"))
    uris = [f"geo:{lat:.6f},{lon:.6f}" for lon, lat in ((p[0], p[1]) for p in points)]
    said = [line for line in job.path("m.uri").read_bytes().decode().split("\r\n") if line and not line.startswith("#")]
    assert [tuple(map(float, re.findall(r"-?[\d.]+", one.partition(";")[0]))) for one in said] == [
        tuple(map(float, re.findall(r"-?[\d.]+", one))) for one in uris
    ]
    assert all(";u=" in one for one in said)
    before = {name: job.path(name).read_bytes() for name in ALL}
    job.run("run", "job.toml")
    assert {name: job.path(name).read_bytes() for name in ALL} == before, "equal answers make equal bytes"


def test_the_command_writes_what_is_chosen_from_the_ledger_and_asks_nothing(marked):
    rows = [*noted(real_addresses(4), ["b", "10", "9", ""]), ["N", "1 Nowhere Lane", "Atlantis", "", "", "", "x"]]
    job = marked(rows, files("m.geojson") + 'order = ["-Notes"]\n')
    asked = job.service.requests
    keys = lambda name: [one["id"] for one in json.loads(job.path(name).read_text())["features"]]  # noqa: E731
    assert keys("m.geojson") == ["R3", "R0", "R1", "R2"], "no text, text, 10, 9"
    first = job.path("m.geojson").read_bytes()
    said = json.loads(job.run("markers", "job.toml", "--to", "x.geojson", "--only", "Notes = '9' OR answer.outcome = 'unplaced'", "--json").stdout)  # fmt: skip
    assert (said["markers"], said["without_position"], keys("x.geojson")) == (1, 1, ["R2"])
    job.run("markers", "job.toml", "--to", "x.geojson", "--confidence", "1")
    assert keys("x.geojson") == []
    job.edit("job.toml", ("order", "without_position = true\norder"))
    job.run("markers", "job.toml", "--to", "x.geojson", "--outcome", "unplaced")
    (nowhere,) = json.loads(job.path("x.geojson").read_text())["features"]
    assert (nowhere["id"], nowhere["geometry"]) == ("N", None)
    write_csv(job.path("records.csv"), [["R0", "7 Other Lane", *rows[0][2:]], *rows[1:], ["NEW", *rows[1][1:]]])
    said = job.run("markers", "job.toml", "--to", "x.geojson").stderr
    assert "1 record is left out, which was edited" in said.replace("were", "was")
    assert "no run has read yet" in said
    assert "R0" not in keys("x.geojson")
    for to, why in (("records.csv", "records.file"), ("x.doc", "known are .html"), ("job.toml", "known are")):
        assert why in job.run("markers", "job.toml", "--to", to, code=None).stderr
    job.path("ledger.sqlite").unlink()
    assert "no ledger" in job.run("markers", "job.toml", code=3).stderr
    assert job.path("m.geojson").read_bytes() == first
    assert job.service.requests == asked


LOOKS = """
folders = "outcome"
circle = 120
[[markers.looks]]
name = "broken"
when = { Notes = ["broken", "lost"] }
colour = "red"
shape = "square"
text = "B"
turn = 45
[[markers.looks]]
when = "Notes LIKE 'new%' AND answer.confidence > 0.5"
icon = "icon.png"
size = 32
[markers.scale]
column = "Notes"
breaks = [10, 20]
unit = "m"
"""


def test_looks_are_those_of_the_first_rule_that_holds_and_else_of_the_scale(marked, tmp_path):
    rows = noted(real_addresses(6), ["broken", "new one", "5", "10", "25.5", "none"])
    job = marked(rows, files("m.geojson", "m.kmz", "m.html") + LOOKS, runs=False)
    job.path("icon.png").write_bytes(png_of(Look("", "#000000", Shape.STAR)))
    job.run("run", "job.toml")
    found = [one["properties"] for one in json.loads(job.path("m.geojson").read_text())["features"]]
    sql = "Notes LIKE 'new%' AND answer.confidence > 0.5"
    assert [one["look"] for one in found] == ["broken", sql, "below 10 m", "10 to 20 m", "20 and more m", "no number"]
    assert (found[0]["colour"], found[0]["shape"], found[0]["circle_m"]) == (COLOURS["red"], "square", 120)
    assert len({one["colour"] for one in found}) == 6
    with zipfile.ZipFile(job.path("m.kmz")) as archive:
        document = etree.fromstring(archive.read("doc.kml"))
        assert [folder[0].text for folder in document.iter(f"{KML}Folder")] == ["placed"]
        assert archive.read("pictures/1.png") == job.path("icon.png").read_bytes()
        assert archive.read("pictures/0.png") == png_of(Look("broken", COLOURS["red"], Shape.SQUARE, 20, "B", 45.0))
    ring = next(document.iter(f"{KML}Polygon"))
    corners = [tuple(map(float, one.split(","))) for one in next(ring.iter(f"{KML}coordinates")).text.split()]
    middle = Position(
        *reversed(json.loads(job.path("m.geojson").read_text())["features"][0]["geometry"]["coordinates"])
    )
    assert corners[0] == corners[-1]
    assert all(distance_m(middle, Position(lat, lon)) == pytest.approx(120, abs=0.1) for lon, lat in corners)


def test_a_record_that_moves_shows_where_it_was(marked):
    one, other = real_addresses(2)
    job = marked([one], files("m.geojson", "m.kml"))
    (before,) = json.loads(job.path("m.geojson").read_text())["features"]
    write_csv(job.path("records.csv"), [[one[0], *other[1:]]])
    job.run("run", "job.toml")
    (after,) = json.loads(job.path("m.geojson").read_text())["features"]
    assert "moved_from" not in before["properties"]
    assert after["properties"]["moved_from"] == before["geometry"]["coordinates"] != after["geometry"]["coordinates"]
    assert b"<LineString>" in job.path("m.kml").read_bytes()
    first = job.path("m.geojson").read_bytes()
    job.run("run", "job.toml")
    assert job.path("m.geojson").read_bytes() == first, "it stays, when nothing changes"


def test_other_systems_are_for_formats_that_can_have_them(marked):
    from pyproj import Transformer

    job = marked(
        real_addresses(3), files("m.gpkg", "m.parquet", "m.csv", "m.geojson") + 'system = "EPSG:32626"\ndecimals = 2\n'
    )
    lonlat = [one["geometry"]["coordinates"] for one in json.loads(job.path("m.geojson").read_text())["features"]]
    truth = [Transformer.from_crs(4326, 32626, always_xy=True).transform(*point) for point in lonlat]
    frames = [pyogrio.read_dataframe(job.path("m.gpkg")), geopandas.read_parquet(job.path("m.parquet"))]
    table = table_of(job.path("m.csv"))
    places = [[(p.x, p.y) for p in frame.geometry] for frame in frames] + [
        [(float(r["x"]), float(r["y"])) for r in table]
    ]
    assert [frame.crs.to_epsg() for frame in frames] == [32626, 32626]
    assert places == [[pytest.approx(point, abs=0.01) for point in truth]] * 3
    job.edit("job.toml", ('"m.gpkg", "m.parquet", "m.csv", ', ""))
    assert "always WGS 84" in job.run("run", "job.toml", code=3).stderr


@pytest.mark.parametrize(
    ("more", "why"),
    [
        ('columns = ["Colour"]', "no column 'Colour'"),
        ('name = "{{ Colour }}"', "markers.name names Colour, which is no column"),
        ('name = "{{ Id "', "not a valid template"),
        ('only = "Colour = 1"', "markers.only = 'Colour = 1' can't be run"),
        ('only = "1 FROM read_csv(\'job.toml\') --"', "can't be run"),
        ('system = "EPSG:99999"', "PROJ"),
        ('circle = "Colour"', "no column 'Colour'"),
        ('[[markers.looks]]\nwhen = { Colour = "x" }', "names 'Colour'"),
        ('[[markers.looks]]\ncolour = "reddish"', "a colour is"),
        ('[[markers.looks]]\nicon = "none.png"', "none.png"),
        ('[[markers.looks]]\ntext = "four"', "three characters"),
        ('[markers.scale]\ncolumn = "Notes"\nbreaks = [2, 1]', "must rise"),
        ('[markers.map]\nlanguage = "xx"', "language is one of"),
        ('[markers.map]\ntiles = "ftp://tiles.example/{z}/{x}/{y}.png"', "tiles"),
        ('[markers.map]\nsearch = ["Town"]', "must be in markers.columns"),
        ('[markers.map]\ntexts = "texts.toml"', "no text of the page"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said_before_anything_is_asked(marked, more, why):
    plain = '[markers]\nto = ["m.html", "m.gpkg"]\n'
    job = marked(real_addresses(1), plain + more, runs=False)
    job.path("texts.toml").write_text('nowhere = "Nirgends"')
    assert why in job.run("run", "job.toml", code=None).stderr
    assert why in " ".join(job.run("check", "job.toml", code=None).stdout.split())
    assert job.service.requests == 0
    assert not job.path("m.html").exists()


def test_a_marker_file_that_fails_leaves_the_table_and_the_other_files_alone(marked):
    rows = noted(real_addresses(301), [f"folder {n}" for n in range(301)])
    job = marked(rows, files("m.kml", "m.geojson") + 'folders = "Notes"\n', runs=False)
    job.path("m.kml").write_text("old")
    assert "more than 300 folders" in job.run("run", "job.toml", code=None).stderr
    assert job.path("m.kml").read_text() == "old"
    assert len(job.rows("placed.csv")) == len(json.loads(job.path("m.geojson").read_text())["features"]) == 301
    job.edit("job.toml", ('folders = "Notes"', ""), ("{{ Id }}", "{{ 1 // (Id | length - 2) }}"))
    said = job.run("markers", "job.toml").stderr
    assert "markers.name can't be filled for the record 'R0'" in said, "one of them; the others have their name"


texts = st.text(st.characters(exclude_categories=["Cs"]), max_size=40)


def legal(text):
    """The text as XML can have it."""
    return re.sub(r"\r\n?", "\n", re.sub("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]", "\ufffd", text))


def drawn(module, path, *markers, columns=("C",), **settings):
    target = MarkerTarget(path, MarkerHead("T", columns), **settings)
    with module.open_file(target) as file:
        for marker in markers:
            file.add(marker)
    return path.read_bytes()


HERE = Position(47.5, -28.5)


def marker(name, note, position=HERE):
    return Marker(
        "k", name, Outcome.PLACED, position, OUTCOME_LOOKS[Outcome.PLACED], description=note, columns={"C": note}
    )


@given(texts, texts, st.floats(-90, 90), st.floats(-180, 180))
def test_no_text_breaks_a_format_and_no_position_changes(tmp_path_factory, name, note, lat, lon):
    folder = tmp_path_factory.mktemp("texts")
    one = marker(name, note, Position(lat, lon))
    (feature,) = orjson.loads(drawn(geojson, folder / "m.geojson", one))["features"]
    assert (feature["properties"]["name"], feature["geometry"]["coordinates"]) == (name, [lon, lat])
    (placed,) = placemarks(drawn(kml, folder / "m.kml", replace(one, description=note or "-")))
    assert placed == (legal(name) or None, legal(note) or "-", placed[2], lon, lat)
    assert placed[2].get("C") == (legal(note) or None)
    point = etree.fromstring(drawn(gpx, folder / "m.gpx", one))[1]
    assert float(point.get("lat")) == pytest.approx(lat, abs=1e-9)
    (card,) = cards(drawn(vcard, folder / "m.vcf", one).decode())
    shown = re.sub("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]", "\ufffd", name).replace("\r", "")
    assert card["FN"] == shown
    written = drawn(delimited, folder / "m.csv", one).decode()
    _, row = csv.reader(StringIO(written, newline=""))
    assert row[-1].removeprefix("'") == note.removeprefix("'")
    assert row[-1][:1] not in {"=", "+", "@", "-", "\t", "\r"}
    lines = drawn(geo_uris, folder / "m.uri", one).decode().split("\r\n")
    assert [float(n) for n in lines[1].removeprefix("geo:").split(",")] == [pytest.approx(lat, abs=1e-9), pytest.approx(lon, abs=1e-9)]  # fmt: skip


def test_no_text_of_a_record_ends_a_script_or_becomes_markup(tmp_path, monkeypatch):
    monkeypatch.setattr("yellowtor.markers.formats.page.MOST", 2)
    from yellowtor.contracts.map_view import MapView
    from yellowtor.markers.texts import texts_in

    view = MapView(texts=texts_in("en"), embed=False)
    made = [marker('</script><b onclick="x">', "<u>\u2028")] * 5
    html = drawn(page, tmp_path / "p.html", *made, view=view, attribution="© <me>").decode()
    assert "5 records; the first 2 are shown" in " ".join(html.split())
    for danger in ("</script><b", "<u>", "© <me>"):
        assert danger not in html
    assert html.count("</script>") == 3
    policy = re.search(r'Content-Security-Policy" content="([^"]*)"', html)[1]
    assert "unsafe" not in policy
    assert "connect-src" not in policy, "nothing may be fetched: default-src is none"
    embedded = drawn(page, tmp_path / "e.html", *made, view=replace(view, embed=True)).decode()
    assert embedded.startswith("<iframe")
    assert embedded.count("<") == 2, "all of the page is one attribute"


def test_geojson_of_nothing_is_still_geojson_and_a_failure_leaves_the_old_file(tmp_path):
    nothing = orjson.loads(drawn(geojson, tmp_path / "m.geojson", marker("a", "b", None)))
    assert (nothing["type"], nothing["features"]) == ("FeatureCollection", [])
    with pytest.raises(KeyError):
        drawn(geojson, tmp_path / "m.geojson", replace(marker("a", "b"), columns={}))
    assert orjson.loads((tmp_path / "m.geojson").read_bytes())["features"] == []
    assert [p.name for p in tmp_path.iterdir()] == ["m.geojson"]


@given(st.floats(-89, 89), st.floats(-180, 180), st.floats(1, 1e6))
def test_a_circle_is_round_wherever_it_is(lat, lon, radius):
    middle = Position(lat, lon)
    assert {round(distance_m(middle, corner) / radius, 6) for corner in circle(middle, radius)} == {1.0}


@given(st.floats(-1e9, 1e9).map(lambda n: round(n, 6)), st.floats(-1e9, 1e9).map(lambda n: round(n, 6)))
def test_breaks_are_few_rise_and_lie_between(one, other):
    least, most = sorted((one, other))
    breaks = round_breaks(least, most)
    assert breaks == sorted(set(breaks))
    assert len(breaks) <= 11
    assert all(least <= value <= most for value in breaks)


def test_nearby_finds_neighbours_pairs_and_what_does_not_fit(small):
    one, two, three = real_addresses(3)
    job = small([one, two, three, ["COPY", *one[1:]], ["S", *three[1:2], three[2].upper(), three[3]]])
    job.run("run", "job.toml")
    rows = job.rows("placed.csv")
    here = Position(float(rows["R0"]["Latitude"]), float(rows["R0"]["Longitude"]))
    asked = job.service.requests
    found = json.loads(job.run("nearby", "job.toml", "--to", "R0", "--count", "2", "--json").stdout)["near"]
    assert [(found[0]["key"], found[0]["metres"])] == [("COPY", 0.0)]
    for place in (f"{here.lat}, {here.lon}", f"{one[1]}, {one[3]} {one[2]}, XT"):
        near = json.loads(job.run("nearby", "job.toml", "--to", place, "--within", "0.1 km", "--json").stdout)["near"]
        assert {record["key"] for record in near} >= {"R0", "COPY"} - ({"R0"} if "XT" in place else set())
    job.run("nearby", "job.toml", "--each", "--into", "each.csv")
    each = {row["key"]: row["nearest"] for row in table_of(job.path("each.csv"))}
    assert (each["R0"], each["COPY"], each["R2"], each["S"]) == ("COPY", "R0", "S", "R2")
    job.run("nearby", "job.toml", "--to", "R1", "--into", "near.geojson")
    assert len(pyogrio.read_dataframe(job.path("near.geojson"))) == 4
    job.run("pin", "job.toml", "COPY", "--at", f"{here.lat + 0.01}, {here.lon}", "--why", "seen")
    job.run("pin", "job.toml", "R1", "--at", f"{here.lat}, {here.lon}", "--why", "seen")
    job.run("run", "job.toml")
    said = json.loads(job.run("nearby", "job.toml", "--suspicious", "--json").stdout)
    assert [(group["why"], sorted(record["key"] for record in group["records"])) for group in said] == [
        ("different addresses at one position", ["R0", "R1"]),
        ("one address at several positions", ["COPY", "R0"]),
    ]
    assert said[1]["metres"] == pytest.approx(1112, abs=2)
    assert job.service.requests == asked
    new = job.run("nearby", "job.toml", "--to", "1 Nowhere Lane, Atlantis", code=3).stderr
    assert "stand-in does not know it" in new
    assert job.service.requests == asked + 1
    for wrong in ([], ["--to", "R0", "--each"], ["--each", "--into", "x.txt"], ["--to", "R0", "--within", "far"]):
        assert job.run("nearby", "job.toml", *wrong, code=None).returncode in {2, 3}


degrees = st.tuples(st.floats(-90, 90), st.floats(-180, 180)).map(lambda pair: Position(*pair))
edges = st.sampled_from(
    [Position(0, 180), Position(0, -180), Position(90, 0), Position(90, 77), Position(-90, 0), HERE]
)


@given(st.lists(degrees | edges, min_size=1, max_size=30), degrees | edges, st.integers(1, 5), st.floats(0, 3e7))
def test_the_nearest_are_those_of_measuring_all(points, here, count, within):
    from pyproj import Geod

    geod = Geod(ellps="WGS84")
    truth = sorted((geod.inv(here.lon, here.lat, p.lon, p.lat)[2], n) for n, p in enumerate(points))
    found = NearestPoints(points).near(here, count)
    assert [one.metres for one in found] == [pytest.approx(metres, abs=1e-6) for metres, _ in truth[:count]]
    near = NearestPoints(points).near(here, len(points), within)
    assert len(near) == sum(metres <= within for metres, _ in truth)


def test_maps_labels_and_a_picture_of_each_record(marked):
    from pypdf import PdfReader

    rows = [[*row, "", "", note] for row, note in zip(real_addresses(4), ["North", "South", "North", "$x$ <b> \u05d0"], strict=True)]  # fmt: skip
    settings = """
[markers]
to = ["m.png", "m.svg", "m.pdf", "m.labels.pdf"]
title = "Cabinets & $boxes$"
under = ["coast.geojson", "roads.geojson"]
name = "{{ record['Notes'] }} {{ Id }}"
[markers.labels]
across = 1
down = 3
text = "{{ Id }}\\n{{ Street }}"
[markers.map]
pages = "Notes"
[markers.pictures]
folder = "pictures"
size = 200
"""
    job = marked(rows, settings)
    assert job.path("m.png").read_bytes().startswith(b"\x89PNG")
    drawn = "".join(etree.fromstring(job.path("m.svg").read_bytes()).itertext())
    for text in ("Cabinets & $boxes$", "placed", "North R0", "$x$ <b> \u05d0 R3", "N", "km", "Places: the stand-in"):
        assert text in drawn
    pages = [page.extract_text() for page in PdfReader(job.path("m.pdf")).pages]
    assert len(pages) == 4
    assert ["South R1" in page for page in pages].count(True) == 2, "on the map of all, and on its own page"
    sheets = [page.extract_text() for page in PdfReader(job.path("m.labels.pdf")).pages]
    assert (len(sheets), [line for line in sheets[0].splitlines() if line]) == (
        2,
        [t for row in rows[:3] for t in row[:2]],
    )
    pictures = {path.name: (path.stat().st_mtime_ns, path.read_bytes()) for path in job.path("pictures").iterdir()}
    assert sorted(pictures) == ["R0.png", "R1.png", "R2.png", "R3.png"]
    assert len({content for _, content in pictures.values()}) == 4
    write_csv(job.path("records.csv"), [[*rows[0][:6], "New"], *rows[1:], ["a/b", *rows[1][1:]]])
    said = job.run("run", "job.toml").stderr
    assert "3 pictures drawn, 2 as they were" in said, "renamed, new, and one that has a new neighbour"
    after = {path.name: path.stat().st_mtime_ns for path in job.path("pictures").iterdir()}
    assert {name for name, (before, _) in pictures.items() if after[name] != before} == {"R0.png", "R1.png"}
    (odd,) = after.keys() - pictures.keys()
    assert re.fullmatch(r"a_b-[0-9a-f]{8}\.png", odd)


def test_colours_are_told_apart_by_every_kind_of_eye(marked):
    assert all(told_apart(COLOURS[one], COLOURS[other]) for one, other in combinations(COLOURS, 2))
    assert all(told_apart(one, other) for one, other in pairwise(SCALE))
    rules = "".join(f'[[markers.looks]]\nwhen = {{ Notes = "{c}" }}\ncolour = "{c}"\nshape = "star"\n' for c in ("#d00000", "#5a7a00", "blue"))  # fmt: skip
    job = marked(real_addresses(1), files("m.kml") + rules, runs=False)
    said = job.run("check", "job.toml")
    assert "the looks '#d00000' and '#5a7a00' differ only by colours" in " ".join((said.stdout + said.stderr).split())
    assert said.stderr.count("differ only") + said.stdout.count("differ only") == 1
