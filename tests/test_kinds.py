"""Records in every other kind of file, in a stream and in a frame: the same answers, and nothing else changes."""

import asyncio
import csv
import gzip
import io
import json
import re
import struct
import zipfile
from xml.sax.saxutils import escape

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xlsxwriter
from conftest import real_addresses
from hypothesis import given
from hypothesis import strategies as st

import yellowtor
from yellowtor.contracts.table import LEAVE
from yellowtor.errors import BadSource, KeyRefused
from yellowtor.run.jobs.record_settings import Records
from yellowtor.tables.json_files.json_lines import JsonLinesTable
from yellowtor.tables.json_files.json_records import GeoJsonTable
from yellowtor.tables.json_files.json_text import edited, edits
from yellowtor.tables.parquet import ParquetTable
from yellowtor.tables.repeated_arrays import arrow_array
from yellowtor.tables.workbook.ods import splice_content
from yellowtor.tables.workbook.splice import SheetPage, Splice
from yellowtor.wiring.tables import file_table

COLUMNS = ("Latitude", "Longitude", "Outcome", "Confidence", "Level", "Matched address")
ODS = (
    '<?xml version="1.0" encoding="UTF-8"?><office:document-content xmlns:office="urn:oasis:names:tc:opendocument:'
    'xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:'
    'opendocument:xmlns:text:1.0"><office:body><office:spreadsheet><table:table table:name="A &amp; B">{}</table:table>'
    '<table:table table:name="Other"><table:table-row><table:table-cell/></table:table-row></table:table>'
    "</office:spreadsheet></office:body></office:document-content>"
)


def as_lines(rows, path):
    """JSON lines as people have them: members in members, odd spellings, a blank line, absent members."""
    lines = [
        f'{{"Id": "{key}", "at":{{"Street":{json.dumps(street)} ,"Town" : "{town}"}},"big": 1e400, "Postcode":"{code}"}}'
        for key, street, town, code in rows
    ]
    text = "\n\n".join(lines).encode()
    path.write_bytes(gzip.compress(text) if path.suffix == ".gz" else text)
    return lines


def as_array(rows, path):
    """A line for each record, between brackets."""
    lines = as_lines(rows, path)
    path.write_text("\ufeff [\n  " + ",\n  ".join(lines) + "\n]\n")
    return lines


def as_geojson(rows, path):
    features = [
        {"type": "Feature", "id": key, "properties": {"Street": street, "Town": town, "Postcode": code, "more": [1.10]},
         "geometry": {"type": "Point", "coordinates": [-28.5, 47.5]} if n == 3 else None}
        for n, (key, street, town, code) in enumerate(rows)
    ]  # fmt: skip
    path.write_text(json.dumps({"type": "FeatureCollection", "name": "x", "features": features}, indent=1))


def as_parquet(rows, path):
    frame = pd.DataFrame(rows, columns=["Id", "Street", "Town", "Postcode"])
    table = pa.Table.from_pandas(frame).append_column("Longitude", pa.nulls(len(frame)))
    table = table.append_column("when", pa.array([0] * len(frame), pa.timestamp("ns", "UTC")))
    pq.write_table(table, path, row_group_size=7, compression="zstd")


def as_ods(rows, path):
    """A sheet whose postcodes are numbers shown with zeros; its second record is hidden, its last has merged cells."""

    def cell(text, more=""):
        value = f'float" office:value="{int(text)}' if text[:1] == "0" else "string"
        shown = f' office:value-type="{value}"{more}><text:p>{escape(text)}</text:p></table:table-cell>'
        return f'<table:table-cell table:style-name="s"{shown}'

    lines = [["Id", "Street", "Town", "Postcode"], *rows[:-1]]
    body = "".join(
        f"<table:table-row{' table:visibility=' + repr('collapse') if line == rows[1] else ''}>"
        f"{''.join(map(cell, line))}</table:table-row>"
        for line in lines
    )
    wide = ' table:number-columns-spanned="2" table:number-rows-spanned="1"'
    *texts, town, _ = rows[-1]
    body += (
        f"<table:table-row>{''.join(map(cell, texts))}{cell(town, wide)}<table:covered-table-cell/></table:table-row>"
    )
    body += '<table:table-row table:number-rows-repeated="9000"><table:table-cell/></table:table-row>'
    with zipfile.ZipFile(path, "w") as package:
        package.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet", zipfile.ZIP_STORED)
        package.writestr("META-INF/manifest.xml", '<manifest xmlns="m"/>')
        package.writestr("content.xml", ODS.format(body))


def as_workbook(rows, path):
    """A sheet with a table on it, its texts shared between cells."""
    book = xlsxwriter.Workbook(path)
    sheet, header = book.add_worksheet(), ["Id", "Street", "Town", "Postcode", "Latitude"]
    sheet.add_table(0, 0, len(rows), 4, {"columns": [{"header": name} for name in header], "data": rows})
    sheet.set_column(3, 3, None, book.add_format({"num_format": "00000"}))
    book.close()


def as_text(rows, path):
    path.write_text("\n".join(",".join(f'"{cell}"' for cell in row) for row in [["Id", "Street", "Town"], *rows]))


DAMAGE = st.lists(
    st.tuples(
        st.floats(0, 1),
        st.sampled_from([0, 0, 1, 1, 7, 300]),
        st.binary(max_size=2) | st.sampled_from(
            [b'"', b"<", b">", b"&", b"{", b"]", b"null", b"1e999", b"\\ud800", b"<!--", b"</row>", b'r="A0"', b' t="s"', b's="99"', b"<f>1</f>"]
        ),
    ),
    min_size=1, max_size=3,
)  # fmt: skip
DAMAGED = {
    "xlsx": as_workbook,
    "ods": as_ods,
    "csv": as_text,
    "jsonl": as_lines,
    "json": as_array,
    "geojson": as_geojson,
    "parquet": as_parquet,
}


def hurt(content, damage):
    for where, taken, put in damage:
        at = round(where * len(content))
        content = content[:at] + put + content[at + taken :]
    return content


@given(st.sampled_from(sorted(DAMAGED)), DAMAGE, st.data())
def test_a_damaged_file_is_told_by_its_name_and_stays_as_it_is(tmp_path_factory, kind, damage, data):
    """Bytes are lost, changed or put in, in the file itself or, where it is a package, in one of its parts."""
    path = tmp_path_factory.mktemp("damaged") / f"records.{kind}"
    DAMAGED[kind]([list(row) for row in real_addresses(6)], path)
    if kind in {"xlsx", "ods"} and data.draw(st.integers(0, 3)):
        with zipfile.ZipFile(path) as package:
            parts = {name: package.read(name) for name in package.namelist()}
        part = data.draw(st.sampled_from(sorted(parts)))
        with zipfile.ZipFile(path, "w") as package:
            for name, content in parts.items():
                package.writestr(name, hurt(content, damage) if name == part else content)
    else:
        path.write_bytes(hurt(path.read_bytes(), damage))
    before, said = path.read_bytes(), None
    try:
        table = file_table(path, Records(file=path, key="Id"), answers={"Latitude": "latitude", "Outcome": "outcome"})
        table.check_target(None)
        rows = sum(map(len, table.batches()))
        table.rewrite(None, ["Latitude", "Outcome"], lambda batch: [[1.5] * len(batch), ["x"] * len(batch)])
    except BadSource as error:
        said = str(error)
    if said is not None:
        assert path.name in said
        assert path.read_bytes() == before
        return
    again = file_table(path, Records(file=path, key="Id"))
    assert sum(map(len, again.batches())) == rows, "what was written can be read"


def answers_in(path):
    """The answers in a file, by key, as texts."""
    name = path.name
    if name.endswith((".jsonl", ".jsonl.gz")):
        text = (gzip.decompress(path.read_bytes()) if name.endswith(".gz") else path.read_bytes()).decode()
        records = [json.loads(line) for line in text.splitlines() if line]
    elif name.endswith(".json"):
        records = json.loads(path.read_text("utf-8-sig"))
    elif name.endswith(".geojson"):
        records = []
        for feature in json.loads(path.read_text())["features"]:
            lon, lat = (feature["geometry"] or {"coordinates": ("", "")})["coordinates"]
            records.append({"Id": feature["id"], **feature["properties"], "Latitude": lat, "Longitude": lon})
    elif name.endswith(".parquet"):
        records = pq.read_table(path).to_pylist()
    else:
        from yellowtor.tables.workbook.workbook import WorkbookTable

        table = WorkbookTable(path, None)
        records = [dict(zip(table.header, row, strict=True)) for batch in table.batches() for row in batch]
    return {r["Id"]: [str("" if r.get(c) is None else r[c]) for c in COLUMNS] for r in records}


@pytest.mark.parametrize(
    ("ending", "make", "changes"),
    [
        ("jsonl", as_lines, [('"Street"', '"at.Street"'), ('"Town"', '"at.Town"')]),
        ("jsonl.gz", as_lines, [('"Street"', '"at.Street"'), ('"Town"', '"at.Town"')]),
        ("json", as_array, [('"Street"', '"at.Street"'), ('"Town"', '"at.Town"')]),
        ("geojson", as_geojson, [('"Id"', '"id"'), ('"Latitude"', '"geometry.latitude"'),
                                 ('"Longitude"', '"geometry.longitude"')]),
        ("parquet", as_parquet, []),
        ("ods", as_ods, []),
    ],
)  # fmt: skip
def test_every_kind_of_file_gets_the_answers_that_a_text_file_gets(small, ending, make, changes):
    rows = [*real_addresses(18), ["R18", 'The "Old" \\ Mill <&>', "Nowhere", ""]]
    job = small(rows)
    job.run("run", "job.toml")
    expected = {key: [row[c] for c in COLUMNS] for key, row in job.rows("placed.csv").items()}
    source, target = job.path(f"records.{ending}"), job.path(f"placed.{ending}")
    made = make(rows, source)
    if ending == "geojson":  # one of them has a point of its own
        expected["R3"] = ["47.5", "-28.5", "kept", "", "", ""]
    job.edit("job.toml", ("records.csv", source.name), ("placed.csv", target.name), *changes)
    first = job.summary()
    assert first["requests"]["sent"] == 0, "every answer is known from the text file"
    assert first["outcomes"]["placed"] >= 16
    assert answers_in(target) == expected
    again = target.read_bytes()
    assert job.summary()["scan"]["new"] == 0
    assert target.read_bytes() == again
    if ending == "json":
        kept = re.sub(r', "(?:Latitude|Outcome)":.*?(?=\},?\n)', "", target.read_text())
        assert kept == source.read_text(), "what was there keeps its spelling"
    if ending.startswith("jsonl"):
        raw = target.read_bytes()
        text = (gzip.decompress(raw) if ending.endswith("gz") else raw).decode()
        assert [line[: len(old) - 1] for line, old in zip(text.split("\n\n"), made, strict=True)] == [
            old[:-1] for old in made
        ], "what was there keeps its spelling, and blank lines their place"
    if ending == "parquet":
        before, after = pq.ParquetFile(source), pq.ParquetFile(target)
        assert after.schema_arrow.field("Longitude").type == pa.float64()
        assert after.read(["Id", "when"]).equals(before.read(["Id", "when"]))
        groups = [(f.metadata.num_row_groups, f.metadata.row_group(1).column(1).compression) for f in (before, after)]
        assert groups[0] == groups[1] == (3, "ZSTD")
    if ending == "ods":
        seen = job.run("run", "job.toml").stderr
        assert "1 blocks of merged cells below the header of the sheet 'A & B', the first at C20" in seen
        assert "1 hidden rows of the sheet 'A & B' are records like the others" in seen
        noted = job.path("noted.ods")
        with zipfile.ZipFile(source) as old, zipfile.ZipFile(noted, "w") as new:
            for name in old.namelist():
                new.writestr(name, old.read(name).replace(b"<office:body>", b"<!-- x --><office:body>"))
        before = noted.read_bytes()
        job.edit("job.toml", (source.name, noted.name))
        assert "its XML holds comments" in job.run("run", "job.toml", code=4).stderr
        assert noted.read_bytes() == before
        job.edit("job.toml", (noted.name, source.name))
    job.edit("job.toml", (f'to = "{target.name}"', "in_place = true"))
    job.run("run", "job.toml")
    assert answers_in(source) == expected
    assert len(list(job.folder.glob(f"records.2*.{ending}"))) == 1, "a dated backup"


def as_xlsb(rows, path):
    """A binary workbook (MS-XLSB 2.1.4: records of a number, a size and a body): whole numbers, and texts in cells."""

    def number(value):  # of a record, or of bytes: seven bits at a time
        return bytes([value]) if value < 0x80 else bytes([value & 0x7F | 0x80]) + number(value >> 7)

    def record(kind, body=b""):
        return number(kind) + number(len(body)) + body

    def wide(text):
        return struct.pack("<I", len(text)) + text.encode("utf-16-le")

    def cell(column, text):
        start = struct.pack("<II", column, 0)
        return (
            record(5, start + struct.pack("<d", int(text)))
            if text.isdigit() and column == 0
            else record(6, start + wide(text))
        )

    lines = [["Id", "Street", "Town", "Postcode"], *rows]
    sheet = record(129) + record(148, struct.pack("<IIII", 0, len(rows), 0, 3)) + record(145)
    for at, line in enumerate(lines):
        sheet += record(0, struct.pack("<IIHB", at, 0, 300, 0) + bytes(6)) + b"".join(map(cell, range(4), line))
    book = record(131) + record(143) + record(156, struct.pack("<II", 0, 1) + wide("rId1") + wide("Sites"))
    kind = "http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet"
    relation = f'<Relationship Id="rId1" Type="{kind}" Target="worksheets/sheet1.bin"/>'
    with zipfile.ZipFile(path, "w") as package:
        package.writestr("xl/worksheets/sheet1.bin", sheet + record(146) + record(130))
        package.writestr("xl/workbook.bin", book + record(144) + record(132))
        package.writestr("xl/_rels/workbook.bin.rels", f'<Relationships xmlns="r">{relation}</Relationships>')


def test_a_binary_workbook_is_read_and_its_answers_go_into_a_text_file(small):
    rows = [[str(at), *row[1:]] for at, row in enumerate(real_addresses(12))]
    job = small(rows)
    expected = job.summary()["outcomes"]
    as_xlsb(rows, job.path("records.xlsb"))
    job.edit("job.toml", ("records.csv", "records.xlsb"), ("placed.csv", "again.xlsb"))
    assert "can be read but not written back" in job.run("run", "job.toml", code=4).stderr
    job.edit("job.toml", ("again.xlsb", "again.csv"))
    summary = job.summary()
    assert (summary["outcomes"], summary["requests"]["sent"]) == (expected, 0)
    told = {key: {"Notes": "", **row} for key, row in job.rows("again.csv").items()}
    assert told == job.rows("placed.csv")


def test_records_stream_in_and_their_answers_stream_out(small):
    rows = real_addresses(5)
    job = small(rows)
    job.edit("job.toml", ('file = "records.csv"', 'file = "-"'), ('to = "placed.csv"', 'to = "-"'))
    for _ in range(2):
        with job.path("records.csv").open() as records:
            process = job.start("run", "job.toml", stdin=records)
            out, err = process.communicate(timeout=60)
        assert process.returncode == 0, err
        assert [row["Outcome"] for row in csv.DictReader(io.StringIO(out))] == ["placed"] * 5
    assert job.service.requests == 5
    refusals = {"--json": 'write.to = "-"', "--follow=1s": "can't be read again", "": "Standard input is empty"}
    for args, told in ((option.split(), told) for option, told in refusals.items()):
        with job.path("records.csv" if args else "empty").open("a+") as records:
            records.seek(0)
            process = job.start("run", "job.toml", *args, stdin=records)
            out, err = process.communicate(timeout=60)
        assert process.returncode in {3, 4}
        assert told in err
        assert not out or "error" in json.loads(out)


def test_a_frame_is_placed_with_the_same_ledger_and_promises_even_in_a_notebook(small, monkeypatch):
    rows = [*real_addresses(6), ["R6", "", "Nowhere", ""]]
    job = small(rows)
    for name, value in job.env.items():
        monkeypatch.setenv(name, value)
    frame = pd.DataFrame(rows, columns=["Id", "Street", "Town", "Postcode"], index=range(10, 17))
    frame["Latitude"], frame["Longitude"] = None, None
    untouched = frame.copy()
    placed = yellowtor.place(frame, job.path("job.toml"), at_most=4)
    assert placed["Outcome"].tolist() == ["placed"] * 4 + ["waiting"] * 2 + ["incomplete"]
    assert placed.attrs["yellowtor"]["requests"] == job.service.requests == 4
    assert placed["Latitude"].dtype == placed["Confidence"].dtype == "float64"
    pd.testing.assert_frame_equal(frame, untouched)

    async def in_a_notebook():
        return yellowtor.place(frame, job.path("job.toml"))

    whole = asyncio.run(in_a_notebook())
    assert whole["Outcome"].tolist() == ["placed"] * 6 + ["incomplete"]
    assert job.service.requests == 6
    job.run("run", "job.toml")
    assert job.service.requests == 6, "the command finds the frame's answers"
    assert [float(r["Latitude"] or "nan") for r in job.rows("placed.csv").values()] == pytest.approx(
        whole["Latitude"].tolist(), nan_ok=True
    )
    settings = {
        "ledger": str(job.path("ledger.sqlite")), "records": {"key": "Id", "only": "Town = 'Nowhere'"},
        "address": {"line": "{Street}, {Town}"}, "ask": {"service": str(job.path("stand-in.toml"))},
        "judge": {"tolerance_m": 50}, "write": {"columns": {"outcome": "How"}},
    }  # fmt: skip
    assert yellowtor.place(frame, settings)["How"].fillna("").tolist() == [""] * 6 + ["unplaced"]
    streets = pd.Series([*frame["Street"][:6], "half a character \ud83d"], frame.index, dtype=object)
    halved = frame.assign(Street=streets)
    assert yellowtor.place(halved, job.path("job.toml"))["Outcome"].tolist() == ["placed"] * 6 + ["unplaced"]
    for change, error, told in (
        (frame.rename(columns={"Town": "City"}), BadSource, "no column 'Town'"),
        (frame.assign(Id="R1"), BadSource, "occurs twice"),
    ):
        with pytest.raises(error, match=told):
            yellowtor.place(change, job.path("job.toml"))
    monkeypatch.setenv("YELLOWTOR_STANDIN_KEY", "wrong-key")
    with pytest.raises(KeyRefused):
        yellowtor.place(frame.assign(Street="1 Quay Row"), job.path("job.toml"))


@pytest.mark.parametrize(
    ("name", "text", "told"),
    [
        ("a.jsonl", '{"a": 1}\n{"a": ', "line 2"),
        ("a.jsonl", '{"a": 1}\n[1]\n', "line 2"),
        ("a.jsonl", "", "no header"),
        ("a.json", ' [{"a": 1}, 2]', "element 2 is not a JSON object, but 2"),
        ("a.json", "{}", "not a GeoJSON feature collection (RFC 7946), nor an array of records"),
        ("a.geojson", "{", "not JSON"),
        ("a.geojson", '{"type": "Feature"}', "not a GeoJSON feature collection"),
        ("a.geojson", '{"features": [{"type": "Feature", "geometry": {"type": "LineString"}}]}', "feature 1"),
        ("a.geojson", '{"features": [{"type": "Feature", "geometry": 5}]}', "feature 1 is not valid by RFC 7946"),
        ("a.geojson", '{"features": [{"type": "Feature", "properties": "x"}]}', "feature 1 is not valid by RFC 7946"),
        (
            "a.geojson",
            '{"features": [{"type": "Feature", "geometry": {"type": "Point", "coordinates": 5}}]}',
            "feature 1 is not valid",
        ),
        ("a.parquet", "PAR1", "not a Parquet file"),
    ],
)
def test_what_is_wrong_with_such_a_file_is_told_with_its_place(small, name, text, told):
    job = small([["1"]])
    job.edit("job.toml", ("records.csv", name), ("placed.csv", f"b.{name.split('.')[1]}"))
    assert "There is no file" in job.run("run", "job.toml", code=4).stderr
    job.path(name).write_text(text)
    assert told in job.run("run", "job.toml", code=4).stderr
    assert job.service.requests == 0


def test_an_answer_never_goes_through_what_is_no_object(tmp_path):
    path = tmp_path / "a.jsonl"
    path.write_text('{"id": 1, "at": "here"}\n')
    with pytest.raises(BadSource, match="'at' holds \"here\""):
        JsonLinesTable(path).rewrite(None, ["at.lat"], lambda _: [[1.5]])
    assert path.read_text() == '{"id": 1, "at": "here"}\n'
    path = tmp_path / "a.geojson"
    path.write_text('{"features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2,30]}}]}')
    table = GeoJsonTable(path)
    table.rewrite(None, ["geometry.latitude", "geometry.longitude"], lambda _: [[2.0], [1.0]])
    assert "[1,2,30]" in path.read_text(), "the same point is left as it is written"
    path.write_text(path.read_text().replace("[1,2,30]", "[1,2,31]"))
    with pytest.raises(BadSource, match="changed by another program"):
        table.rewrite(None, ["geometry.latitude", "geometry.longitude"], lambda _: [[2.0], [1.0]])
    assert table.refresh()
    table.rewrite(None, ["geometry.latitude", "geometry.longitude"], lambda _: [[2.0], [1.0]])
    assert "[1,2,31]" in path.read_text(), "what somebody else has written meanwhile is still there"
    table.rewrite(None, ["geometry.latitude", "geometry.longitude", "new"], lambda _: [[None], [None], ["x"]])
    assert json.loads(path.read_text())["features"] == [
        {"type": "Feature", "geometry": None, "properties": {"new": "x"}}
    ]


NAMES = st.text(max_size=4)
JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(NAMES, inner, max_size=3),
    max_leaves=6,
)


@given(st.dictionaries(NAMES, JSON, max_size=4), st.dictionaries(NAMES, JSON, max_size=3), st.booleans(), st.data())
def test_json_text_changes_where_it_is_to_and_nowhere_else(record, new, pretty, data):
    text = json.dumps(record, indent=data.draw(st.sampled_from([None, 1])), separators=(",", ":") if pretty else None)
    done = edits(text, 0, {(name,): value for name, value in new.items()})
    kept = {name: value for name, value in new.items() if value is not None or name in record}
    result = edited(text, done)
    assert json.loads(result) == record | kept
    if not any(record.get(name, LEAVE) != value for name, value in kept.items()):
        assert result == text
    if "!" in record:
        return
    deeper = edits(text, 0, {("!", "a", "b"): 1, ("!", "c"): None, ("!", "a", "d"): "x"})
    assert json.loads(edited(text, deeper)) == record | {"!": {"a": {"b": 1, "d": "x"}}}


@given(st.lists(st.tuples(st.none() | st.text(), st.none() | st.integers(-(2**63), 2**63 - 1), st.none() | st.floats(allow_nan=False),
                          st.none() | st.datetimes(), st.none() | st.lists(st.booleans(), max_size=2))),
       st.sampled_from(["snappy", "gzip", "none"]), st.integers(1, 4))  # fmt: skip
def test_parquet_that_is_written_back_unchanged_is_equal_cell_by_cell(tmp_path_factory, rows, codec, group):
    path = tmp_path_factory.mktemp("parquet") / "a.parquet"
    kinds = {"lat": pa.string(), "n": pa.int64(), "x": pa.float64(), "t": pa.timestamp("us"), "l": pa.list_(pa.bool_())}
    columns = zip(*rows, strict=True) if rows else [[]] * 5
    arrays = [pa.array(cells, kind) for cells, kind in zip(columns, kinds.values(), strict=True)]
    table = pa.table(arrays, names=list(kinds)).replace_schema_metadata({"who": "me"})
    pq.write_table(table, path, compression=codec, row_group_size=group)
    groups = pq.ParquetFile(path).metadata.num_row_groups
    read = ParquetTable(path, None, {"lat": "matched", "new": "latitude"})
    read.rewrite(None, ["lat", "new"], lambda batch: [[LEAVE] * len(batch), [None] * len(batch)])
    after = pq.read_table(path)
    assert after.drop_columns(["new"]).equals(table)
    assert after.schema.metadata[b"who"] == b"me"
    assert pq.ParquetFile(path).metadata.num_row_groups == groups


@given(st.lists(st.none() | st.floats()), st.lists(st.none() | st.text()), st.lists(st.integers(-(2**63), 2**63 - 1)))
def test_cells_become_the_arrays_that_arrow_makes_of_them(numbers, texts, places):
    kinds = {
        pa.float32(): numbers,
        pa.float64(): numbers,
        pa.string(): texts,
        pa.large_string(): texts,
        pa.int64(): places,
    }
    for kind, cells in kinds.items():
        found = arrow_array(cells, kind)
        found.validate(full=True)
        assert str(found.to_pylist()) == str(pa.array(cells, kind).to_pylist())  # nan is not equal to itself


def test_our_own_coordinates_are_known_again_in_parquet_of_single_precision(small):
    rows = real_addresses(8)
    job = small(rows)
    table = pa.table(dict(zip(["Id", "Street", "Town", "Postcode"], zip(*rows, strict=True), strict=True)))
    for name in ("Latitude", "Longitude"):
        table = table.append_column(name, pa.nulls(len(rows), pa.float32()))
    pq.write_table(table, job.path("records.parquet"))
    job.edit("job.toml", ("records.csv", "records.parquet"), ('to = "placed.csv"', "in_place = true\nbackup = false"))
    for _ in range(3):
        summary = job.summary()
        assert (summary["outcomes"]["placed"], summary["outcomes"]["kept"]) == (8, 0)
    assert pq.read_schema(job.path("records.parquet")).field("Latitude").type == pa.float32()


def grid_of(xml):
    """The cells of the first sheet that hold something, by (row from 1, column from 0), and their styles."""
    from lxml import etree

    space = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
    found, number = {}, 0
    for row in etree.fromstring(xml).iter(f"{space}table"):
        for line in row.iter(f"{space}table-row"):
            for _ in range(int(line.get(f"{space}number-rows-repeated", "1"))):
                number, column = number + 1, 0
                for cell in line:
                    for _ in range(int(cell.get(f"{space}number-columns-repeated", "1"))):
                        text = "\n".join(
                            "".join(" " if p.tag.endswith("}s") else "" for p in e)
                            + (e.text or "")
                            + "".join(c.tail or "" for c in e)
                            for e in cell
                        )
                        if text or cell.get(f"{space}style-name"):
                            found[number, column] = (text, cell.get(f"{space}style-name"))
                        column += 1
        return found
    raise AssertionError


@given(st.lists(st.tuples(st.integers(1, 3), st.lists(st.tuples(st.integers(1, 3), st.sampled_from(["", "x", "0412"])), min_size=1, max_size=3)), min_size=1, max_size=4), st.data())  # fmt: skip
def test_cells_and_rows_that_open_document_counts_together_are_parted_where_one_changes(runs, data):
    def cell(count, text):
        told = f' table:number-columns-repeated="{count}"' if count > 1 else ""
        return (
            f'<table:table-cell table:style-name="s"{told}>'
            + (f"<text:p>{text}</text:p>" if text else "")
            + "</table:table-cell>"
        )

    rows = "".join(
        f'<table:table-row table:number-rows-repeated="{count}">{"".join(cell(*c) for c in cells)}</table:table-row>'
        for count, cells in runs
    )
    xml = ODS.format(rows).encode()
    depth = sum(count for count, _ in runs)
    columns = sorted(data.draw(st.sets(st.integers(0, 11), min_size=1, max_size=3)))
    values = st.sampled_from(["new <&>", "a\nb", 1.5, None, LEAVE])
    changed = data.draw(st.dictionaries(st.integers(1, depth), st.tuples(*[values] * len(columns)), min_size=1))
    splice = Splice(0, columns, {}, [SheetPage([row], [[cell] for cell in cells]) for row, cells in changed.items()])
    before, after = grid_of(xml), grid_of(splice_content(xml, "A & B", splice))
    for (row, cells), column in ((pair, at) for pair in changed.items() for at in range(len(columns))):
        if cells[column] is not LEAVE:
            place = (row, columns[column])
            text, style = str("" if cells[column] is None else cells[column]), before.get(place, ("", None))[1]
            before[place] = (text, style)
    assert {k: v for k, v in before.items() if v != ("", None)} == {k: v for k, v in after.items() if v != ("", None)}
