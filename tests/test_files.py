"""No file is ever damaged: not by its form, nor by others who write it, nor by a job that names it twice."""

import csv
import io
import os
import shutil
import stat
import time

import pytest
from conftest import real_addresses
from hypothesis import given
from hypothesis import strategies as st

from yellowtor.tables.cells import LEAVE
from yellowtor.tables.delimited import DelimitedTable

ORDINARY = 65_534  # nobody's number

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


@given(delimited_files(), st.booleans())
def test_text_without_answers_keeps_its_bytes_and_with_answers_every_other_cell(tmp_path_factory, made, at_end):
    content, encoding, delimiter, skip = made
    folder = tmp_path_factory.mktemp("text")
    source, copy = folder / "a.csv", folder / "b.csv"
    source.write_bytes(content)
    from yellowtor.tables.dialect import Told

    table = DelimitedTable(source, Told(encoding=encoding, delimiter=delimiter, quote='"'))
    table.rewrite(copy, ["Key", "New"][: 1 - at_end], lambda rows: [[LEAVE] * len(rows)] * (1 - at_end))
    assert copy.read_bytes() == content
    where = "New" if at_end else "Key"
    table.rewrite(copy, [where], lambda rows: [[f'x{n}{delimiter}"' for n in range(len(rows))]])
    before, after = (independent(path, encoding, delimiter, skip) for path in (source, copy))
    records = [n for n, row in enumerate(before) if row][1:]
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


def in_place(job, *changes):
    job.edit("job.toml", ('to = "placed.csv"', "in_place = true\nbackup = false"), *changes)


def test_columns_that_somebody_moves_during_a_run_keep_their_cells(small):
    rows = real_addresses(6)
    job = small(rows, faults={"slow": 1}, slow_s=1.0)
    in_place(job)
    run = job.start("run", "job.toml")
    wait_for(lambda: job.service.requests)
    kept = ["Price", "Latitude", "Longitude", "Street", "Id", "", "Town", "Postcode"]
    with job.path("records.csv").open("w", newline="") as file:
        write = csv.writer(file)
        write.writerow(kept)
        write.writerows([7 + n, "", "", row[1], row[0], "x", row[2], row[3]] for n, row in enumerate(rows))
    _, err = run.communicate(timeout=60)
    assert run.returncode == 0, err
    header, *found = table_of(job)
    assert header[: len(kept)] == kept
    assert [(row[0], row[5]) for row in found] == [(str(7 + n), "x") for n in range(6)]
    assert all(47 <= float(row[1]) <= 48 for row in found)


@pytest.mark.parametrize("kind", ["csv", "xlsx"])
def test_jobs_that_write_one_file_wait_for_each_other(small, kind):
    rows = real_addresses(400)
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
    names = "ABCDEF"
    for name in names:
        mine = plain.replace('"ledger.sqlite"', f'"{name}.sqlite"').replace('"Outcome"', f'"Outcome {name}"')
        for column in ("Latitude", "Longitude", "Confidence", "Level", "Matched address"):
            mine = mine.replace(f'"{column}"', f'"{column} {name}"')
        job.path(f"{name}.toml").write_text(mine.replace("cabinets.", f"{name}."))
    runs = [job.start("run", f"{name}.toml") for name in names]
    ends = [(run.communicate(timeout=120)[1], run.returncode) for run in runs]
    assert [code for _, code in ends] == [0] * len(names), ends
    found = job.rows(f"records.{kind}")
    assert len(found) == 400
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
    assert "1 more names (hard links)" in done.stderr
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
