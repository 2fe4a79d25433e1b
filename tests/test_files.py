"""No file is ever damaged: not by its form, nor by others who write it, nor by a job that names it twice."""

import csv
import datetime as dt
import gzip
import io
import itertools
import json
import os
import re
import shutil
import stat
import sys
import time
from unittest import mock

import pytest
import python_calamine as calamine
from conftest import PROGRAM, SABOTEUR, real_addresses, write_csv
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule, run_state_machine_as_test

from yellowtor.contracts.table import LEAVE, Repeated
from yellowtor.tables.text.delimited import DelimitedTable

ORDINARY = 65_534  # the number of the user `nobody`

CELLS = st.text(st.sampled_from("ab7é ,;\t'\"\r\n=-\ufeff"), max_size=5)
NAMES = st.sampled_from(["Id", "", " ", "Town ", "town", "Lat", "7", "é", "\ufeff"])


@st.composite
def delimited_files(draw):
    """The bytes of a file of delimited text, how an independent reader opens it, and its rows."""
    encoding = draw(st.sampled_from(["utf-8", "utf-16-le", "utf-16-be", "utf-32-be", "cp1252"]))
    mark = "" if encoding == "cp1252" else "\ufeff" if encoding != "utf-8" else draw(st.sampled_from(["", "\ufeff"]))
    delimiter = draw(st.sampled_from(",;\t"))
    width = draw(st.integers(2, 5))
    header = ["Key", *draw(st.lists(NAMES, min_size=width - 1, max_size=width - 1))]
    rows = draw(st.lists(st.lists(CELLS, min_size=width, max_size=width), min_size=1, max_size=5))
    text = io.StringIO()
    for row in [header, *rows]:
        fields = []
        for cell in row:
            must = any(mark in cell for mark in f'{delimiter}"\r\n')
            quoted = must or draw(st.booleans())
            fields.append('"' + cell.replace('"', '""') + '"' if quoted else cell)
        text.write(delimiter.join(fields) + draw(st.sampled_from(["\n", "\r\n", "\r"])))
        if row is not header and draw(st.booleans()):
            text.write("\n")  # a blank line
    start = f"sep={delimiter}\r\n" if draw(st.booleans()) else ""
    content = (mark + start + text.getvalue()).encode(encoding, errors="replace")
    return content, encoding, delimiter, bool(start)


def independent(path, encoding, delimiter, skip):
    text = path.read_bytes().decode(encoding).removeprefix("\ufeff")
    return list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter))[skip:]


@given(delimited_files(), st.booleans(), st.sampled_from([1 << 20, 8, 40, 90]), st.booleans())
def test_text_without_answers_keeps_its_bytes_and_with_answers_every_other_cell(
    tmp_path_factory, made, at_end, page, repeated
):
    """By lines and, in pages of few bytes, by columns."""
    content, encoding, delimiter, skip = made
    folder = tmp_path_factory.mktemp("text")
    source, copy = folder / "a.csv", folder / "b.csv"
    source.write_bytes(content)
    from yellowtor.tables.stated_dialect import StatedDialect

    counted, values = itertools.count(), []

    def answering(rows):
        new = [f'x{next(counted)}{delimiter}"' for _ in range(len(rows))]
        values.extend(new)
        return [Repeated(values, range(len(values) - len(new), len(values))) if repeated else new]

    with mock.patch.multiple("yellowtor.tables.text.pages", PAGE=page, SMALL=1):
        table = DelimitedTable(source, StatedDialect(encoding=encoding, delimiter=delimiter, quote='"'))
        table.rewrite(copy, ["Key", "New"][: 1 - at_end], lambda rows: [[LEAVE] * len(rows)] * (1 - at_end))
        assert copy.read_bytes() == content
        where = "New" if at_end else "Key"
        read = [list(row) for batch in table.batches() for row in batch]
        table.rewrite(copy, [where], answering)
    before, after = (independent(path, encoding, delimiter, skip) for path in (source, copy))
    records = [n for n, row in enumerate(before) if row][1:]
    assert read == [before[n] + [""] * (len(before[0]) - len(before[n])) for n in records]
    place = len(before[0]) if at_end else 0
    assert [after[n].pop(place) for n in records] == [f'x{n}{delimiter}"' for n in range(len(records))]
    assert not at_end or after[0].pop() == "New"
    for n in records:
        assert after[n] == (before[n] if at_end else before[n][1:])
    assert after[0] == before[0]


def wait_for(what):
    until = time.monotonic() + 60
    while not what():
        assert time.monotonic() < until
        time.sleep(0.02)


def table_of(job):
    with job.path("records.csv").open(newline="") as file:
        return list(csv.reader(file))


def plain_sheet(path, rows):
    import xlsxwriter

    with xlsxwriter.Workbook(path) as book:
        page = book.add_worksheet("S")
        for at, row in enumerate(rows):
            page.write_row(at, 0, row)


def in_place(job, *changes):
    job.edit("job.toml", ('to = "placed.csv"', "in_place = true\nbackup = false"), *changes)


@pytest.mark.parametrize("kind", ["csv", "xlsx"])
def test_columns_that_somebody_moves_during_a_run_keep_their_cells(small, kind):
    rows = real_addresses(6)
    job = small(rows, faults={"slow": 1}, slow_s=1.0)
    in_place(job)
    if kind == "xlsx":
        job.edit("job.toml", ('"records.csv"', '"records.xlsx"\nsheet = "S"'))
        plain_sheet(job.path("records.xlsx"), [["Id", "Street", "Town", "Postcode", "Latitude", "Longitude"], *rows])
    run = job.start("run", "job.toml")
    wait_for(lambda: job.service.requests)
    kept = ["Price", "Latitude", "Longitude", "Street", "Id", "", "Town", "Postcode"]
    moved = [kept, *([7 + n, "", "", row[1], row[0], "x", row[2], row[3]] for n, row in enumerate(rows))]
    if kind == "xlsx":
        plain_sheet(job.path("records.xlsx"), moved)
    else:
        with job.path("records.csv").open("w", newline="") as file:
            csv.writer(file).writerows(moved)
    _, err = run.communicate(timeout=60)
    assert run.returncode == 0, err
    book = calamine.CalamineWorkbook.from_path(str(job.path("records.xlsx"))) if kind == "xlsx" else None
    header, *found = book.get_sheet_by_index(0).to_python() if book else table_of(job)
    assert header[: len(kept)] == kept
    assert [(float(row[0]), row[5]) for row in found] == [(7 + n, "x") for n in range(6)]
    assert all(47 <= float(row[1]) <= 48 for row in found)


@pytest.mark.parametrize("kind", ["csv", "xlsx"])
def test_jobs_that_write_one_file_wait_for_each_other(small, kind):
    rows = real_addresses(80)
    job = small(rows)
    if kind == "xlsx":
        import xlsxwriter

        with xlsxwriter.Workbook(job.path("records.xlsx")) as book:
            page = book.add_worksheet("Cabinets")
            page.write_row(0, 0, ["Id", "Street", "Town", "Postcode"])
            for at, row in enumerate(rows, 1):
                page.write_row(at, 0, row)
        job.edit("job.toml", ("records.csv", "records.xlsx"))
    in_place(job)
    plain = job.path("job.toml").read_text()
    names = "ABCD"
    for name in names:
        mine = plain.replace('"ledger.sqlite"', f'"{name}.sqlite"').replace('"Outcome"', f'"Outcome {name}"')
        for column in ("Latitude", "Longitude", "Confidence", "Level", "Matched address"):
            mine = mine.replace(f'"{column}"', f'"{column} {name}"')
        job.path(f"{name}.toml").write_text(mine.replace("cabinets.", f"{name}."))
    runs = [job.start("run", f"{name}.toml") for name in names]
    ends = [(run.communicate(timeout=120)[1], run.returncode) for run in runs]
    assert [code for _, code in ends] == [0] * len(names), ends
    found = job.rows(f"records.{kind}")
    assert len(found) == 80
    for row in found.values():
        assert len({str(row[f"Latitude {name}"]) for name in names}) == 1
    assert not [path.name for path in job.folder.iterdir() if "yellowtor-" in path.name]


def contents(job):
    ledger = job.path("ledger.sqlite").resolve().name
    files = [path for path in job.folder.iterdir() if path.is_file() and not path.resolve().name.startswith(ledger)]
    return {path.name: path.read_bytes() for path in files}


@pytest.mark.parametrize(
    ("old", "new", "names"),
    [
        ('geojson = "cabinets.geojson"', 'geojson = "coast.geojson"', ["markers.geojson", "markers.under"]),
        ('geojson = "cabinets.geojson"', 'geojson = "./sub/../link.json"', ["markers.geojson", "ledger"]),
        ('page = "cabinets.html"', 'page = "job.html"', ["markers.page", "the job file"]),
        ('to = "placed.csv"', 'to = "key.csv"', ["write.to", "the file of the variable"]),
        ('to = "placed.csv"', 'to = "pipe.csv"', ["is a pipe"]),
        ('to = "placed.csv"', 'to = "placed.xlsx"', ["ends in .csv"]),
        ('to = "placed.csv"', 'to = "cabinets.toml"', ["ends in .csv"]),
        ('geojson = "cabinets.geojson"', 'geojson = "o.kml"', [".geojson or .json"]),
        ('page = "cabinets.html"', 'page = "job.toml"', [".html or .htm"]),
        ('ledger = "ledger.sqlite"', 'ledger = "theirs.sqlite"', ["database of another program"]),
    ],
)
def test_what_a_job_reads_is_never_what_it_writes(small, old, new, names):
    import sqlite3

    job = small(real_addresses(2))
    job.path("key.csv").write_text(job.service.key)
    job.edit("stand-in.toml", ('environment = "YELLOWTOR_STANDIN_KEY"', 'file = "key.csv"'))
    job.path("sub").mkdir()
    job.summary()
    for name, to in (("job.html", "job.toml"), ("link.json", "ledger.sqlite")):
        job.path(name).symlink_to(job.path(to))
    os.mkfifo(job.path("pipe.csv"))
    with sqlite3.connect(job.path("theirs.sqlite")) as theirs:
        theirs.execute("CREATE TABLE notes (text)")
    theirs.close()
    job.edit("job.toml", (old, new))
    before = contents(job)
    for command in ("check", "run"):
        done = job.run(command, "job.toml", code=None)
        assert done.returncode in {3, 4, 8}, done.stderr
        said = " ".join((done.stdout + done.stderr).split())
        assert all(name in said for name in names), said
    assert contents(job) == before


def test_a_copy_that_people_have_corrected_is_not_overwritten(small):
    rows = real_addresses(4)
    job = small(rows)
    job.summary()
    assert job.summary()["requests"]["sent"] == 0, "what nobody has touched is written again"
    copy = job.path("placed.csv")
    ours, street = copy.read_text(), rows[1][1]
    theirs = ours.replace(street, "1 Corrected Lane").replace("placed", "checked", 1)
    copy.write_text(theirs)
    with job.path("records.csv").open("a") as file:
        file.write("new,1 Nowhere Lane,Skelinstead\n")
    asked = job.service.requests
    told = job.run("run", "job.toml", code=4).stderr
    assert "3 cells that we did not write" in told
    for part in ("R1, Street: '1 Corrected Lane'", "Outcome: 'checked' (was 'placed')", "if_edited"):
        assert part in told
    assert (copy.read_text(), job.service.requests) == (theirs, asked)
    job.edit("job.toml", ('to = "placed.csv"', 'to = "placed.csv"\nif_edited = "backup"'))
    assert "kept as placed.2" in job.run("run", "job.toml").stderr
    (kept,) = job.folder.glob("placed.2*.csv")
    assert kept.read_text() == theirs
    assert "new,1 Nowhere Lane" in copy.read_text()
    job.edit("job.toml", ('\nif_edited = "backup"', ""))
    copy.write_text(copy.read_text().replace("\n", "\r\n"))  # saved by another program, and no cell changed
    assert "kept as placed.2" in job.run("run", "job.toml").stderr


def test_a_link_stays_and_what_it_leads_to_keeps_its_attributes(small, tmp_path):
    job = small(real_addresses(2))
    in_place(job)
    real, plain = tmp_path / "elsewhere" / "real.csv", job.path("records.csv")
    real.parent.mkdir()
    shutil.move(plain, real)
    plain.symlink_to(os.path.relpath(real, plain.parent))
    os.link(real, tmp_path / "other name")
    real.chmod(0o2640 if os.geteuid() == 0 else 0o640)
    if os.geteuid() == 0:
        os.chown(real, ORDINARY, ORDINARY)
        real.chmod(0o2640)
    os.setxattr(real, "user.origin", b"survey")
    before = real.stat()
    done = job.run("run", "job.toml")
    assert "another name (hard link)" in done.stderr
    after = real.stat()
    assert plain.is_symlink()
    assert b"placed" in real.read_bytes()
    assert (after.st_mode, after.st_uid, after.st_gid) == (before.st_mode, before.st_uid, before.st_gid)
    assert os.getxattr(real, "user.origin") == b"survey"


def test_what_is_made_from_a_private_source_is_private(small):
    job = small(real_addresses(2))
    job.path("records.csv").chmod(0o600)
    job.run("run", "job.toml")
    for name in ("placed.csv", "cabinets.geojson", "cabinets.html"):
        assert stat.S_IMODE(job.path(name).stat().st_mode) == 0o600, name


def test_coordinates_that_we_wrote_for_another_record_are_ours(small):
    rows = real_addresses(8)
    job = small(rows)
    in_place(job)
    job.summary()
    header, *found = table_of(job)
    lat = header.index("Latitude")
    right = {row[0]: row[lat] for row in found}
    for row, address in zip(found, reversed([row[1:4] for row in found]), strict=True):
        row[1:4] = address  # the address columns were sorted alone
    copied = [f"{found[0][0]}-copy", *found[1][1:4], *found[5][4:]]
    with job.path("records.csv").open("w", newline="") as file:
        csv.writer(file).writerows([header, *found, copied])
    summary = job.summary()
    assert (summary["outcomes"]["kept"], summary["requests"]["sent"]) == (0, 0)
    _, *now = table_of(job)
    by_address = {tuple(row[1:4]): right[f"R{7 - n}"] for n, row in enumerate(found)}
    assert [row[lat] for row in now] == [by_address[tuple(row[1:4])] for row in now]


def test_swapped_coordinates_are_told_by_where_the_others_lie(small):
    rows = [[*row, f"{47.5 + n / 100}", f"{-28.5 - n / 100}"] for n, row in enumerate(real_addresses(8))]
    rows[3][4:] = reversed(rows[3][4:])
    job = small(rows)
    text = job.path("job.toml").read_text()
    (line,) = [line for line in text.splitlines() if line.startswith("area = ")]
    job.path("job.toml").write_text(text.replace(f"{line}\n", ""))
    told = job.run("run", "job.toml").stderr
    assert re.search(r"1 kept record lies far .*: R3 11,\d\d\d km \(not if latitude and longitude were swapped\)", told)
    drafted = job.run("draft", "records.csv", "--service", "stand-in.toml").stdout
    (box,) = re.findall(r"# area = \[(.*)\]", drafted)
    west, south, east, north = map(float, box.split(","))
    assert (-29.0 < west < -28.57, 47.3 < south < 47.5, -28.5 < east < -28.3, 47.57 < north < 48.0) == (True,) * 4
    del rows[3]
    write_csv(job.path("records.csv"), rows)
    job.path("job.toml").write_text(text.replace(line, "area = [47.0, -29.6, 48.0, -27.4]"))
    job.path("placed.csv").unlink()
    assert "Is the area in its order" in job.run("run", "job.toml", code=3).stderr
    for wrong, why in (("[5, 1, 5, 2]", "area is empty"), ("[9, 54, 8, 55]", "are west and east swapped?")):
        job.path("job.toml").write_text(text.replace(line, f"area = {wrong}"))
        assert why in job.run("check", "job.toml", code=3).stdout
    job.path("job.toml").write_text(text)
    job.run("run", "job.toml")
    assert "lies outside judge.area" in job.run("pin", "job.toml", "R0", "--at", "12,13", "--why", "seen").stderr


VALUES = (
    st.none()
    | st.booleans()
    | st.integers(-(10**20), 10**20)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(max_size=4)
)
NESTED = st.recursive(
    VALUES,
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text("abé.", min_size=1, max_size=2), inner, max_size=3)
    ),
    max_leaves=5,
)
RECORDS = st.lists(st.dictionaries(st.sampled_from(["a", "b.c", "d"]), NESTED, max_size=3), min_size=1, max_size=4)


@given(RECORDS, st.sampled_from(["jsonl", "jsonl.gz", "json", "geojson"]), st.sampled_from([None, 1]), st.booleans())
def test_json_without_answers_keeps_its_bytes_and_with_answers_every_other_member(
    tmp_path_factory, made, kind, indent, high
):
    from yellowtor.tables.file_table import FileOptions
    from yellowtor.tables.registry import open_file

    path = tmp_path_factory.mktemp("json") / f"a.{kind}"
    records = [{"id": n, **record} for n, record in enumerate(made)]
    point = {"type": "Point", "coordinates": [1.5, 2.5, 77.25][: 2 + high]}
    features = [{"type": "Feature", "geometry": point, "properties": record, "bbox": [1, 2]} for record in records]
    plain = {"json": records, "geojson": {"type": "FeatureCollection", "features": features}}
    lines = "".join(json.dumps(record) + "\n" for record in records)
    text = json.dumps(plain[kind], indent=indent) if kind in plain else lines
    path.write_bytes(gzip.compress(text.encode()) if kind.endswith("gz") else text.encode())
    before, copy = path.read_bytes(), path.with_name(f"b.{kind}")
    table = open_file(path, FileOptions())
    table.rewrite(copy, ["Latitude"], lambda rows: [[LEAVE] * len(rows)])
    assert copy.read_bytes() == before
    where = ["geometry.latitude", "geometry.longitude"] if kind == "geojson" else ["Latitude", "id"]
    table.rewrite(copy, where, lambda rows: [[47.5] * len(rows), [-28.25] * len(rows)])
    after = gzip.decompress(copy.read_bytes()) if kind.endswith("gz") else copy.read_bytes()
    if kind == "geojson":
        for old, new in zip(features, json.loads(after)["features"], strict=True):
            assert new == old | {"geometry": point | {"coordinates": [-28.25, 47.5, *point["coordinates"][2:]]}}
        return
    found = json.loads(after) if kind == "json" else [json.loads(line) for line in after.splitlines()]
    assert found == [record | {"Latitude": 47.5, "id": -28.25} for record in records]


def arrow_columns():
    import pyarrow as pa

    far = dt.datetime(9999, 12, 31, 23, 59)  # noqa: DTZ001
    return {
        "text": pa.array(["a", None, "é"]), "whole": pa.array([1, None, 2**62]), "bytes": pa.array([b"\xff", None, b""]),
        "day": pa.array([dt.date(1, 1, 1), None, dt.date(9999, 12, 31)]), "nano": pa.array([1, None, 3], pa.timestamp("ns")),
        "late": pa.array([2**60, None, 5], pa.timestamp("us")), "far": pa.array([far, None, far], pa.timestamp("ms", "UTC")),
        "money": pa.array([1, None, 3], pa.decimal128(20, 3)), "list": pa.array([[1], None, []]), "half": pa.array([0.5, None, 2], pa.float32()),
        "word": pa.array(["x", "x", None]).dictionary_encode(), "record": pa.array([{"a": 1}, None, {"a": None}]),
        "record.a": pa.array(["x", "y", None]), "list.list": pa.array([1, 2, 3]),
    }  # fmt: skip


@given(
    st.sets(st.sampled_from(sorted(arrow_columns())), min_size=1),
    st.sampled_from(["1.0", "2.6"]),
    st.booleans(),
    st.booleans(),
)
def test_parquet_without_answers_keeps_its_bytes_and_with_answers_every_other_column(
    tmp_path_factory, names, version, old, words
):
    import pyarrow as pa
    import pyarrow.parquet as pq

    from yellowtor.tables.parquet import ParquetTable

    path = tmp_path_factory.mktemp("parquet") / "a.parquet"
    columns = {"Id": pa.array([1, 2, 3]), **{name: column for name, column in arrow_columns().items() if name in names}}
    if version == "1.0":  # which knows no nanoseconds
        columns.pop("nano", None)
    order = [pq.SortingColumn(0)]
    style = {
        "version": version,
        "use_dictionary": words,
        "sorting_columns": order,
        "compression": "gzip",
        "row_group_size": 2,
    }
    if old and not {"late", "far"} & names:
        style["use_deprecated_int96_timestamps"] = True
    pq.write_table(pa.table(columns), path, **style)
    copy, table = path.with_name("b.parquet"), ParquetTable(path, None, {"Latitude": "latitude", "Outcome": "outcome"})
    assert sum(len(batch) for batch in table.batches()) == 3
    for few, every in zip(table.batches_of({"Id", *names}), table.batches(), strict=True):
        for at in [at for at, name in enumerate(table.header) if name in names]:
            assert few.column(at) == every.column(at)
    table.rewrite(copy, [], lambda rows: [])
    assert copy.read_bytes() == path.read_bytes()
    table.rewrite(copy, ["Latitude", "Outcome"], lambda rows: [[47.5] * len(rows), ["placed"] * len(rows)])
    with pq.ParquetFile(path) as before, pq.ParquetFile(copy) as after:
        was, now = before.read(), after.read()
        assert now.drop_columns(["Latitude", "Outcome"]).equals(was)
        assert now["Latitude"].to_pylist() == [47.5] * 3
        assert (after.metadata.format_version, after.num_row_groups) == (version, 2)
        assert list(after.metadata.row_group(0).sorting_columns) == order
        for at in range(before.metadata.num_columns):
            one, other = (meta.metadata.row_group(0).column(at) for meta in (before, after))
            assert (one.physical_type, one.compression, one.has_dictionary_page) == (
                other.physical_type, other.compression, other.has_dictionary_page
            )  # fmt: skip


CELL = (
    st.none()
    | st.integers(-(2**40), 2**40)
    | st.floats(-1e9, 1e9)
    | st.booleans()
    | st.text("aé<&\n'\" 0", max_size=6)
    | st.dates(dt.date(1950, 1, 1)).map(lambda day: dt.datetime(day.year, day.month, day.day))  # noqa: DTZ001
)
FORMATS = [None, "00000", "0.00", "[$-407]00000", "[Red]0;-0", "yyyy-mm-dd", "@"]


@given(
    st.lists(st.lists(st.tuples(CELL, st.sampled_from(FORMATS)), min_size=3, max_size=3), min_size=1, max_size=4),
    st.integers(0, 3),
    st.integers(0, 2),
)
def test_a_sheet_without_answers_keeps_its_bytes_and_with_answers_every_other_cell(tmp_path_factory, rows, down, right):
    import openpyxl
    import xlsxwriter

    from yellowtor.tables.workbook.workbook import WorkbookTable

    path = tmp_path_factory.mktemp("sheet") / "a.xlsx"
    with xlsxwriter.Workbook(path) as book:
        formats = {code: book.add_format({"num_format": code} if code else {}) for code in FORMATS}
        page = book.add_worksheet("S")
        page.write_row(down, right, ["Key", "B", "C"])
        for at, row in enumerate(rows, down + 1):
            page.write(at, right, f"k{at}")
            for column, (cell, code) in enumerate(row, right + 1):
                if isinstance(cell, str):
                    page.write_string(at, column, cell, formats[code])
                elif isinstance(cell, dt.datetime):
                    page.write_datetime(at, column, cell, formats["yyyy-mm-dd"])
                else:  # calendars end in the year 9999
                    page.write(at, column, cell, formats[None if code == "yyyy-mm-dd" else code])
    copy, table = path.with_name("b.xlsx"), WorkbookTable(path, "S", answers={"B": "latitude"})
    table.rewrite(None, ["B"], lambda batch: [[LEAVE] * len(batch)])
    before = path.read_bytes()
    table.rewrite(None, ["B"], lambda batch: [[LEAVE] * len(batch)])
    assert path.read_bytes() == before
    table.rewrite(copy, ["B"], lambda batch: [[47.5] * len(batch)])
    old, new = (openpyxl.load_workbook(io.BytesIO(name.read_bytes()))["S"] for name in (path, copy))
    assert old.dimensions == new.dimensions
    for line in old.iter_rows():
        for cell in line:
            there = new[cell.coordinate]
            answered = cell.row > down + 1 and cell.column == right + 2
            assert there.number_format == cell.number_format
            assert there.value == (47.5 if answered else cell.value) or (answered and "yyyy" in cell.number_format)


class Meanwhile(RuleBasedStateMachine):
    """Two jobs on one file, two people who edit it, kills at the worst moments: what people wrote is always there."""

    def __init__(self, job):
        super().__init__()
        self.job, self.notes, self.count = job, {}, 0
        for row in real_addresses(3):
            self._put(row)
        self._save(["Id", "Street", "Town", "Postcode", "Notes"], [[*row, ""] for row in real_addresses(3)])
        for name in ("A.sqlite", "B.sqlite"):
            for ending in ("", "-wal", "-shm"):
                job.path(name + ending).unlink(missing_ok=True)

    def _put(self, row):
        self.notes[row[0]] = ""

    def _save(self, header, rows):
        with job_file(self.job).open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows([header, *rows])

    def _edit(self, change):
        header, *rows = table_of(self.job)
        change(header, rows)
        self._save(header, rows)

    @rule(at=st.integers(0, 50))
    def note(self, at):
        def change(header, rows):
            row = rows[at % len(rows)]
            self.count += 1
            row[header.index("Notes")] = self.notes[row[0]] = f"note {self.count}"

        self._edit(change)

    @rule()
    def add(self):
        def change(header, rows):
            self.count += 1
            row = real_addresses(9)[self.count % 9]
            self.notes[f"N{self.count}"] = ""
            cells = {"Id": f"N{self.count}", "Street": row[1], "Town": row[2], "Postcode": row[3]}
            rows.append([cells.get(name, "") for name in header])

        self._edit(change)

    @rule(at=st.integers(0, 9))
    def move(self, at):
        def change(header, rows):
            at_ = 1 + at % (len(header) - 1)
            for row in (header, *rows):
                row.append(row.pop(at_))

        self._edit(change)

    @rule(name=st.sampled_from("AB"))
    def run(self, name):
        self.job.run("run", f"{name}.toml")

    @rule(
        name=st.sampled_from("AB"),
        point=st.sampled_from(["before the rename", "after the rename"]),
        nth=st.integers(1, 3),
    )
    def kill(self, name, point, nth):
        self.job.start(point, nth, "run", f"{name}.toml", program=SABOTEUR).communicate(timeout=60)

    @rule()
    def both(self):
        runs = [self.job.start("run", f"{name}.toml") for name in "AB"]
        assert [(run.communicate(timeout=60)[1], run.returncode)[1] for run in runs] == [0, 0]

    @invariant()
    def nothing_is_lost(self):
        header, *rows = table_of(self.job)
        assert {row[0]: row[header.index("Notes")] for row in rows} == self.notes
        assert all(len(row) == len(header) for row in rows)
        for name in "AB":
            if f"Latitude {name}" in header:
                at = header.index(f"Latitude {name}")
                assert all(not row[at] or 47 <= float(row[at]) <= 48 for row in rows)


def job_file(job):
    return job.path("records.csv")


def test_two_jobs_two_editors_and_kills_lose_nothing_that_a_person_wrote(small):
    job = small(real_addresses(3))
    in_place(job)
    plain = job.path("job.toml").read_text()
    for name in "AB":
        mine = plain.replace('"ledger.sqlite"', f'"{name}.sqlite"').replace("cabinets.", f"{name}.")
        for column in ("Outcome", "Latitude", "Longitude", "Confidence", "Level", "Matched address"):
            mine = mine.replace(f'"{column}"', f'"{column} {name}"')
        job.path(f"{name}.toml").write_text(mine)
    run_state_machine_as_test(
        lambda: Meanwhile(job), settings=settings(max_examples=1, stateful_step_count=10, deadline=None)
    )


EDITED_AS_IT_IS_READ = """
import csv
from yellowtor.cli.main import main
from yellowtor.tables.text import delimited
table, read, times = delimited.DelimitedTable, delimited.DelimitedTable.batches, []
def batches(self):
    if not times:
        times.append(1)
        with self.path.open(newline="", encoding="utf-8") as file:
            rows = [["more", *row[::-1]] for row in csv.reader(file)]
        with self.path.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(rows)
    return read(self)
table.batches = batches
main()
"""


def test_a_file_that_is_changed_between_its_header_and_its_rows_is_read_again(small):
    job = small(real_addresses(3))
    in_place(job)
    process = job.start("run", "job.toml", program=[sys.executable, "-c", EDITED_AS_IT_IS_READ])
    assert (process.communicate(timeout=60)[1].count("placed"), process.returncode) == (1, 0)
    header, *rows = table_of(job)
    assert header[0] == "more"
    assert [row[header.index("Outcome")] for row in rows] == ["placed"] * 3
    assert job.service.requests == 3, "and nothing was asked about cells of another column"


def as_ordinary(job, *args):
    """Run the built program as a user who is not root: nobody, who may read everything and write what is his."""
    if os.geteuid():
        return job.run(*args, code=None)
    caps = "-all,+dac_read_search"
    user = ["setpriv", f"--reuid={ORDINARY}", f"--regid={ORDINARY}", "--clear-groups"]
    program = [*user, f"--inh-caps={caps}", f"--ambient-caps={caps}", *PROGRAM]
    return job.run(*args, code=None, program=program)


def test_an_ordinary_user_is_told_before_asking_what_can_not_be_written_or_kept(small):
    job = small(real_addresses(2))
    job.env["HOME"] = str(job.folder)
    locked, root = job.path("locked"), os.geteuid() == 0
    locked.mkdir()
    if root:
        for path in (job.folder.parent, job.folder, *job.folder.rglob("*")):
            os.chown(path, ORDINARY, ORDINARY)
        os.chown(job.path("records.csv"), 0, 0)
    locked.chmod(0o555)
    for name in ("placed.csv", "cabinets.geojson", "cabinets.html"):
        job.edit("job.toml", (f'"{name}"', f'"locked/{name}"'))
        done = as_ordinary(job, "run", "job.toml")
        assert done.returncode == 4, done.stderr
        assert "can't be written: Permission denied" in done.stderr
        job.edit("job.toml", (f'"locked/{name}"', f'"{name}"'))
    assert job.service.requests == 0
    in_place(job)
    done = as_ordinary(job, "run", "job.toml")
    assert done.returncode == 0, done.stderr
    assert ("records.csv can't keep its owner" in done.stderr) == root
    assert job.rows("records.csv")["R0"]["Outcome"] == "placed"
    locked.chmod(0o755)


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (('"records.csv"', '"pipe.csv"'), "is a pipe: say file"),
        (('"records.csv"', '"pipe.json"'), "is a pipe: say file"),
        (('"records.csv"', '"pipe.xlsx"'), "is a pipe: say file"),
        (('"records.csv"', '"pipe.parquet"'), "is a pipe: say file"),
        (('"coast.geojson"', '"pipe.json"'), "is not a regular file"),
        (('"coast.geojson"', '"wrong.geojson"'), "feature 2 has coordinates that are not longitude and latitude"),
        (("[judge]", f"[judge.{'a.' * 100_000}b]\n[judge]"), "nested too deep"),
        (('"records.csv"', '"deep.json"'), "nested too deep"),
    ],
)
def test_what_would_hang_or_fail_later_is_told_at_once(small, change, told):
    job = small(real_addresses(2))
    for ending in ("csv", "json", "xlsx", "parquet"):
        os.mkfifo(job.path(f"pipe.{ending}"))
    point, line = (
        {"type": kind, "coordinates": at} for kind, at in (("Point", [1, 2]), ("LineString", [[1, 2], [3, 91]]))
    )
    features = [{"type": "Feature", "properties": {}, "geometry": geometry} for geometry in (point, line)]
    job.path("wrong.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    job.path("deep.json").write_text('[{"Id": ' + "[" * 100_000 + "]" * 100_000 + "}]")
    job.edit("job.toml", change)
    for command in ("check", "run"):
        done = job.run(command, "job.toml", *["--json"][: command == "run"], code=None)
        assert done.returncode in {3, 4}
        assert told in " ".join((done.stdout + done.stderr).split())
    assert told in json.loads(done.stdout)["error"]["message"]
    assert job.service.requests == 0


def test_a_file_that_another_machine_writes_is_left_to_it(small):
    job = small(real_addresses(2))
    lock = job.path(".placed.csv.yellowtor-lock")
    lock.write_text(json.dumps({"host": "another.example", "process": 7, "since": "2026-01-02T03:04:05+0000"}))
    told = job.run("run", "job.toml", code=9).stderr
    assert "another machine (another.example, process 7, since 2026-01-02T03:04:05+0000)" in told
    assert f"delete {lock}" in told
    assert (job.service.requests, job.path("placed.csv").exists()) == (0, False)
    lock.write_text(lock.read_text().replace("another.example", os.uname().nodename))
    assert job.run("run", "job.toml").returncode == 0, "a run here that was killed has left it"
    assert not lock.exists()


def test_markers_that_can_not_be_written_any_more_do_not_keep_the_table_from_being_written(small):
    job = small(real_addresses(3), faults={"slow": 1}, slow_s=0.7)
    run = job.start("run", "job.toml")
    wait_for(lambda: job.service.requests)
    job.path("cabinets.geojson").mkdir()
    _, err = run.communicate(timeout=60)
    assert run.returncode == 4, err
    assert "cabinets.geojson is a folder" in err
    assert {row["Outcome"] for row in job.rows("placed.csv").values()} == {"placed"}
    assert job.path("cabinets.html").exists()


def test_a_copy_that_people_change_while_the_run_asks_is_kept(small):
    rows = real_addresses(4)
    job = small(rows[:3], faults={"slow": 1}, slow_s=1.0)
    job.run("run", "job.toml")
    write_csv(job.path("records.csv"), [["R0", "2 Elsewhere Lane", "Skelinstead", ""], *rows[1:]])
    asked = job.service.requests
    run = job.start("run", "job.toml")
    wait_for(lambda: job.service.requests > asked)
    theirs = job.path("placed.csv").read_text().replace(rows[2][1], "3 Corrected Lane")
    job.path("placed.csv").write_text(theirs)
    _, err = run.communicate(timeout=60)
    assert run.returncode == 0, err
    (kept,) = job.folder.glob("placed.2*.csv")
    assert kept.read_text() == theirs
    assert f"is kept as {kept.name}" in err


def test_edits_of_the_source_are_no_edits_of_the_copy(small):
    rows = real_addresses(4)
    job = small(rows)
    job.run("run", "job.toml")
    copy = job.path("placed.csv")
    copy.write_text(copy.read_text())  # saved by another program, with other line ends
    write_csv(job.path("records.csv"), [["R0", "2 Elsewhere Lane", "Skelinstead", ""], *rows[1:]])
    assert "kept as placed.2" in job.run("run", "job.toml").stderr
    job.edit("job.toml", ("ledger.sqlite", "other.sqlite"))
    assert "kept as placed.2" in job.run("run", "job.toml").stderr, "its source's columns are as they were"
    job.edit("job.toml", ("other.sqlite", "third.sqlite"))
    copy.write_text(copy.read_text().replace(rows[1][1], "1 Corrected Lane", 1))
    assert "R1, Street: '1 Corrected Lane'" in job.run("run", "job.toml", code=4).stderr
