"""Writing back never damages a table: packages compared member by member, cells compared one by one."""

import csv
import gzip
import json
import re
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest
from conftest import DATA, real_addresses
from hypothesis import assume, given
from hypothesis import strategies as st

from yellowtor.contracts.table import LEAVE
from yellowtor.errors import BadSource
from yellowtor.tables.text.delimited import DelimitedTable
from yellowtor.tables.workbook.cell_range import Block, letters, parse_block
from yellowtor.tables.workbook.number_formats import fill_zeros, is_of_zeros
from yellowtor.tables.workbook.read_ahead import read_ahead
from yellowtor.tables.workbook.sheet_text import SheetText, Unsafe
from yellowtor.tables.workbook.splice import SheetPage, Splice, splice_sheet
from yellowtor.tables.workbook.workbook import WorkbookTable

SHEET = "xl/worksheets/sheet1.xml"
OURS = ("Latitude", "Longitude", "Outcome", "Confidence", "Level", "Matched address")


def members(path):
    with zipfile.ZipFile(path) as package:
        return {
            entry.filename: (
                package.read(entry), entry.date_time, entry.compress_type, entry.compress_size, entry.flag_bits
            )
            for entry in package.infolist()
        }  # fmt: skip


RELATED = "http://schemas.microsoft.com/office/2007/relationships/"
MORE_PARTS = {
    "xl/pivotTables/pivotTable1.xml": '<pivotTableDefinition name="By town" cacheId="1"/>',
    "xl/pivotCache/pivotCacheDefinition1.xml": '<pivotCacheDefinition recordCount="259"><!-- kept --></pivotCacheDefinition>',
    "xl/pivotCache/pivotCacheRecords1.xml": "<pivotCacheRecords><r><s v='Skelinstead'/></r></pivotCacheRecords>",
    "xl/slicers/slicer1.xml": '<slicers><slicer name="Town" cache="Slicer_Town"/></slicers>',
    "xl/slicerCaches/slicerCache1.xml": '<slicerCacheDefinition name="Slicer_Town"/>',
    "xl/threadedComments/threadedComment1.xml": "<ThreadedComments/>",
    "xl/ctrlProps/ctrlProp1.xml": '<formControlPr objectType="Button"/>',
    "xl/vbaProject.bin": bytes(range(256)) * 40,
    "customXml/item1.xml": "<anything> with  blanks </anything>",
}


class Stream:
    """A file that is only written forward, as what goes over a wire is: a package's sizes stand behind its parts."""

    def __init__(self, file):
        self.write, self.flush = file.write, file.flush


def burdened(path):
    """A workbook with what offices put into theirs beside cells: pivots, slicers, macros, form controls, comments."""
    with zipfile.ZipFile(path) as package:
        kept = {entry: package.read(entry) for entry in package.infolist()}
    with path.open("wb") as file, zipfile.ZipFile(Stream(file), "w") as package:
        for entry, content in kept.items():
            data = content
            if entry.filename == "xl/worksheets/_rels/sheet1.xml.rels":
                links = "".join(
                    f'<Relationship Id="x{n}" Type="{RELATED}{name.split("/")[-1][:-5]}" Target="/{name}"/>'
                    for n, name in enumerate(MORE_PARTS)
                )
                data = data.replace(b"</Relationships>", links.encode() + b"</Relationships>")
            if entry.filename == SHEET:
                slicers = (
                    '<ext uri="{A8765BA9}"><x14:slicerList><x14:slicer r:id="x3"/></x14:slicerList></ext></extLst>'
                )
                data = data.replace(b"</extLst>", slicers.encode())
            package.writestr(entry, data)
        for n, (name, data) in enumerate(MORE_PARTS.items()):
            package.writestr(zipfile.ZipInfo(name, (2019, 5, 4, 3, 2, 2 * n)), data, n % 2 * zipfile.ZIP_DEFLATED)


@pytest.mark.parametrize("burden", [False, True])
def test_only_our_cells_change_and_every_other_member_stays_byte_identical(example, burden):
    job = example()
    if burden:
        burdened(job.path("cabinets.xlsx"))
    job.run("run", "job.toml")
    before, after = members(job.path("cabinets.xlsx")), members(job.path("cabinets-placed.xlsx"))
    assert set(before) >= set(MORE_PARTS) or not burden
    assert list(before) == list(after)
    assert [name for name in before if before[name] != after[name]] == [SHEET, "xl/workbook.xml"]
    book = before["xl/workbook.xml"][0].replace(b"!$A$1:$J$", b"!$A$1:$N$")  # the filter has the new columns, too
    assert after["xl/workbook.xml"][0] == book
    assert len(before) > 20, "a lived-in workbook: chart, picture, comment, table"
    old, new = before[SHEET][0].decode(), after[SHEET][0].decode()
    rest = old[old.index("</sheetData>") :].replace('<autoFilter ref="A1:J260"/>', '<autoFilter ref="A1:N260"/>')
    assert rest == new[new.index("</sheetData>") :], "x14 formats and drop-downs stay"
    for piece in ("x14:dataValidation ", "x14:cfRule", "DATE(2026,11,2)-G2</f><v>"):
        assert piece in new
    rows, were = job.rows(), job.rows("cabinets.xlsx")
    for key, row in were.items():
        kept = [c for c in row if c not in OURS[:2] or row[c] != ""]
        assert {c: rows[key][c] for c in kept} == {c: row[c] for c in kept}
        assert rows[key]["Access notes"] == row["Access notes"], "what looks like a formula stays text"
    placed = [r for r in rows.values() if r["Outcome"] == "placed"]
    assert all(type(r["Latitude"]) is float and type(r["Confidence"]) is float for r in placed)
    assert all(r["Postcode"].startswith("00") and len(r["Postcode"]) == 5 for r in placed if r["Postcode"])


def test_libreoffice_opens_what_was_written(example, tmp_path):
    soffice = shutil.which("soffice")
    if not soffice:
        pytest.skip("LibreOffice is not on this machine")
    job = example()
    job.run("run", "job.toml")
    command = [
        soffice,
        "--headless",
        f"-env:UserInstallation=file://{tmp_path}/office",
        "--convert-to",
        "csv:Text - txt - csv (StarCalc):44,34,76",
    ]
    done = subprocess.run(
        [*command, "--outdir", str(tmp_path), str(job.path("cabinets-placed.xlsx"))],
        capture_output=True,
        text=True,
        timeout=120,
    )
    with (tmp_path / "cabinets-placed.csv").open(newline="", encoding="utf-8") as file:
        converted = {row["Id"]: row for row in csv.DictReader(file)}
    rows = job.rows()
    assert converted.keys() == rows.keys(), done.stderr
    for key, row in rows.items():
        assert converted[key]["Outcome"] == row["Outcome"]
        assert converted[key]["Matched address"] == row["Matched address"]
        assert converted[key]["Access notes"] == row["Access notes"]


def test_text_of_the_service_never_becomes_a_formula(tmp_path):
    shutil.copy(DATA / "cabinets.xlsx", tmp_path / "in.xlsx")
    table = WorkbookTable(tmp_path / "in.xlsx", "Cabinets")
    texts = ["=1+1", "+4", "@a", '<b>&"\x07 x', "  two  "]
    table.rewrite(tmp_path / "out.xlsx", ["New"], lambda batch: [[texts[i % 5] for i, _ in enumerate(batch)]])
    written = next(WorkbookTable(tmp_path / "out.xlsx", "Cabinets").batches())
    assert [row[-1] for row in written[:5]] == ["=1+1", "+4", "@a", '<b>&" x', "  two  "]
    assert b"<f>1+1" not in members(tmp_path / "out.xlsx")[SHEET][0]
    (tmp_path / "in.csv").write_bytes(b"Id\n1\n")
    DelimitedTable(tmp_path / "in.csv").rewrite(tmp_path / "out.csv", ["New"], lambda _: [["=1+1"]])
    assert (tmp_path / "out.csv").read_bytes() == b"Id,New\n1,'=1+1\n", "line ends stay what they were"


def splice(xml, **change):
    change = {"header_row": 1, "columns": [2], "new": {2: "New"}} | change
    return b"".join(splice_sheet(SheetText(xml.encode()), Splice(**change))).decode()


def test_sheets_of_other_producers_are_spliced_too():
    head = '<x:worksheet xmlns:x="u"><x:dimension ref="A1:B3"/><x:sheetData>'
    xml = head + '<x:row><x:c t="s"><x:v>0</x:v></x:c></x:row><x:row r="3" spans="1:2"/></x:sheetData></x:worksheet>'
    done = splice(xml, pages=[SheetPage([3], [[1.5]])])
    assert '<x:dimension ref="A1:C3"/>' in done
    assert '<x:c r="C1" t="inlineStr"><x:is><x:t xml:space="preserve">New</x:t></x:is></x:c></x:row>' in done
    assert '<x:row r="3" spans="1:3"><x:c r="C3"><x:v>1.5</x:v></x:c></x:row>' in done
    plain = "<worksheet><sheetData>{}</sheetData></worksheet>"
    kept = plain.format('<row r="1"><c r="A1" s=\'7\'/><c r="D1" s="8"><v>4</v></c></row>')
    assert splice(kept, pages=[]).count('<c r="C1" s="8" t=') == 1
    assert splice(kept, new={}, pages=[SheetPage([1], [[LEAVE]])]) == kept
    spaced = plain.format('<row r="1"/><row r="2"> <c r="A2"/> </row>')
    assert splice(spaced, columns=[], new={}, pages=[SheetPage([1, 2], [])]) == spaced, "no column, no change"
    for bad in (
        '<row r="1"><c r="C1"><f>A1</f></c></row>',
        "<!-- note --><row/>",
        '<row r="9"/>',
        '<row r="2"/><row r="1"/>',
        '<row r="1"><c r="A1"/>',
    ):
        with pytest.raises(Unsafe):
            splice(plain.format(bad), pages=[SheetPage([1], [[1.0]])])


CELL = st.text(st.sampled_from("aZ09 ,;|\t\"'=.-\nØé€ß"), max_size=6)
STYLES = {"delimiter": ",;\t|", "lineterminator": ["\n", "\r\n"], "quoting": [csv.QUOTE_MINIMAL, csv.QUOTE_ALL]}


@given(
    st.lists(st.lists(CELL, min_size=3, max_size=3), min_size=1, max_size=8),
    st.fixed_dictionaries({name: st.sampled_from(values) for name, values in STYLES.items()}),
    st.sampled_from(["utf-8", "utf-8-sig", "cp1252", "utf-16"]), st.booleans(),
)  # fmt: skip
def test_text_that_is_written_back_unchanged_is_the_same_byte_for_byte(tmp_path_factory, rows, style, encoding, packed):
    path = tmp_path_factory.mktemp("csv") / ("in.csv.gz" if packed else "in.csv")
    opened = gzip.open if packed else open
    with opened(path, "wt", newline="", encoding=encoding) as file:
        csv.writer(file, **style).writerows([["a", "b", "c"], *rows])
    with opened(path, "rb") as file:
        before = file.read()
    DelimitedTable(path).rewrite(path, ["b"], lambda batch: [[LEAVE] * len(batch)])
    with opened(path, "rb") as file:
        assert file.read() == before
    DelimitedTable(path).rewrite(path, ["d"], lambda batch: [[None] * len(batch)])
    with opened(path, "rt", newline="", encoding=encoding) as file:
        assert list(csv.reader(file, delimiter=style["delimiter"])) == [["a", "b", "c", "d"], *[[*r, ""] for r in rows]]


@pytest.mark.parametrize(
    ("encoding", "text"),
    [
        ("cp1252", "Id,Name\n1,Ørlvík\n2,Møllegade\n3,ÅÄÖ\n"), ("cp1250", "Id;Name\n1;Łęczna\n2;Górna\n"),
        ("cp1251", "Id;Имя\n1;улица Мира 5\n"), ("utf-16", "Id\tName\n1\tŁęczna\n"), ("utf-8", "Id\n日本\n"),
    ],
)  # fmt: skip
def test_an_encoding_is_found_from_what_looks_like_words(tmp_path, encoding, text):
    (tmp_path / "in.csv").write_bytes(text.encode(encoding))
    table = DelimitedTable(tmp_path / "in.csv")
    rows = [table.header, *next(table.batches())]
    assert rows == [re.split("[,;\t]", line) for line in text.splitlines()]
    assert any(encoding in remark for remark in table.remarks) == (encoding != "utf-8")
    assert any("such as" in remark for remark in table.remarks) == encoding.startswith("cp")


def test_an_export_with_semicolons_and_decimal_commas_keeps_its_style_and_its_own_coordinates(small):
    job = small([])
    rows = [f'R{i};"{street}";{town};{postcode}' for i, (_, street, town, postcode) in enumerate(real_addresses(3))]
    text = "Id;Street;Town;Postcode;Latitude;Longitude\r\n" + "\r\n".join(
        f"{row};{where}" for row, where in zip(rows, ["47,5;-28,25", ";", "0,0;0,0"], strict=True)
    )
    job.path("records.csv").write_bytes(f"{text}\r\n".encode("cp1252"))
    ran = job.run("run", "job.toml", "--json")
    assert "read as cp1252 (such as" in ran.stderr
    assert "under [records.text]), with fields parted by semicolons, with decimal commas" in ran.stderr
    summary = json.loads(ran.stdout)
    assert summary["outcomes"]["kept"] == 1
    assert summary["requests"]["sent"] == 2
    first, second, *_ = job.path("placed.csv").read_bytes().decode("cp1252").split("\r\n")[1:]
    assert first.startswith(f"{rows[0]};47,5;-28,25;kept;;;")
    assert re.fullmatch(re.escape(rows[1]) + r";4\d,\d+;-2\d,\d+;placed;0,\d+;building;[^;\"]+", second)


@pytest.mark.parametrize(
    ("content", "told", "message"),
    [
        (b'Id,Street,Town,Postcode\n1,a,b,c\n2,"x\ny",b,c,d,e\n', "", "line 4: 6 fields under a header of 4"),
        (b'Id,Street,Town,Postcode\n1,a,b,c\n2,"x\n', "", "line 3: unexpected end of data"),
        (b"Id,Street,Town,Postcode\n1,a,b,c\n2,\xd8,b,c\n", 'encoding = "utf-8"', "can't be read as utf-8"),
        (b"Id,Street,Town,Postcode\n1,a,b,c\n", 'encoding = "utf-9"', "there is no encoding 'utf-9'"),
        (b"Id,Street,Town,Postcode\n1,a,b,c\n", 'delimiter = "\\t"', "has no column 'Id'"),
    ],
)
def test_text_that_cannot_be_read_is_told_with_its_line(small, content, told, message):
    job = small([])
    job.edit("job.toml", ('key = "Id"', f'key = "Id"\ntext = {{ {told} }}'))
    job.path("records.csv").write_bytes(content)
    assert message in job.run("run", "job.toml", code=None).stderr
    assert job.service.requests == 0
    assert not job.path("placed.csv").exists()


def test_a_record_edited_between_reading_and_writing_is_left_alone_and_counted(small):
    """The source is edited while its questions are being asked."""
    import time

    job = small(real_addresses(3), faults={"slow": 1}, slow_s=2)
    running = job.start("run", "job.toml")
    while job.service.counters()["most_in_a_second"] < 3:
        time.sleep(0.02)
    text = job.path("records.csv").read_text()
    job.path("records.csv").write_text(text.replace(real_addresses(3)[1][1], "1 Other Street"))
    _, told = running.communicate(timeout=30)
    assert "1 records were edited or deleted since they were read" in told
    assert job.rows("placed.csv")["R1"]["Outcome"] == ""
    assert job.rows("placed.csv")["R0"]["Outcome"] == job.rows("placed.csv")["R2"]["Outcome"] == "placed"


def broken(path, how):
    if how == "gone":
        path.unlink()
    elif how == "empty file":
        path.write_bytes(b"")
    elif how == "cut":
        path.write_bytes(path.read_bytes()[:9000])
    elif how == "password":
        path.write_bytes(bytes.fromhex("d0cf11e0a1b11ae1") + bytes(600))
    elif how == "open":
        path.with_name(f"~${path.name}").write_bytes(b"x")
    else:
        import xlsxwriter

        book = xlsxwriter.Workbook(path)
        sheet = book.add_worksheet("Cabinets")
        if how == "merged":
            sheet.merge_range("A1:C1", "Everything")
        elif how in {"twice", "no key", "no rows"}:
            sheet.write_row(0, 0, ["Id", "Cabinet", "Number and street", "Town", "Postcode"])
            keys = {"twice": [7, "7"], "no key": ["A", " "], "no rows": []}[how]
            for at, key in enumerate(keys, 1):
                sheet.write_row(at, 0, [key, "x", "1 Kelp Lane", "Town", "1"])
        elif how == "two columns":
            sheet.write_row(0, 0, ["Id", "Id"])
        book.close()


@pytest.mark.parametrize(
    ("how", "told"),
    [
        ("gone", "There is no file"), ("empty file", "an empty file"), ("cut", "is damaged"),
        ("password", "protected by a password"), ("merged", "has merged cells (at column 1)"),
        ("empty sheet", "is empty"), ("twice", "the key '7' in column 'Id' occurs twice"),
        ("no key", "record 2 has no key"), ("no rows", "no records below its header"),
        ("two columns", "more than one column called 'Id'"),
    ],
)  # fmt: skip
def test_a_bad_workbook_gets_one_clear_message_and_nothing_is_sent_or_written(example, how, told):
    job = example()
    broken(job.path("cabinets.xlsx"), how)
    result = job.run("run", "job.toml", code=4)
    assert told in result.stderr
    assert len(result.stderr.strip().splitlines()) == 1
    assert job.service.requests == 0
    assert not job.path("cabinets-placed.xlsx").exists()
    assert not job.path("cabinets.html").exists()


def test_a_workbook_that_is_open_elsewhere_is_not_written_but_may_be_read(example):
    job = example()
    broken(job.path("cabinets.xlsx"), "open")
    assert "is open in another program" in job.run("run", "job.toml").stderr
    job.edit("job.toml", ('to = "cabinets-placed.xlsx"', "in_place = true"))
    before = job.path("cabinets.xlsx").read_bytes()
    assert "Close it first" in job.run("run", "job.toml", code=4).stderr
    assert job.path("cabinets.xlsx").read_bytes() == before
    (job.folder / "~$cabinets.xlsx").unlink()
    told = job.run("run", "job.toml").stderr
    (backup,) = job.folder.glob("cabinets.????-??-??.xlsx")
    assert f"as it was: {backup.name}" in told
    assert backup.read_bytes() == before
    first = job.path("cabinets.xlsx").read_bytes()
    assert "as it was" not in job.run("run", "job.toml").stderr
    assert job.path("cabinets.xlsx").read_bytes() == first, "a second time changes nothing"
    assert Path(job.path("cabinets.html")).exists()


def test_records_of_a_file_are_chosen_and_put_in_order_by_sql_that_reaches_nothing_else(small):
    rows = [[*row, "", "", f"{i}" if i % 2 else ""] for i, row in enumerate(real_addresses(6))]
    job = small(rows)
    only = """only = "Notes IS NOT NULL AND Id <> 'R3'"\nfirst = "CAST(Notes AS INTEGER) DESC"\n"""
    job.edit("job.toml", ("[address]", f"{only}\n[address]"))
    assert job.summary("--at-most", "1", code=6)["records"] == 2
    placed = job.rows("placed.csv")
    assert [name for name, row in placed.items() if row["Outcome"] == "placed"] == ["R5"]
    summary = job.summary()
    assert summary["written"] | {"written": 2, "edited": 0} == summary["written"]
    assert [name for name, row in job.rows("placed.csv").items() if row["Outcome"]] == ["R1", "R5"]
    assert len(job.rows("placed.csv")) == 6, "what is not chosen stays where it is"
    for bad, told in [
        ("Size > 3", "Size"), ("1 = 1) ; SELECT (1", "can't be run"),
        ("Id IN (SELECT column0 FROM read_csv('stand-in.toml'))", "can't be run"),
        ("(SELECT count(*) FROM duckdb_settings()) < 0 OR Id IN (SELECT content FROM read_text('.env'))", "can't be run"),
    ]:  # fmt: skip
        text = job.path("job.toml").read_text()
        job.path("job.toml").write_text(re.sub("(?m)^only = .*", f'only = "{bad}"', text))
        assert told in job.run("run", "job.toml", code=4).stderr
    assert job.service.requests == 2


def lived_in(path, addresses):
    """A workbook whose records start at C4, in a table with totals; a second, with numbers shown with zeros."""
    import xlsxwriter

    with xlsxwriter.Workbook(path) as book:
        page, zeros = book.add_worksheet("Sites"), book.add_format({"num_format": "00000"})
        page.write("A1", "Sites of the trust")
        page.write("C2", "as of today")
        page.write_row("C4", ["Id", "Street", "Town", "Postcode"])
        for at, (key, street, town, postcode) in enumerate(addresses, 4):
            page.write_row(at, 2, [key, street, town])
            page.write_number(at, 5, int(postcode), zeros)
        end = 4 + len(addresses)
        page.set_row(5, None, None, {"hidden": True})
        columns = [{"header": name} for name in ("Id", "Street", "Town", "Postcode")]
        columns[0]["total_string"] = "in all"
        page.add_table(3, 2, end, 5, {"name": "Sites", "columns": columns, "total_row": True})
        page.write("I3", "=1+1")
        page.merge_range(end + 3, 2, end + 4, 4, "a note below")
        page.merge_range(end + 6, 8, end + 7, 9, "signed")
    return f"C4:F{end}"


@pytest.mark.parametrize("how", ["table", "block", "open block"])
def test_records_may_stand_in_a_block_or_a_table_which_grows_and_zeros_are_what_they_look_like(small, how):
    job = small([])
    addresses = [row for row in real_addresses(40) if row[3].startswith("00")][:6]
    block = lived_in(job.path("sites.xlsx"), addresses)
    told = {
        "table": 'table = "sites"',
        "block": f'block = "{block}"',
        "open block": 'block = "C4"\nonly = "Town <> \'\'"',
    }
    job.edit("job.toml", ('file = "records.csv"', f'file = "sites.xlsx"\n{told[how]}'), ("placed.csv", "placed.xlsx"))
    if how == "block":
        assert "has no column 'Latitude', 'Longitude'" in job.run("run", "job.toml", code=4).stderr
        return
    ran = job.run("run", "job.toml", "--json")
    assert "1 hidden rows of the sheet 'Sites' are records like the others" in ran.stderr
    assert ("1 blocks of merged cells below the header of the sheet 'Sites', the first at C14" in ran.stderr) == (
        how == "open block"
    ), "those among the records"
    assert json.loads(ran.stdout)["outcomes"]["placed"] == len(addresses)
    before, after = members(job.path("sites.xlsx")), members(job.path("placed.xlsx"))
    changed = [name for name in before if before[name] != after[name]]
    assert changed == [SHEET, "xl/tables/table1.xml"]
    sheet = after[SHEET][0].decode()
    assert re.search(r'<c r="G5"><v>4\d\.\d+</v></c><c r="H5"><v>-2\d\.\d+</v></c><c r="I5" t="inlineStr">', sheet)
    assert "<f>1+1</f>" in sheet
    grown = after["xl/tables/table1.xml"][0].decode()
    assert f'ref="C4:L{5 + len(addresses)}"' in grown
    assert '<tableColumns count="10">' in grown
    assert re.findall(r'<tableColumn id="\d+" name="([^"]+)"', grown) == ["Id", "Street", "Town", "Postcode", *OURS]
    job.edit("job.toml", ('"sites.xlsx"', '"placed.xlsx"'), ('to = "placed.xlsx"', 'to = "again.csv"'))
    summary = job.summary()
    assert (summary["outcomes"]["placed"], summary["requests"]["sent"]) == (len(addresses), 0), "ours, in their table"
    assert [row["Postcode"] for row in job.rows("again.csv").values()][:6] == [row[3] for row in addresses]


def test_records_far_below_the_others_are_found_and_written_where_they_are(small):
    import xlsxwriter

    job = small([])
    with xlsxwriter.Workbook(job.path("sites.xlsx")) as book:
        page = book.add_worksheet()
        page.write_row(0, 0, ["Id", "Street", "Town", "Postcode"])
        for at, row in zip((1, 3, 12_000), real_addresses(3), strict=True):
            page.write_row(at, 0, row)
    job.edit("job.toml", ("records.csv", "sites.xlsx"), ("placed.csv", "placed.xlsx"))
    assert job.summary()["outcomes"]["placed"] == 3
    sheet = members(job.path("placed.xlsx"))[SHEET][0].decode()
    assert re.findall(r'<c r="E(\d+)"><v>4', sheet) == ["2", "4", "12001"]


@pytest.mark.parametrize("blank", [False, True])
def test_pages_of_a_sheet_that_is_as_it_was_scanned_are_read_where_a_cell_of_them_matters(small, blank):
    import xlsxwriter

    job, addresses, odd = small([]), real_addresses(3), {7_003: 91.5, 11_111: "east"}
    with xlsxwriter.Workbook(job.path("sites.xlsx")) as book:
        page = book.add_worksheet()
        page.write_row(0, 0, ["Id", "Street", "Town", "Postcode", "Latitude", "Longitude"])
        for at in range(1, 12_001):
            _, street, town, postcode = addresses[at % 3]
            page.write_row(at + (blank and at > 100), 0, [f"R{at}", street, town if at not in odd else "", postcode])
            if at in odd:
                page.write_row(at + blank, 4, [odd[at], 5])
    job.edit("job.toml", ("records.csv", "sites.xlsx"), ("placed.csv", "placed.xlsx"))
    for sent in (3, 0):
        summary = job.summary()
        assert (summary["requests"]["sent"], summary["outcomes"]["placed"]) == (sent, 11_998)
        rows = {int(key[1:]): row for key, row in job.rows("placed.xlsx", "Sheet1").items() if key}
        assert {at: rows.pop(at)["Latitude"] for at in odd} == odd
        assert len({(at % 3, row["Latitude"], row["Outcome"]) for at, row in rows.items()}) == 3
        job.path("placed.xlsx").unlink()


@pytest.mark.parametrize(("name", "to"), [("cabinets.xlsx", None), ("cabinets.xlsx", "copy.xlsx"), ("sites.csv", None)])
def test_what_another_program_saves_while_answers_are_put_in_is_not_overwritten(tmp_path, name, to):
    path, saved = tmp_path / name, b"what was saved meanwhile"
    path.write_bytes((DATA / name).read_bytes() if name == "cabinets.xlsx" else b"Id,Town\n1,Skelinstead\n")
    table = WorkbookTable(path, None) if name == "cabinets.xlsx" else DelimitedTable(path)

    def answering(rows):
        path.write_bytes(saved)
        return [[47.5] * len(rows)]

    with pytest.raises(BadSource, match=r"changed by another program .* kept in the ledger"):
        table.rewrite(to and tmp_path / to, ["Latitude"], answering)
    assert {file.name: file.read_bytes() for file in tmp_path.iterdir()} == {name: saved}


@pytest.mark.parametrize("stray", ["", "note"])
def test_a_cell_far_from_the_records_is_told_if_it_holds_something(small, stray):
    import xlsxwriter

    job = small([])
    with xlsxwriter.Workbook(job.path("sites.xlsx")) as book:
        page = book.add_worksheet("Sites")
        page.write_row(0, 0, ["Id", "Street", "Town", "Postcode"])
        page.write_row(1, 0, real_addresses(1)[0])
        page.write_row(9_999, 0, real_addresses(2)[1])
        page.write(5, 16_383, stray, book.add_format({"bold": True}))
    job.edit("job.toml", ("records.csv", "sites.xlsx"), ("placed.csv", "placed.xlsx"))
    told = job.run("run", "job.toml", code=4 if stray else 0).stderr
    assert ("the cells of the sheet 'Sites' reach to XFD6 and to A10000" in told) == bool(stray)
    assert job.service.requests == (0 if stray else 2)


def test_what_was_read_ahead_of_a_workbook_is_used_once_and_only_while_nobody_wrote_to_it(tmp_path):
    import xlsxwriter

    def make(*names):
        with xlsxwriter.Workbook(path) as book:
            for name in names:
                book.add_worksheet(name).write_row(0, 0, [f"Column of {name}"])

    path, job = tmp_path / "sites.xlsx", tmp_path / "job.toml"
    for told, sheet in (("", None), ("", "Two"), ('sheet = "Two"', "Two"), ('sheet = "Other"', "One")):
        make("One", "Two")
        job.write_text(f'[records]\nfile = "sites.xlsx"\n{told}')
        read_ahead(job)
        assert WorkbookTable(path, sheet).header == [f"Column of {sheet or 'One'}"]
        read_ahead(job)
        make("Three of them", "Two")
        assert WorkbookTable(path, None).header == ["Column of Three of them"]
    for nonsense in ("", "[records]", "[records]\nfile = 5", 'records = ["sites.xlsx"]', '[records]\nfile = "no.xlsx"'):
        job.write_text(nonsense)
        read_ahead(job)
    assert WorkbookTable(path, "Two").header == ["Column of Two"]


@pytest.mark.parametrize("kind", ["ods", "xls"])
def test_workbooks_of_other_kinds_are_read_and_open_document_is_spliced_as_well(example, tmp_path, kind):
    soffice = shutil.which("soffice")
    if not soffice:
        pytest.skip("LibreOffice is not on this machine")
    job = example()
    command = [soffice, "--headless", f"-env:UserInstallation=file://{tmp_path}/office", "--convert-to", kind]
    subprocess.run([*command, "cabinets.xlsx"], cwd=job.folder, check=True, capture_output=True, timeout=120)
    job.edit("job.toml", ('"cabinets.xlsx"', f'"cabinets.{kind}"'), ("placed.xlsx", f"placed.{kind}"))
    if kind == "ods":
        assert job.summary()["outcomes"]["placed"] > 200
        before, after = members(job.path("cabinets.ods")), members(job.path("cabinets-placed.ods"))
        assert list(before) == list(after)
        assert [name for name in before if before[name] != after[name]] == ["content.xml"]
        assert b"As painted on the wall" in after["content.xml"][0], "a note on a cell stays"
        command[-1] = "xlsx"
        subprocess.run([*command, "cabinets-placed.ods"], cwd=job.folder, check=True, capture_output=True, timeout=120)
    else:
        assert "can be read but not written back" in job.run("run", "job.toml", code=4).stderr
        assert job.service.requests == 0
    rows = job.rows() if kind == "ods" else None
    job.edit("job.toml", (f"placed.{kind}", "placed.csv"))
    assert job.summary()["outcomes"]["placed"] > 200
    told = job.rows("cabinets-placed.csv")
    assert told["C-001"]["Outcome"] == "placed"
    assert not rows or [(str(r["Latitude"]), r["Level"]) for r in rows.values()] == [
        (r["Latitude"], r["Level"]) for r in told.values()
    ], "LibreOffice reads what was written"


@pytest.mark.parametrize(
    ("code", "number", "shown"),
    [
        ("00000", "412", "00412"), ("000-00", "412", "004-12"), ('"XT-"0000', "7", "XT-0007"), ("00", "1234", "1234"),
        (r"00\ 000", "1234", "01 234"), ("[$-407]00000", "412", "00412"), ("00000_)", "412", "00412"),
        ("[<=99999]00000;00000-0000", "412", "00412"), ("[<=99999]00000;00000-0000", "4120005", "00412-0005"),
        ("000;-000;", "0", None), ("0", "7", None), ("0.00", "7", None), ("#,##0", "7", None), ("@", "7", None),
    ],
)  # fmt: skip
def test_a_number_is_read_as_a_format_of_zeros_shows_it_and_other_formats_are_left_alone(code, number, shown):
    assert is_of_zeros(code) == (shown is not None or code.startswith("000;"))
    assert not is_of_zeros(code) or fill_zeros(code, number) == shown


@given(st.integers(0, 16_383), st.integers(0, 900), st.none() | st.integers(0, 90), st.none() | st.integers(1, 90))
def test_a_block_is_read_as_spreadsheets_write_it(left, top, wide, deep):
    text = f"{letters(left)}{top + 1}"
    last_column = left if wide is None and deep else None if wide is None else left + wide
    if last_column is not None:
        text += f":{letters(last_column)}" + (f"{top + deep + 1}" if deep else "")
    assume(last_column is None or last_column < 18_000)
    block = parse_block(text.lower() if top % 2 else text)
    assert block == Block(top, left, top + deep if deep and last_column is not None else None, last_column)


@pytest.mark.parametrize("text", ["", "4", "B", "B0", "B4:A9", "B4:C4", "B4:C3", "Sheet!B4", "B4:C9:D9"])
def test_what_is_no_block_is_refused(text):
    with pytest.raises(BadSource):
        parse_block(text)


def with_sheet(path, rows, change=lambda page, book: None, name="Sites"):
    import xlsxwriter

    with xlsxwriter.Workbook(path) as book:
        page = book.add_worksheet(name)
        page.write_row(0, 0, ["Id", "Street", "Town", "Postcode"])
        for at, row in enumerate(rows, 1):
            page.write_row(at, 0, row)
        change(page, book)


def on_sheet(job, change):
    with_sheet(job.path("sites.xlsx"), real_addresses(3), change)
    text = job.path("job.toml").read_text()
    if "sites.xlsx" not in text:
        job.edit("job.toml", ("records.csv", "sites.xlsx"), ("placed.csv", "placed.xlsx"))


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda page, _: (page.write(0, 4, "Outcome"), page.write_formula(2, 4, "=1+1")), "E3 is for an answer, and holds a formula"),
        (lambda page, _: (page.write_row(0, 4, ["Latitude", "Longitude"]), page.merge_range("E2:F3", "x")), "belongs to merged cells"),
        (lambda page, _: (page.write(0, 4, "Level"), page.write_array_formula("E2:E4", "{=A2:A4}")), "or an array formula"),
        (lambda page, _: page.write(0, 16_380, "Notes"), "a sheet ends with the column XFD"),
        (lambda page, _: (page.write(0, 4, "outcome"), page.add_table("A1:E4", {"columns": [{"header": h} for h in ("Id", "Street", "Town", "Postcode", "outcome")]})), "'Outcome' is the same name"),
        (lambda page, _: page.write(0, 4, "Outcome") or page.write(0, 5, "Outcome"), "more than one column called 'Outcome'"),
    ],
)  # fmt: skip
def test_what_a_spreadsheet_does_not_allow_is_told_before_anything_is_asked(small, change, told):
    job = small([])
    on_sheet(job, change)
    said = job.run("run", "job.toml", code=4).stderr
    assert told in said
    assert job.service.requests == 0


def test_filters_and_tables_grow_formulas_are_calculated_and_the_rest_of_the_book_is_told(small):
    job = small([])

    def change(page, book):
        page.autofilter("A1:D4")
        page.protect("secret")
        del book
        page.write_formula("A20", "=B2", None, "R99")
        page.write_formula("A21", "=B3", None, "R98")

    on_sheet(job, change)
    with zipfile.ZipFile(job.path("sites.xlsx")) as old:
        parts = {name: old.read(name) for name in old.namelist()}
    parts["xl/workbook.xml"] = parts["xl/workbook.xml"].replace(b' fullCalcOnLoad="1"', b"")
    parts[SHEET] = parts[SHEET].replace(b"<v>R98</v>", b"")
    with zipfile.ZipFile(job.path("sites.xlsx"), "w") as new:
        for name, content in parts.items():
            new.writestr(name, content)
    job.edit("job.toml", ('sites.xlsx"', 'sites.xlsx"\nonly = "Town <> \'\'"'))
    told = job.run("run", "job.toml").stderr
    assert "the sheet 'Sites' is protected against changes" in told
    assert "formulas on the sheet 'Sites' without a result yet: 1, the first in A21" in told
    after = members(job.path("placed.xlsx"))
    assert b'fullCalcOnLoad="1"' in after["xl/workbook.xml"][0]
    assert b"'Sites'!$A$1:$J$4" in after["xl/workbook.xml"][0].replace(b"Sites!", b"'Sites'!")
    assert b'<autoFilter ref="A1:J4"/>' in after[SHEET][0]


def test_a_table_that_is_in_an_order_grows_without_the_columns_that_it_is_in_order_by():
    from yellowtor.tables.workbook.table_growth import _grown

    xml = (b'<table ref="A1:F9"><autoFilter ref="A1:F9"/><sortState ref="A2:F9"><sortCondition ref="F2:F9"/></sortState>'
           b'<tableColumns count="1"><tableColumn id="1" name="F"/></tableColumns></table>')  # fmt: skip
    grown = _grown(xml, b"F", 7, ["G", "H"])
    assert re.findall(rb'<(\w+) ref="([^"]*)"', grown) == [
        (b"table", b"A1:H9"), (b"autoFilter", b"A1:H9"), (b"sortState", b"A2:H9"), (b"sortCondition", b"F2:F9"),
    ]  # fmt: skip


def test_a_draft_finds_the_sheet_with_addresses_and_its_header_below_a_title(small):
    import xlsxwriter

    job = small([])
    with xlsxwriter.Workbook(job.path("sites.xlsx")) as book:
        book.add_worksheet("Read me").write(0, 0, "How to use this file")
        page = book.add_worksheet("Sites")
        page.write(1, 1, "Sites of the trust")
        page.write_row(4, 1, ["Id", "Street", "Town", "Postcode"])
        for at, row in enumerate(real_addresses(3), 5):
            page.write_row(at, 1, row)
    job.run("draft", "sites.xlsx", "--service", "stand-in.toml", "--into", "drafted.toml")
    assert 'sheet = "Sites"\nblock = "B5"' in job.path("drafted.toml").read_text()
    told = json.loads(job.run("run", "drafted.toml", "--json").stdout)
    assert (told["records"], told["outcomes"]["placed"]) == (3, 3)


def test_a_number_that_is_no_date_under_the_format_of_one_is_told_with_its_row(small):
    job = small([])
    on_sheet(job, lambda page, book: page.write(2, 4, -1e12, book.add_format({"num_format": "yyyy-mm-dd"})))
    assert "a cell in row 3 can't be read" in job.run("run", "job.toml", code=4).stderr


def test_a_copy_of_a_workbook_that_was_saved_anew_is_kept_and_one_with_corrected_cells_stops_the_run(small):
    import openpyxl

    job = small([])
    on_sheet(
        job,
        lambda page, _: [page.write(0, 4, "Sum"), *(page.write_formula(at, 4, "=1+1", None, 2) for at in (1, 2, 3))],
    )
    job.run("run", "job.toml")
    for correct in (False, True):
        book = openpyxl.load_workbook(job.path("placed.xlsx"))
        if correct:
            book.active["B3"] = "1 Corrected Row"
        book.save(job.path("placed.xlsx"))
        before = job.path("placed.xlsx").read_bytes()
        told = job.run("run", "job.toml", code=4 if correct else 0).stderr
        assert (
            "has 1 cell that we did not write, and would be overwritten: R1, Street: '1 Corrected Row'" in told
        ) == correct
        assert job.path("placed.xlsx").read_bytes() == before if correct else "kept as placed.2" in told
