"""Marker files under attack: killed at each point, two at once, a server that lies, files of others, a fault inside."""

import csv
import json
import os
import re
import signal
import sqlite3
import time
import tomllib
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from types import SimpleNamespace

import pyogrio
import pytest
from conftest import DATA, SABOTEUR, real_addresses, write_csv
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree
from test_hostile import good, raw  # noqa: F401 - a fixture

from yellowtor.answers.geography.coordinate_text import read_number
from yellowtor.answers.geography.levels import Level
from yellowtor.answers.geography.outliers import cluster_of
from yellowtor.answers.judging.judgement import judge
from yellowtor.answers.judging.other_records import (
    FEW,
    MOST,
    OtherRecords,
    StreetCount,
    among_others,
    far_from_the_others,
    town_key,
)
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.marker import OUTCOME_LOOKS, Look, Marker, MarkerHead, Shape
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.errors import BadJob, BadSource
from yellowtor.markers.formats.labels import fitted
from yellowtor.markers.map_drawing import ground_m, mercator
from yellowtor.markers.page_data import pack
from yellowtor.markers.record_pictures import FileNames
from yellowtor.markers.target import FlatProperties, Properties
from yellowtor.markers.texts import own_texts, texts_in
from yellowtor.run.jobs.marker_formats import FORMATS, format_of
from yellowtor.run.jobs.marker_settings import COLOURS, LANGUAGES, Markers
from yellowtor.run.phases.marker_looks import holds
from yellowtor.run.phases.marker_texts import MarkerTemplate
from yellowtor.run.phases.marking import Marking
from yellowtor.settings import check_settings
from yellowtor.wiring.markers import GuardedFile, read_icon

FILES = ("m.geojson", "m.kml", "m.gpkg", "m.csv", "m.html")
MARKERS = '[markers]\nto = ["m.geojson", "m.kml", "m.gpkg", "m.csv", "m.html"]\ntitle = "{title}"\n'


@pytest.fixture
def drawn(small):
    """drawn(rows, settings) is a job with these markers; it has run."""

    def make(rows, settings, **manners):
        job = small(rows, **manners)
        text = job.path("job.toml").read_text()
        job.path("job.toml").write_text(text[: text.index("[markers]")] + settings)
        job.run("run", "job.toml")
        return job

    return make


def bytes_of(job, names=FILES):
    return {name: job.path(name).read_bytes() for name in names if job.path(name).exists()}


def test_killed_at_any_point_a_marker_file_is_the_old_one_or_the_new_one(drawn):
    job = drawn(real_addresses(5), MARKERS.format(title="old"))
    old = bytes_of(job)
    job.edit("job.toml", ('title = "old"', 'title = "new"'))
    new = None
    for point in ("before the rename", "after the rename"):
        for nth in (1, 2, 3):  # of these files, three have the title in them
            for name, content in old.items():
                job.path(name).write_bytes(content)
            ended = job.run(point, nth, "markers", "job.toml", program=SABOTEUR, code=None)
            assert ended.returncode == -signal.SIGKILL
            left = bytes_of(job)
            if new is None:
                job.run("markers", "job.toml")
                new = bytes_of(job)
                assert new["m.geojson"] != old["m.geojson"]
            assert all(left[name] in {old[name], new[name]} for name in FILES)
            renamed = sum(left[name] != old[name] for name in FILES if old[name] != new[name])
            assert renamed < len(FILES)
    job.run("markers", "job.toml")
    assert bytes_of(job) == new
    left_over = {path.name for path in job.folder.iterdir()} - {*FILES, "placed.csv", "records.csv", "job.toml"}
    assert not [name for name in left_over if name.startswith((".m.", "m.", ".placed"))], left_over


def test_two_that_write_the_same_files_at_once_leave_whole_ones(drawn):
    job = drawn(real_addresses(40), MARKERS.format(title="T") + '[markers.pictures]\nfolder = "p"\nsize = 120\n')
    want = bytes_of(job)
    for picture in job.path("p").iterdir():
        picture.unlink()
    both = [job.start("markers", "job.toml") for _ in range(3)]
    ends = [(process.communicate(timeout=90), process.returncode) for process in both]
    assert 0 in {code for _, code in ends}
    for (_, said), code in ends:
        assert code == 0 or "another" in said, said
    assert bytes_of(job) == want
    assert len(list(job.path("p").iterdir())) == 40
    assert all(path.read_bytes().endswith(b"IEND\xaeB`\x82") for path in job.path("p").iterdir())


def test_an_interruption_while_pictures_are_drawn_ends_soon_and_the_next_run_draws_the_rest(drawn):
    job = drawn(real_addresses(120), "[markers]\n")
    with job.path("job.toml").open("a") as file:
        file.write('[markers.pictures]\nfolder = "p"\nsize = 120\n')
    process = job.start("markers", "job.toml", start_new_session=True)
    until = time.monotonic() + 60
    while not (job.path("p").exists() and list(job.path("p").iterdir())):
        assert time.monotonic() < until
        assert process.poll() is None
        time.sleep(0.02)
    os.killpg(process.pid, signal.SIGINT)
    process.communicate(timeout=30)
    assert process.returncode == 130
    count = len(list(job.path("p").iterdir()))
    said = job.run("markers", "job.toml").stderr
    assert f"{120 - count:,} pictures drawn, {count} as they were" in said
    assert count < 120


def test_a_server_that_lies_reaches_every_format_as_text_only(raw):  # noqa: F811
    evil = [
        "</script><blink>",
        "]]><x>",
        "=1+1",
        "\u202ertl",
        "\x00\x07\x1b[31m",
        "a" * 50_000,
        "\U0001f6a3\u2028",
        '";\\,',
    ]
    names = ["o.geojson", "o.geojsons", "o.kml", "o.gpx", "o.gpkg", "o.parquet", "o.csv", "o.json", "o.vcf", "o.uri",
             "o.html", "o.png", "o.svg", "o.labels.pdf"]  # fmt: skip

    def mood(connection, _):
        text = evil[len(job.raw.seen) % len(evil)]
        place = {
            "lat": 54.5,
            "lon": 8.5 + len(job.raw.seen) / 1e3,
            "street": "Kelp Lane",
            "town": "Nowhere",
            "label": text,
        }
        connection.sendall(good([place]))
        return True

    to = ", ".join(f'"{name}"' for name in names)
    job = raw([mood], records=8, write=f"\n[markers]\nto = [{to}]\n")
    assert job.run("run", "job.toml").returncode == 0
    features = json.loads(job.path("o.geojson").read_text())["features"]
    assert len(features) == 8
    for name in ("o.kml", "o.gpx", "o.svg"):
        document = etree.fromstring(job.path(name).read_bytes(), etree.XMLParser(huge_tree=True))
        assert "<x>" not in document.tag
        assert not list(document.iter("{*}blink", "{*}x", "blink", "x"))
    frame = pyogrio.read_dataframe(job.path("o.gpkg"))
    assert sorted(frame["matched"]) == sorted(feature["properties"]["matched"] for feature in features)
    page = job.path("o.html").read_text()
    assert page.count("</script>") == 3
    assert "<blink>" not in page
    with job.path("o.csv").open(newline="", encoding="utf-8") as file:
        assert not [row for row in csv.DictReader(file) if row["matched"][:1] in {"=", "+", "@"}]
    assert all(line.startswith((b"#", b"geo:")) for line in job.path("o.uri").read_bytes().split(b"\r\n") if line)
    assert b"\x1b" not in job.path("o.vcf").read_bytes()


def test_layers_and_pictures_made_by_other_programs_are_drawn_or_refused_with_the_reason(drawn):
    job = drawn(real_addresses(2), "[markers]\n")
    layers = {
        "deep.geojson": {"type": "FeatureCollection", "crs": {"type": "name"}, "bbox": [0, 0, 1, 1], "features": [
            {"type": "Feature", "geometry": None, "properties": None},
            {"type": "Feature", "geometry": {"type": "GeometryCollection", "geometries": [
                {"type": "Point", "coordinates": [-28.9, 47.7, 12.5]},
                {"type": "MultiPolygon", "coordinates": [[[[-29, 47, 1], [-28, 47, 1], [-28, 48, 1], [-29, 47, 1]]]]},
                {"type": "MultiLineString", "coordinates": [[[-29, 47], [-28, 48]], []]}]}}]},
        "empty.geojson": {"type": "FeatureCollection", "features": []},
        "bad.geojson": {"type": "Feature", "geometry": {"type": "Point", "coordinates": ["a", None]}},
        "topo.geojson": {"type": "Topology", "arcs": []},
    }  # fmt: skip
    for name, layer in layers.items():
        job.path(name).write_text("\ufeff" + json.dumps(layer), encoding="utf-8")
    job.path("text.geojson").write_text("no JSON")
    settings = '[markers]\nto = ["m.png", "m.html", "m.svg"]\nunder = ["{}"]\n[markers.pictures]\nfolder = "p"\n'
    plain = job.path("job.toml").read_text()
    for name, why in (("deep", ""), ("empty", ""), ("bad", "longitude and latitude"), ("topo", "not GeoJSON"), ("text", "can't be read"), ("none", "can't be read")):  # fmt: skip
        job.path("job.toml").write_text(plain.replace("[markers]\n", settings.format(f"{name}.geojson")))
        ended = job.run("markers", "job.toml", code=3 if why else 0)
        assert why in ended.stderr
    assert [path.name for path in sorted(job.path("p").iterdir())] == ["R0.png", "R1.png"]
    job.path("p/R0.png").write_bytes(b"\x89PNG of somebody else")
    job.path("job.toml").write_text(plain.replace("[markers]\n", settings.format("deep.geojson")))
    assert "files that are not pictures of ours stay as they are: R0.png" in job.run("markers", "job.toml").stderr
    assert job.path("p/R0.png").read_bytes() == b"\x89PNG of somebody else"


def test_what_is_in_the_way_of_a_marker_file_fails_that_file_alone(drawn):
    job = drawn(real_addresses(3), MARKERS.format(title="T"))
    want = bytes_of(job)
    for name in ("m.geojson", "m.kml"):
        job.path(name).unlink()
    job.path("m.kml").mkdir()
    ended = job.run("markers", "job.toml", code=None)
    assert ended.returncode in {3, 4}
    assert "m.kml" in ended.stderr
    job.path("m.kml").rmdir()
    real = job.path("elsewhere")
    real.mkdir()
    (real / "target.kml").write_text("old")
    job.path("m.kml").symlink_to(real / "target.kml")
    with closing(sqlite3.connect(job.path("m.gpkg"))) as reader:  # a map program has it open
        reader.execute("BEGIN")
        reader.execute("SELECT count(*) FROM markers").fetchone()
        job.run("markers", "job.toml")
        assert reader.execute("SELECT count(*) FROM markers").fetchone() == (3,)
    assert job.path("m.kml").is_symlink()
    assert bytes_of(job) == want
    if os.geteuid():  # root may write everywhere
        job.folder.chmod(0o500)
        try:
            before = bytes_of(job)
            assert job.run("markers", "job.toml", "--to", "new.geojson", code=None).returncode not in {0, 1}
            assert bytes_of(job) == before
        finally:
            job.folder.chmod(0o700)


@given(
    st.sampled_from(["enter", "add", "exit", ""]), st.sampled_from([BadSource, OSError, ValueError, KeyboardInterrupt])
)
def test_a_failure_inside_a_marker_file_is_noted_and_goes_no_farther(place, kind):
    steps = []

    @contextmanager
    def opened():
        if place == "enter":
            raise kind("x")
        yield SimpleNamespace(add=add)
        if place == "exit":
            raise kind("x")
        steps.append("whole")

    def add(_):
        steps.append("add")
        if place == "add":
            raise kind("x")

    def use():
        file = GuardedFile(Path("m.kml"), opened())
        file.add(None)
        file.add(None)
        file.end(None)
        return file

    if kind is KeyboardInterrupt and place:
        with pytest.raises(KeyboardInterrupt):
            use()
        return
    file = use()
    assert bool(file.failed) is bool(place)
    assert steps == {"enter": [], "add": ["add"], "exit": ["add", "add"], "": ["add", "add", "whole"]}[place]
    assert ("unexpected fault" in str(file.failed)) is (bool(place) and kind is ValueError)


words = st.sampled_from(["Kelp", "Osten", "Pib", "Quill", "Zum", "Harbour", "Mill", "Old Mill", "Bristle", "Tern"])
kinds = st.sampled_from(["Lane", "Road", "Row", "Street"])
streets = st.builds(lambda number, word, kind: f"{number} {word} {kind}", st.integers(1, 999), words, kinds)
PLACED = judge(
    Address(number="4", street="Kelp Lane", town="Holm"), frozenset(), Kind.ANSWERED, "",
    [Candidate(Position(1, 1), Level.BUILDING, parts={"number": "4", "street": "Kelp Lane", "town": "Holm"})],
    Thresholds(50, 0.9),
)  # fmt: skip


@given(st.lists(streets, max_size=60), st.randoms())
def test_the_number_of_streets_depends_on_no_order_spelling_or_repetition(some, chance):
    def counted(lines):
        count = StreetCount()
        for line in lines:
            count.add(Address(street=line, town="Holm"))
        return count.streets

    names = {re.sub(r"^\d+ ", "", line).rsplit(" ", 1)[0].replace("Old ", "") for line in some}
    mixed = [*some, *map(str.upper, some)]
    chance.shuffle(mixed)
    assert (counted(some) > 0) == (counted(mixed) > 0) or "Old Mill" in str(some)
    assert counted(mixed) <= MOST
    if len(names) < FEW:
        assert counted(mixed) == 0, "a corner has few streets, however they are written"


@given(st.integers(0, MOST), st.floats(0, 1e7), st.floats(1, 5_000))
def test_the_other_records_never_raise_a_confidence_and_more_of_them_lower_it_more(count, away_m, tolerance_m):
    thresholds = Thresholds(tolerance_m, 0.9)
    found = among_others(PLACED, OtherRecords(count, away_m), thresholds)
    assert PLACED.confidence is not None
    assert found.confidence.value <= PLACED.confidence.value
    worse = among_others(PLACED, OtherRecords(min(MOST, count * 2), away_m), thresholds)
    assert worse.confidence.value <= found.confidence.value
    assert (found.outcome is Outcome.PLACED) == (found.confidence.value >= 0.9)
    assert bool(found.cause) == (found.outcome is Outcome.DOUBTFUL)
    if not count and not away_m:
        assert found is PLACED


@given(st.lists(st.tuples(st.floats(47, 47.2), st.floats(8, 8.2)), min_size=6, max_size=40), st.booleans())
def test_a_point_is_far_from_its_town_only_if_most_are_together(near, other_side):
    points = [
        (n, Position(lat, lon if not other_side else lon + 171.9 - 360 * (lon > 8.1)))
        for n, (lat, lon) in enumerate(near)
    ]
    assert list(far_from_the_others(points)) == [], "20 km are a town, also across the date line"
    away = (999, Position(48.5, points[0][1].lon))
    assert [number for number, _ in far_from_the_others([*points, away])] == [999]
    assert list(far_from_the_others([*points[:2], away])) == [], "two others tell nothing"
    assert cluster_of([]) is None


def test_a_town_is_the_same_in_another_spelling_and_not_in_another_region():
    key = town_key(Address(street="1 Kelp Lane", town="St. Holm ", country="XT"))
    assert key == town_key(Address(street="2 Tern Row", town="ST HOLM", country="xt"))
    assert key != town_key(Address(town="St. Holm", region="Vest", country="XT"))
    assert town_key(Address(whole="St. Holm")) == ""


@given(st.lists(st.text(max_size=12), max_size=12, unique=True))
def test_each_column_has_a_name_of_its_own_in_every_format(columns):
    head = MarkerHead("T", columns, [Look("a", "#000000", Shape.STAR)])
    properties = Properties(head)
    marker = Marker("k", "n", Outcome.KEPT, None, OUTCOME_LOOKS[Outcome.KEPT], columns={name: name for name in columns})
    said = properties.of(marker)
    assert [said[name] for name in properties.names] == columns
    flat = FlatProperties(head)
    folded = [name.casefold() for name in [*flat.texts, *flat.NUMBERS]]
    assert len(set(folded)) == len(folded) == len(flat.cells(marker))


@given(st.lists(st.sampled_from(["a", "b", None, 1.5, ""]) | st.text(max_size=3), max_size=50))
def test_a_packed_column_says_the_same(values):
    packed = pack(values)
    assert ([packed["words"][at] for at in packed["at"]] if isinstance(packed, dict) else packed) == values


@given(st.lists(st.text(min_size=1, max_size=30), max_size=30, unique=True))
def test_each_key_has_a_file_name_of_its_own_on_every_system(keys):
    names = FileNames()
    made = [names.name(key) for key in keys]
    assert len({name.lower() for name in made}) == len(made)
    for name in made:
        assert re.fullmatch(r"[\w.-]+\.png", name)
        assert not name.startswith(".")
        assert name.split(".")[0].lower() not in {"con", "nul", "prn", "aux", "com1", "lpt9"}


@given(st.text(max_size=300), st.floats(8, 200), st.floats(5, 100))
def test_a_label_stays_inside_its_cell(text, width, height):
    lines, size = fitted(text, width, height)
    assert 1 <= len(lines) <= max(1, int(height / (size * 1.25 * 25.4 / 72)))
    assert 5 <= size <= 11
    room = max(1, int(width / (size * 0.56 * 25.4 / 72)))
    assert all(len(line) <= room for line in lines)


@given(st.floats(-85, 85), st.floats(-180, 180))
def test_the_map_is_true_in_both_directions(lat, lon):
    x, y = mercator(lat, lon)
    north = mercator(min(85.0, lat + 0.0005), lon)[1] - mercator(min(85.0, lat + 0.0005) - 0.001, lon)[1]
    east = mercator(lat, lon + 0.0005)[0] - mercator(lat, lon - 0.0005)[0]
    here = min(85.0, lat + 0.0005) - 0.0005
    assert north * ground_m(here) == pytest.approx(111.195, rel=1e-3), "a thousandth of a degree"
    assert east * ground_m(lat) == pytest.approx(111.195 * ground_m(lat), rel=1e-3)
    assert x * lon >= 0, "on the same side"
    assert abs(y) <= 20_050_000


def test_every_ending_is_known_once_and_the_longest_one_counts():
    endings = [ending for known in FORMATS for ending in known.endings]
    assert len(set(endings)) == len(endings)
    for name in ("a.wkt.csv", "b.labels.pdf", "C.GeoJSON", "d.x.kmz"):
        assert name.lower().endswith(
            max((e for e in format_of(Path(name)).endings if name.lower().endswith(e)), key=len)
        )
    assert format_of(Path("a.wkt.csv")).name == "WKT"
    assert format_of(Path("b.labels.pdf")).name == "labels"
    with pytest.raises(ValueError, match=r"known are \.html"):
        format_of(Path("a.shp"))


DOCS = (Path(__file__).parent.parent / "docs" / "markers.md").read_text(encoding="utf-8")


def test_the_docs_list_every_ending_and_their_examples_are_settings():
    listed = set(re.findall(r"`(\.[a-z.]+)`", DOCS.partition("## What a marker says")[0]))
    assert listed == {ending for known in FORMATS for ending in known.endings}
    blocks = re.findall(r"```toml\n(.*?)```", DOCS, re.DOTALL)
    assert len(blocks) >= 5
    for block in blocks:
        found = tomllib.loads(block).get("markers", {})
        check_settings(found, Markers, "job")
    assert all(f"`{colour}`" in DOCS or colour in DOCS for colour in COLOURS)


@given(st.sampled_from(LANGUAGES))
def test_each_language_has_each_text_with_its_number(language):
    usual, found = texts_in("en"), texts_in(language)
    assert found.keys() == usual.keys()
    assert all(text.strip() and text.count("{}") == usual[name].count("{}") for name, text in found.items())
    same = [name for name in usual if found[name] == usual[name]]
    assert len(same) < 6 or language == "en", same


def test_own_texts_and_pictures_of_looks_are_checked(tmp_path):
    own = tmp_path / "own.toml"
    own.write_text('find = "Zoek"\n', encoding="utf-8")
    assert (own_texts(own)["find"], own_texts(own)["none"]) == ("Zoek", texts_in("en")["none"])
    own.write_text("find = 1\n")
    with pytest.raises(BadJob, match="must be a text"):
        own_texts(own)
    picture = tmp_path / "a.svg"
    picture.write_text("<svg xmlns='http://www.w3.org/2000/svg'/>")
    assert read_icon(picture).startswith("data:image/svg+xml;base64,")
    big = tmp_path / "big.png"
    big.write_bytes(b"x" * 100_001)
    os.mkfifo(tmp_path / "pipe.png")
    for name, why in (
        ("big.png", "100,000 bytes"),
        ("a.txt", "ends in"),
        ("none.gif", "can't be read"),
        ("pipe.png", "regular"),
    ):
        with pytest.raises(BadJob, match=why):
            read_icon(tmp_path / name)


def test_a_run_and_the_command_at_once_never_leave_a_part_of_a_file(drawn):
    rows = real_addresses(30)
    job = drawn(rows, MARKERS.format(title="T"))
    sizes = set()
    for round_ in range(3):
        write_csv(job.path("records.csv"), rows[: 10 + 10 * round_])
        both = [job.start("run", "job.toml"), job.start("markers", "job.toml")]
        while any(process.poll() is None for process in both):
            with suppress(FileNotFoundError):
                sizes.add(len(json.loads(job.path("m.geojson").read_text())["features"]))
        for process in both:
            _, said = process.communicate(timeout=60)
            assert process.returncode == 0 or "another" in said or "busy" in said.lower(), said
    assert sizes <= {10, 20, 30}, "each file that was seen was whole"
    job.run("run", "job.toml")
    features = json.loads(job.path("m.geojson").read_text())["features"]
    placed = job.rows("placed.csv")
    assert {one["id"]: one["geometry"]["coordinates"] for one in features} == {
        key: [float(row["Longitude"]), float(row["Latitude"])] for key, row in placed.items()
    }, "the markers are where the table says"


def test_markers_and_neighbours_of_positions_that_were_asked_about(example):
    job = example()
    for name in ("lamps.toml", "lamps.csv", "stand-in-geojson.toml", "stand-in-xml.toml"):
        job.path(name).write_bytes((DATA / name).read_bytes())
    job.run("run", "lamps.toml")
    job.run("markers", "lamps.toml", "--to", "lamps.csv.geojson", "--to", "lamps.html")
    with job.path("lamps.csv").open(newline="", encoding="utf-8") as file:
        keys = [row["Lamp"] for row in csv.DictReader(file)]
    features = json.loads(job.path("lamps.csv.geojson").read_text())["features"]
    assert set(keys) >= {one["id"] for one in features}
    assert len(features) == 20, "the four without a position have no marker"
    job.run("run", "job.toml")
    asked = job.service.requests
    rows = list(csv.DictReader(job.run("nearby", "lamps.toml", "--sites", "job.toml").stdout.splitlines()))
    assert {row["key"] for row in rows} == {one["id"] for one in features}
    assert all(row["nearest"].startswith("C-") and float(row["metres"]) >= 0 for row in rows)
    job.run("nearby", "lamps.toml", "--sites", "job.toml", "--into", "near.geojson")
    assert sorted(pyogrio.read_dataframe(job.path("near.geojson"))["nearest"]) == sorted(row["nearest"] for row in rows)
    assert job.service.requests == asked


cells = st.fixed_dictionaries(
    {"A": st.sampled_from(["x", "y", ""]), "B": st.sampled_from(["1", "2,5", "-3", "no", ""])}
)
whens = st.dictionaries(
    st.sampled_from(["A", "B", "answer.outcome"]),
    st.sampled_from(["x", "1", "placed", "doubtful"])
    | st.lists(st.sampled_from(["x", "y", "1", "placed"]), max_size=2),
    max_size=2,
)


@given(whens, cells, st.sampled_from(list(Outcome)))
def test_a_condition_holds_if_each_column_has_one_of_its_texts(when, record, outcome):
    answer = {"outcome": str(outcome)}
    told = {**record, "answer.outcome": str(outcome)}
    naive = all(told[name] in ([text] if isinstance(text, str) else text) for name, text in when.items())
    assert holds(when, record, answer) is naive


@given(st.lists(st.sampled_from(["10", "9", "-3", "2,5", "", "b", "B", "a"]), max_size=12), st.booleans())
def test_markers_are_ordered_by_numbers_then_texts_then_nothing(texts, turned):
    self = SimpleNamespace(_at={"C": 0}, _number_in=lambda text: read_number(text, ","))
    self._sorting = lambda at: Marking._sorting(self, at)
    found = Marking.in_order(self, [((text,), text) for text in texts], ["-C" if turned else "C"])
    ranked = sorted(texts, key=lambda t: (0, float(t.replace(",", "."))) if re.match(r"-?\d", t) else (1, t.casefold()) if t else (2, ""))  # fmt: skip
    ranks = [[*map(str.casefold, ranked)], [*map(str.casefold, ranked[::-1])]][turned]
    assert [*map(str.casefold, found)] == ranks


@pytest.mark.parametrize(
    "text",
    [
        "{{ record.__class__.__mro__ }}",
        "{{ ''.__class__.__base__.__subclasses__() }}",
        "{{ answer.reasons.__init__.__globals__ }}",
        "{% for n in range(10 ** 9) %}x{% endfor %}",
        "{{ 1 // 0 }}",
        "{{ record['none'] }}",
        "{{ record.update({}) }}",
        "{% include 'job.toml' %}",
    ],
)
def test_a_template_reaches_nothing_outside_and_fails_alone(text):
    template = MarkerTemplate("markers.name", text, ["A"])
    record, answer = {"A": "x"}, {"key": "K1", "reasons": "r"}
    assert template.text(record, answer, 1) == ""
    assert "K1" in template.problem
    assert (record, answer) == ({"A": "x"}, {"key": "K1", "reasons": "r"})
    first = template.problem
    template.text(record, {**answer, "key": "K2"}, 2)
    assert template.problem == first, "the first one is enough"


def test_templates_name_columns_the_answer_and_a_number():
    columns = ["A", "Door no.", "für"]
    record = dict(zip(columns, ["a<b>", "7", "ü"], strict=True))
    made = MarkerTemplate(
        "markers.name", "{{ A }}/{{ record['Door no.'] }}/{{ für }}/{{ answer.level }}/{{ number }}", columns
    )
    assert made.text(record, {"key": "k", "level": "segment"}, 12) == "a<b>/7/ü/segment/12", "each format escapes"
    with pytest.raises(BadJob, match="names B, C, which is no column"):
        MarkerTemplate("markers.name", "{{ B }}{{ C }}{{ A }}", columns)
    with pytest.raises(BadJob, match="not a valid template"):
        MarkerTemplate("markers.name", "{{ A", columns)
    long = MarkerTemplate("markers.name", "{{ A * 10000 }}", columns).text(record, {"key": "k"}, 1)
    assert len(long) <= 20_000
