"""Records in databases: one contract that every kind passes, with the real thing."""

import getpass
import json
import math
import os
import re
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import pytest
import sqlalchemy as sa
from conftest import real_addresses

from yellowtor.database_url import DatabaseUrl
from yellowtor.errors import BadSource
from yellowtor.tables.database.database import DatabaseTable
from yellowtor.tables.database.database_source import DatabaseLocation, Named

COLUMNS = "id INTEGER PRIMARY KEY, street TEXT, town TEXT, postcode TEXT, closed TEXT, lat {n}, lon {n}, note VARCHAR(60), number INTEGER"


@pytest.fixture(scope="session")
def mariadb(tmp_path_factory):
    """The URL of a server of our own."""
    server, maker = shutil.which("mariadbd"), shutil.which("mariadb-install-db")
    if not server or not maker:
        pytest.skip("there is no mariadbd on this machine")
    folder = tmp_path_factory.mktemp("mariadb")
    ours = ["--no-defaults", f"--datadir={folder / 'data'}", f"--user={getpass.getuser()}"]
    subprocess.run([maker, *ours, "--auth-root-authentication-method=normal"], check=True, capture_output=True)
    place = [f"--socket={folder / 'socket'}", f"--pid-file={folder / 'pid'}", "--skip-networking"]
    with (folder / "log").open("w") as log:
        running = subprocess.Popen([server, *ours, *place], stdout=log, stderr=log)
    while not (folder / "socket").exists():
        assert running.poll() is None, (folder / "log").read_text()
    yield f"mariadb://root@localhost/test?unix_socket={folder / 'socket'}"
    running.terminate()
    running.wait()


DRIVERS = {"postgresql": "postgresql+psycopg", "mariadb": "mariadb+pymysql"}


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def base(request, tmp_path, small):
    """A job on a table `sites` of ten records in a real database; base.sql() speaks with it."""
    job = small(real_addresses(10))
    if request.param == "sqlite":
        job.url, inside = "sqlite:///sites.sqlite", f"sqlite:///{job.path('sites.sqlite')}"
        job.path("sites.sqlite").touch()
    else:
        job.url = request.getfixturevalue({"postgresql": "postgres"}.get(request.param, request.param))
        inside = job.url.replace(request.param, DRIVERS[request.param], 1)
    inside += "&ssl_disabled=1" if request.param == "mariadb" else ""
    job.engine = sa.create_engine(inside, poolclass=sa.pool.NullPool)

    def sql(text, **values):
        with job.engine.begin() as connection:
            done = connection.execute(sa.text(text), values)
            return [tuple(row) for row in done] if done.returns_rows else done.rowcount

    job.sql, job.engine_name = sql, request.param
    for table in ("sites", "units", "answers", "unkeyed", "other"):
        sql(f"DROP TABLE IF EXISTS {table}")
    sql(f"CREATE TABLE sites ({COLUMNS.format(n='NUMERIC(9,6)')})")
    for number, (_, street, town, postcode) in enumerate(real_addresses(10), 1):
        values = {"n": number, "s": street, "t": town, "p": postcode}
        sql("INSERT INTO sites (id, street, town, postcode) VALUES (:n, :s, :t, :p)", **values)
    job.edit(
        "job.toml",
        ('file = "records.csv"\nkey = "Id"', f'database = "{job.url}"\ntable = "sites"'),
        ('to = "placed.csv"', "in_place = true\ncreate = true"),
        ('"Street"', '"street"'), ('"Town"', '"town"'), ('"Postcode"', '"postcode"'),
        ('"Latitude"', '"lat"'), ('"Longitude"', '"lon"'),
        ('"Outcome"', '"outcome"'), ('"Confidence"', '"confidence"'), ('"Level"', '"level"'),
    )  # fmt: skip
    yield job
    job.engine.dispose()


def test_a_table_gets_its_coordinates_and_only_what_is_new_or_changed_is_asked(base):
    told = base.run("run", "job.toml").stderr
    assert "wrote 10 records of sites in" in told
    rows = base.sql("SELECT lat, lon, outcome, confidence, note FROM sites")
    assert all(47 < lat < 48 and -30 < lon < -27 and outcome == "placed" for lat, lon, outcome, *_ in rows)
    assert all(isinstance(confidence, float) and note is None for *_, confidence, note in rows)
    assert base.summary()["requests"]["sent"] == 0
    base.sql("UPDATE sites SET outcome = 'x', lat = NULL WHERE id = 3")
    would = base.summary("--dry-run")["would_change"]
    assert (would["records"], would["cells"]) == (1, 2)
    assert {"key": "3", "column": "outcome", "old": "x", "new": "placed"} in would["first"]
    assert base.sql("SELECT lat, outcome FROM sites WHERE id = 3") == [(None, "x")]
    base.sql("INSERT INTO sites (id, street, town) SELECT 11, 'No Such Street 1', town FROM sites WHERE id = 1")
    base.sql("UPDATE sites SET street = (SELECT street FROM sites WHERE id = 2), town = (SELECT town FROM sites "
             "WHERE id = 2), postcode = (SELECT postcode FROM sites WHERE id = 2) WHERE id = 1")  # fmt: skip
    base.sql("DELETE FROM sites WHERE id = 10")
    summary = base.summary()
    assert summary["scan"] == {"records": 10, "new": 1, "changed": 1, "vanished": 1}
    assert summary["requests"]["sent"] == 1, "the changed one has an address that is known"
    assert base.sql("SELECT lat, lon FROM sites WHERE id = 1") == base.sql("SELECT lat, lon FROM sites WHERE id = 2")
    assert base.sql("SELECT lat, lon FROM sites WHERE id = 11") == [(None, None)]


def test_records_are_chosen_and_put_in_order_by_the_database_itself(base):
    base.sql("UPDATE sites SET closed = 'yes' WHERE id > 6")
    base.edit("job.toml", ('table = "sites"', 'table = "sites"\nonly = "closed IS NULL"\nfirst = "id DESC"'))
    summary = base.summary("--at-most", "2", code=6)
    assert summary["outcomes"] | {"placed": 2, "waiting": 4} == summary["outcomes"]
    assert base.sql("SELECT id FROM sites WHERE lat IS NOT NULL ORDER BY id") == [(5,), (6,)]
    assert base.summary()["records"] == 6
    assert base.sql("SELECT count(*) FROM sites WHERE lat IS NULL") == [(4,)]
    base.edit("job.toml", ("closed IS NULL", "closed = 'no'"))
    assert base.summary()["records"] == 0, "none today is not a mistake"


def test_a_row_that_was_edited_meanwhile_is_left_alone_even_if_only_its_case_was(base):
    base.edit("stand-in.toml", ("parallel = 8", "parallel = 1\nper_second = 5"))
    running = base.start("run", "job.toml", "--json")
    while base.service.requests < 2:
        time.sleep(0.02)
    base.sql("UPDATE sites SET street = upper(street) WHERE id = 1")
    base.sql("UPDATE sites SET note = 'seen' WHERE id = 2")
    base.sql("UPDATE sites SET lat = 47.5, lon = -28.5 WHERE id = 3")
    base.sql("DELETE FROM sites WHERE id = 4")
    out, _ = running.communicate(timeout=60)
    told = json.loads(out)["written"]
    assert (told["edited"], told["written"]) == (3, 7)
    assert base.sql("SELECT id FROM sites WHERE lat IS NULL") == [(1,)]
    assert base.sql("SELECT outcome FROM sites WHERE lat = 47.5") == [(None,)], "whoever put it there decides"
    assert base.sql("SELECT note FROM sites WHERE id = 2") == [("seen",)]
    assert base.summary()["requests"]["sent"] == 0, "the same address in another case is no other question"
    assert base.sql("SELECT count(*) FROM sites WHERE lat IS NULL") == [(0,)]


def test_coordinates_that_are_not_ours_stay_and_a_failed_write_never_makes_ours_foreign(base):
    base.sql("UPDATE sites SET lat = 47.5, lon = -28.5 WHERE id = 3")
    base.edit("job.toml", ('matched = "Matched address"', 'matched = "closed"\nreasons = "note"'))
    base.sql("UPDATE sites SET closed = 'x'")
    if base.engine_name == "sqlite":  # it keeps no text to a length
        base.sql("CREATE TRIGGER t BEFORE UPDATE ON sites WHEN length(new.note) > 60 "
                 "BEGIN SELECT RAISE(ABORT, 'value too long'); END")  # fmt: skip
    told = base.run("run", "job.toml", code=4).stderr
    assert "too long" in told
    assert "the column 'note' does not take" in told
    assert base.sql("SELECT count(*) FROM sites WHERE closed = 'x' AND note IS NULL") == [(10,)], "nothing by halves"
    assert base.service.requests == 0
    base.edit("job.toml", ('reasons = "note"\n', ""))
    summary = base.summary()
    assert summary["outcomes"] | {"placed": 9, "kept": 1} == summary["outcomes"]
    assert [(float(a), float(o)) for a, o in base.sql("SELECT lat, lon FROM sites WHERE id = 3")] == [(47.5, -28.5)]


def test_our_own_coordinates_are_known_again_in_columns_of_few_digits(base):
    few = {"sqlite": "REAL", "postgresql": "REAL", "mariadb": "FLOAT"}[base.engine_name]
    base.sql("ALTER TABLE sites DROP COLUMN lat")
    base.sql("ALTER TABLE sites DROP COLUMN lon")
    base.sql(f"ALTER TABLE sites ADD lat {few}")
    base.sql("ALTER TABLE sites ADD lon NUMERIC(7,3)")
    for sent in (10, 0, 0):
        summary = base.summary()
        assert (summary["requests"]["sent"], summary["outcomes"]["placed"], summary["outcomes"]["kept"]) == (
            sent,
            10,
            0,
        )
    told = base.run("run", "job.toml", "--dry-run", "--json")
    assert json.loads(told.stdout)["would_change"]["cells"] == 0
    off = "the columns lat and lon hold so few digits that positions in them may be 56 m off"
    assert (off in told.stderr) == (base.engine_name != "sqlite"), "of SQLite's numbers all are double"
    base.sql("UPDATE sites SET lat = lat + 0.01 WHERE id = 3")
    summary = base.summary()
    assert (summary["outcomes"]["placed"], summary["outcomes"]["kept"]) == (9, 1)
    base.sql("ALTER TABLE sites DROP COLUMN lat")
    base.sql("ALTER TABLE sites ADD lat INTEGER")
    if base.engine_name != "sqlite":
        told = base.run("run", "job.toml", code=4).stderr
        assert "latitude is a number with decimals, and the column 'lat' is INTEGER. Nothing was sent." in told


def test_a_key_may_have_several_columns_and_the_answers_a_table_of_their_own(base):
    base.sql("CREATE TABLE units (part VARCHAR(9), nr INTEGER, street TEXT, town TEXT, postcode TEXT, lat NUMERIC(9,6), "
             "lon NUMERIC(9,6), PRIMARY KEY (part, nr))")  # fmt: skip
    base.sql(
        "INSERT INTO units (part, nr, street, town, postcode) SELECT 'north', id, street, town, postcode FROM sites"
    )
    base.sql(
        "INSERT INTO units (part, nr, street, town, postcode) SELECT 'south', id, street, town, postcode FROM sites"
    )
    assert "north / 1  " in base.run("draft", base.url, "--table", "units").stderr
    base.edit("job.toml", ('table = "sites"', 'table = "units"'))
    assert base.summary()["scan"]["new"] == 20
    assert base.sql("SELECT count(*) FROM units WHERE lat IS NOT NULL AND lon IS NOT NULL") == [(20,)]
    assert '"id":"south / 3"' in base.path("cabinets.geojson").read_text()
    before = base.sql("SELECT * FROM units ORDER BY part, nr")
    query = "SELECT u.*, 12 AS i FROM units u WHERE part LIKE 's%' AND '08:30' <> ':8'"
    base.edit(
        "job.toml",
        ('table = "units"', f'query = "{query}"\nkey = ["part", "nr"]\nonly = "nr % 2 = 0"'),
        ("in_place = true", 'table = "answers"'),
    )
    told = base.run("run", "job.toml").stderr
    assert "wrote 5 records of answers in" in told
    assert base.sql("SELECT * FROM units ORDER BY part, nr") == before
    answers = base.sql("SELECT part, nr, outcome, lat, lon FROM answers ORDER BY nr")
    assert [row[:3] for row in answers] == [("south", nr, "placed") for nr in (2, 4, 6, 8, 10)]
    base.sql("UPDATE answers SET lat = 0, outcome = NULL WHERE nr = 2")
    base.sql("DELETE FROM answers WHERE nr = 4")
    assert base.summary()["requests"]["sent"] == 0
    assert base.sql("SELECT part, nr, outcome, lat, lon FROM answers ORDER BY nr") == answers
    assert float(answers[0][3]) == float({row[:2]: row[5] for row in before}["south", 2])


READ_ONLY = {
    "sqlite": lambda job: f"sqlite:///file:{job.path('sites.sqlite')}?mode=ro&uri=true",
    "postgresql": lambda job: f"{job.url}&options=-c%20default_transaction_read_only%3Don",
    "mariadb": lambda job: job.url.replace("root@", "reader@"),
}


def test_a_database_that_may_only_be_read_is_told_before_anything_is_asked(base):
    if base.engine_name == "mariadb":
        base.sql("DELETE FROM mysql.db")  # the database `test` is open to everybody
        base.sql("FLUSH PRIVILEGES")
        base.sql("CREATE OR REPLACE USER reader@localhost")
        base.sql("GRANT SELECT ON test.* TO reader@localhost")
    base.edit("job.toml", (base.url, READ_ONLY[base.engine_name](base)))
    told = base.run("run", "job.toml", code=4).stderr
    assert re.search("can't be written: .*(read-?only|denied)", told), told
    assert base.service.requests == 0


def check_mistakes(base, mistakes):
    """The program names each mistake in the job; nothing is sent or written."""
    text = base.path("job.toml").read_text()
    for old, new, message in mistakes:
        base.path("job.toml").write_text(text)
        base.edit("job.toml", (old, new))
        told = base.run("run", "job.toml", code=None).stderr
        assert any(part in " ".join(told.split()) for part in message.split("|")), told
        assert base.service.requests == 0
        assert base.sql("SELECT count(*) FROM sites WHERE lat IS NULL") == [(10,)]


def test_what_is_wrong_with_a_database_is_told_and_nothing_is_sent_or_written(base):
    base.sql("CREATE TABLE unkeyed AS SELECT 1 AS id, street, town, postcode, lat, lon FROM sites")
    mistakes = [
        ('table = "sites"', 'table = "sitez"', "There is no table sitez in"),
        ('table = "sites"', 'table = "sites"\nonly = "closed ="', "can't be read: "),
        ('"outcome"', '"number"', "outcome is text, and the column 'number' is INTEGER"),
        ('table = "sites"', 'table = "sites"\nkey = "nr"', "has no column 'nr', which the job names (it has: id, "),
        ("create = true", "", "has no column 'outcome', 'confidence', 'level', 'Matched address' for the answers"),
        ('table = "sites"', 'table = "unkeyed"', "has no primary key. Name one: key"),
        ('table = "sites"', 'table = "unkeyed"\nkey = "id"', "the key '1' in column 'id' occurs twice"),
    ]
    check_mistakes(base, mistakes if base.engine_name == "sqlite" else mistakes[:3])  # each takes a second


@pytest.mark.parametrize("base", ["sqlite"], indirect=True)
def test_what_is_wrong_with_a_job_on_a_database_is_told_before_it_is_opened(base):
    mistakes = [
        ('database = "', 'database = "mysql://no-such-host.invalid/x', "can't be opened: |is not the URL"),
        ('database = "', 'database = "no', "is not the URL|No driver"),
        ('table = "sites"', 'query = "SELECT * FROM sites"', "a query can't be written into: say table ="),
        ('table = "sites"\n', "", "needs either table ="), ("in_place = true", 'to = "x.csv"', "set in_place = true"),
        ('table = "sites"', 'table = "sites"\npassword_from = "NO_SUCH"', "NO_SUCH has no value"),
    ]  # fmt: skip
    check_mistakes(base, mistakes)


def test_a_password_comes_from_the_environment_and_is_in_no_message(base):
    base.edit("job.toml", ('table = "sites"', 'table = "sites"\npassword_from = "SITES_PASSWORD"'))
    base.env["SITES_PASSWORD"] = "hunter2-secret"
    ran = base.run("run", "job.toml", code=None)
    base.edit("job.toml", ('table = "sites"', 'table = "sitez"'))
    again = base.run("run", "job.toml", code=None)
    assert "hunter2" not in ran.stdout + ran.stderr + again.stdout + again.stderr
    kept = [path for path in base.folder.rglob("*") if path.is_file()]
    assert not any(b"hunter2" in path.read_bytes() for path in kept)
    expected = {"sqlite": "can't be opened: ", "mariadb": "can't be opened: Access denied", "postgresql": ""}
    assert expected[base.engine_name] in ran.stderr


def test_a_draft_picks_the_table_that_looks_like_addresses_and_its_job_runs(base):
    base.sql("CREATE TABLE other (id INTEGER, price INTEGER)")
    base.path("job.toml").unlink()
    told = base.run("draft", base.url, "--into", "job.toml").stderr
    assert re.search(r"sites +street, town, postcode", told)
    assert re.search(r"other +–", told)
    assert base.summary()["requests"]["sent"] == 10
    assert base.sql("SELECT count(*) FROM sites WHERE lat IS NOT NULL AND outcome = 'placed'") == [(10,)]


def test_followed_a_record_gets_its_coordinates_soon_after_it_is_saved(base):
    running = base.start("run", "job.toml", "--follow", "0.2s", "--json")
    assert json.loads(running.stdout.readline())["scan"]["new"] == 10
    base.sql("INSERT INTO sites (id, street, town, postcode) SELECT 11, street, town, postcode FROM sites WHERE id = 3")
    assert json.loads(running.stdout.readline())["scan"]["new"] == 1
    while base.sql("SELECT lat FROM sites WHERE id = 11") == [(None,)]:
        assert running.poll() is None
    base.sql("ALTER TABLE sites RENAME TO away")  # what is not there now may be there again
    told = running.stderr.readline()
    while "Trying again in 0 s" not in told:
        told = running.stderr.readline()
    base.sql("ALTER TABLE away RENAME TO sites")
    base.sql("DELETE FROM sites WHERE id = 11")
    assert json.loads(running.stdout.readline())["scan"]["vanished"] == 1
    running.terminate()
    _, told = running.communicate(timeout=60)
    assert running.returncode == 0, told
    assert "everything is complete" in told
    assert base.service.requests == 10


def test_a_view_is_read_like_a_table_and_its_answers_may_go_elsewhere(base):
    base.sql("DROP VIEW IF EXISTS open_sites")
    base.sql("CREATE VIEW open_sites AS SELECT id AS nr, street, town, postcode FROM sites WHERE id <= 4")
    base.edit(
        "job.toml", ('table = "sites"', 'table = "open_sites"\nkey = "nr"'), ("in_place = true", 'table = "answers"')
    )
    assert base.summary()["outcomes"]["placed"] == 4
    assert base.sql("SELECT nr FROM answers WHERE outcome = 'placed' ORDER BY nr") == [(1,), (2,), (3,), (4,)]
    base.sql("DROP VIEW open_sites")


@pytest.fixture(scope="session")
def postgis():
    """The URL of a server of our own with PostGIS, from the distribution's packages; and how it is stopped, started."""
    bins = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    if not bins or not list(Path("/usr/share/postgresql").glob("*/extension/postgis.control")):
        pytest.skip("there is no PostGIS on this machine")
    folder = Path(tempfile.mkdtemp(prefix="postgis-"))
    who = []  # the server will not run as root
    if os.getuid() == 0:
        shutil.chown(folder, "postgres")
        who = ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
    run = {"check": True, "capture_output": True, "cwd": folder}
    subprocess.run([*who, bins[-1], "-D", folder / "data", "-U", "postgres", "-A", "trust"], **run)
    control = [*who, bins[-1].with_name("pg_ctl"), "-D", folder / "data", "-w"]
    how = {"start": ["-l", folder / "log", "-o", f"-k {folder} -c listen_addresses=''"], "stop": ["-m", "immediate"]}

    def told(what):
        subprocess.run([*control, *how[what], what], **run)

    told("start")
    yield f"postgresql://postgres@/postgres?host={folder}", told
    told("stop")
    shutil.rmtree(folder)


def test_points_go_into_other_systems_and_types_too(base):
    base.edit(
        "job.toml", ("create = true", 'create = "numeric"\ncrs = "EPSG:3857"'),
        ('"lat"', '"north"'), ('"lon"', '"east"\nx = "x"\ny = "y"\ngeo = "geo"'),
        ('"Matched address"', '"m"\nmatched_street = "m_street"\nmatched_town = "m_town"\nmatched_postcode = "m_code"'),
    )  # fmt: skip
    base.run("run", "job.toml")
    for street, town, postcode, *matched in base.sql(
        "SELECT street, town, postcode, m_street, m_town, m_code FROM sites"
    ):
        assert street.endswith(matched[0])
        assert [town, postcode] == matched[1:]
    kinds = {column["name"]: str(column["type"]) for column in sa.inspect(base.engine).get_columns("sites")}
    assert kinds["north"].replace(" ", "") in {"NUMERIC(9,6)", "DECIMAL(9,6)"}
    assert kinds["x"].startswith(("DOUBLE", "REAL"))
    for lat, lon, x, y, geo in base.sql("SELECT north, east, x, y, geo FROM sites"):
        assert x == pytest.approx(math.radians(float(lon)) * 6378137, abs=0.01)
        assert y == pytest.approx(math.asinh(math.tan(math.radians(float(lat)))) * 6378137, abs=0.01)
        assert geo == f"geo:{float(lat)},{float(lon)}"
    assert base.summary("--dry-run")["would_change"]["cells"] == 0, "what is written is what would be"
    base.edit("job.toml", ("EPSG:3857", "EPSG:0"))
    assert "not a coordinate system that PROJ knows" in base.run("run", "job.toml", code=3).stderr
    base.edit("job.toml", ('crs = "EPSG:0"', ""), ('x = "x"\ny = "y"', 'geometry = "point"'))
    assert "needs a database with PostGIS" in base.run("run", "job.toml", code=4).stderr


NOTE_UPDATES = [  # each statement, even one that changes no row
    "CREATE TABLE harbour.updates AS SELECT 1 AS n LIMIT 0",
    "CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN INSERT INTO harbour.updates VALUES (1); RETURN NULL; END'",
    "CREATE TRIGGER noted AFTER UPDATE ON harbour.sites FOR EACH STATEMENT EXECUTE FUNCTION noted()",
]


@pytest.mark.parametrize("base", ["postgresql"], indirect=True)
def test_a_geometry_column_gets_the_point_where_the_database_knows_the_type(base, postgis):
    postgis, server = postgis
    engine = sa.create_engine(postgis.replace("postgresql", "postgresql+psycopg", 1), poolclass=sa.pool.NullPool)
    with engine.begin() as connection:
        connection.execute(sa.text("CREATE EXTENSION IF NOT EXISTS postgis"))
        connection.execute(sa.text("CREATE SCHEMA harbour"))
        connection.execute(
            sa.text(
                "CREATE TABLE harbour.sites (id INTEGER PRIMARY KEY, street TEXT, town TEXT, postcode TEXT, lat NUMERIC(9,6))"
            )
        )
        for row in base.sql("SELECT id, street, town, postcode FROM sites"):
            connection.execute(
                sa.text("INSERT INTO harbour.sites VALUES (:a, :b, :c, :d)"), dict(zip("abcd", row, strict=True))
            )
    drafted = base.run("draft", postgis)
    assert 'table = "harbour.sites"' in drafted.stdout
    assert "spatial_ref_sys" not in drafted.stderr
    base.edit("job.toml", (base.url, postgis), ('"sites"', '"harbour.sites"'), ('"lat"', '"lat"\ngeometry = "point"'))
    before = None
    for sent in (10, 0):
        summary = base.summary()
        assert (summary["requests"]["sent"], summary["written"]["written"]) == (sent, 10)
        with engine.begin() as connection:
            query = "SELECT lat::float8, lon, ST_Y(point), ST_X(point), ST_SRID(point), xmin::text FROM harbour.sites"
            rows = [tuple(row) for row in connection.execute(sa.text(f"{query} ORDER BY id"))]
            if sent:
                for statement in NOTE_UPDATES:
                    connection.execute(sa.text(statement))
            else:
                updates = connection.execute(sa.text("SELECT count(*) FROM harbour.updates")).scalar_one()
        assert all(row[:2] == row[2:4] and row[4] == 4326 for row in rows)
        assert sent or (rows, updates) == (before, 0), "what is there already is not written again, not even in vain"
        before = rows
    running = base.start("run", "job.toml", "--follow", "0.2s", "--json")  # a server that goes away comes back
    edit = sa.text("UPDATE harbour.sites SET street = street || ' ' WHERE id = 3")
    with engine.begin() as connection:
        connection.execute(edit)
    assert json.loads(running.stdout.readline())["scan"]["changed"] == 1
    server("stop")
    while "Trying again" not in (told := running.stderr.readline()):
        assert running.poll() is None, told
    server("start")
    with engine.begin() as connection:
        connection.execute(edit)
    assert json.loads(running.stdout.readline())["scan"]["changed"] == 1
    running.terminate()
    running.communicate(timeout=60)
    assert running.returncode == 0
    engine.dispose()


def test_json_and_bytes_among_what_is_read_are_known_again(base):
    base.sql("ALTER TABLE sites ADD told JSON")
    base.sql("""UPDATE sites SET told = '"plain"' WHERE id < 5""")
    base.sql("""UPDATE sites SET told = '{"k":  [1, "x"]}' WHERE id > 7""")
    base.sql(f"ALTER TABLE sites ADD packed {'BYTEA' if base.engine_name == 'postgresql' else 'BLOB'}")
    with base.engine.begin() as connection:
        for number, street in base.sql("SELECT id, street FROM sites"):
            packed = street.encode() if number < 10 else b"\xff\x00"
            connection.execute(sa.text("UPDATE sites SET packed = :p WHERE id = :n"), {"p": packed, "n": number})
    base.edit("job.toml", ("[address]", 'name = "told"\n[address]'), ('street = "street"', 'street = "packed"'))
    summary = base.summary()
    assert (summary["outcomes"]["placed"], summary["written"]["written"]) == (9, 10)


@pytest.mark.parametrize("base", ["postgresql"], indirect=True)
def test_arrays_and_json_among_what_is_read_are_known_again(base):
    base.sql("ALTER TABLE sites ADD lines text[], ADD told json")
    base.sql("""UPDATE sites SET lines = ARRAY['a "b"', 'c\\d', NULL, 'é,'], told = '{"k":  [1, "x"]}' WHERE id < 9""")
    base.edit("job.toml", ("[address]", 'name = "told"\n[address]'),
              ('postcode = "postcode"', 'postcode = "postcode"\nregion = "lines"'))  # fmt: skip
    assert "wrote 10 records of sites in" in base.run("run", "job.toml").stderr
    assert base.sql("SELECT count(*) FROM sites WHERE lat IS NOT NULL OR outcome IS NOT NULL") == [(10,)]


CUT = {
    "postgresql": "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = current_database()",
    "mariadb": "SELECT id FROM information_schema.processlist WHERE id <> connection_id() AND user = 'root'",
}


@pytest.mark.parametrize("base", CUT, indirect=True)
def test_a_connection_lost_in_mid_read_or_mid_write_is_told_with_what_was_written(base):
    def cut():
        for (found,) in base.sql(CUT[base.engine_name]):
            if base.engine_name == "mariadb":
                base.sql(f"KILL {found}")

    many = " UNION ALL ".join(["SELECT 1 AS n"] * 10)
    base.sql(f"INSERT INTO sites (id, street) SELECT 10 + row_number() OVER (ORDER BY 1), 'x' FROM ({many}) a, ({many}) b, ({many}) c, ({many}) d, (SELECT 1 UNION SELECT 2) e")  # fmt: skip
    table = DatabaseTable(
        DatabaseLocation(DatabaseUrl(base.url), Named("sites")),
        ["street"],
        {"latitude": "lat"},
        base.folder,
        create=False,
    )
    batches = table.batches()
    next(batches)
    cut()
    with pytest.raises(BadSource, match=r"can't be read: .*Nothing was written"):
        list(batches)
    pages = 0

    def answering(batch):
        nonlocal pages
        pages += 1
        while pages == 3 and base.sql("SELECT count(*) FROM sites WHERE lat IS NOT NULL") != [(10000,)]:
            pass  # the second page is being written meanwhile
        if pages == 3:
            time.sleep(0.5)  # until the server has also said so
            cut()
        return [[1.0] * len(batch)]

    kept = []
    with pytest.raises(BadSource, match=r"can't be written any further: .*,000 rows before are written"):
        table.rewrite(None, ["lat"], answering, lambda left=(): kept.append(pages))
    assert base.sql("SELECT count(*), max(id) FROM sites WHERE lat IS NOT NULL") == [(10000, 10000)]
    assert kept == [2, 3], "each of the two pages is known to be written, and no other"


REFUSING = {  # record 3 breaks a rule, and record 5 is passed over where the database knows how
    "sqlite": [
        "CREATE TRIGGER r3 BEFORE UPDATE ON sites WHEN new.id = 3 BEGIN SELECT RAISE(ABORT, 'three is closed'); END",
        "CREATE TRIGGER r5 BEFORE UPDATE ON sites WHEN new.id = 5 BEGIN SELECT RAISE(IGNORE); END",
    ],
    "postgresql": [
        ("CREATE OR REPLACE FUNCTION rule() RETURNS trigger AS $$ BEGIN IF new.id = 3 THEN RAISE 'three is closed'; "
        "END IF; IF new.id = 5 THEN RETURN NULL; END IF; RETURN new; END $$ LANGUAGE plpgsql"),
        "CREATE TRIGGER r3 BEFORE UPDATE ON sites FOR EACH ROW EXECUTE FUNCTION rule()",
    ],
    "mariadb": [
        ("CREATE TRIGGER r3 BEFORE UPDATE ON sites FOR EACH ROW IF new.id = 3 THEN "
        "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'three is closed'; END IF")
    ],
}  # fmt: skip


def test_a_row_that_the_database_refuses_or_passes_over_is_named_and_the_others_are_written(base):
    base.sql("UPDATE sites SET street = '', number = 0 WHERE id = 1")  # the trial is about the first record
    for trigger in REFUSING[base.engine_name]:
        base.sql(trigger)
    passed = [] if base.engine_name == "mariadb" else [5]
    for sent in (9, 0):
        before = base.service.requests
        told = base.run("run", "job.toml", code=4).stderr
        assert base.service.requests - before == sent
        assert re.search(r"  3: .*three is closed", told), told
        assert ("  5: the database left it as it was" in told) == bool(passed)
        assert "yellowtor_new" not in told
        assert base.sql("SELECT id FROM sites WHERE lat IS NULL ORDER BY id") == [(n,) for n in (1, 3, *passed)]
    for name in ("r3", "r5")[: len(REFUSING[base.engine_name]) if base.engine_name == "sqlite" else 1]:
        base.sql(f"DROP TRIGGER {name}" + (" ON sites" if base.engine_name == "postgresql" else ""))
    assert base.summary()["requests"]["sent"] == 0
    assert base.sql("SELECT id FROM sites WHERE lat IS NULL") == [(1,)]


CHANGING = {  # coordinates are rounded, and streets are written in another way
    "sqlite": "CREATE TRIGGER c AFTER UPDATE OF lat ON sites BEGIN UPDATE sites SET lat = round(new.lat, 3), "
              "street = replace(new.street, ' ', ' the ') WHERE id = new.id AND street NOT LIKE '% the %'; END",
    "postgresql": "CREATE OR REPLACE FUNCTION rule() RETURNS trigger AS $$ BEGIN new.lat := round(new.lat, 3); "
                  "IF new.street NOT LIKE '% the %' THEN new.street := replace(new.street, ' ', ' the '); END IF; "
                  "RETURN new; END $$ LANGUAGE plpgsql; "
                  "CREATE TRIGGER c BEFORE UPDATE ON sites FOR EACH ROW EXECUTE FUNCTION rule()",
    "mariadb": "CREATE TRIGGER c BEFORE UPDATE ON sites FOR EACH ROW SET new.lat = round(new.lat, 3), new.street = "
               "IF(new.street LIKE '% the %', new.street, replace(new.street, ' ', ' the '))",
}  # fmt: skip


def test_what_a_trigger_makes_of_our_own_is_known_again_and_nothing_is_paid_twice(base):
    base.sql(CHANGING[base.engine_name])
    for sent in (10, 0, 0):
        summary = base.summary()
        assert (summary["requests"]["sent"], summary["outcomes"]["placed"]) == (sent, 10)
    assert base.sql("SELECT count(*) FROM sites WHERE street LIKE '% the %' AND lat = round(lat, 3)") == [(10,)]
    assert "up to date: 10 records" in base.run("run", "job.toml").stderr
    base.sql("UPDATE sites SET lat = lat + 0.5 WHERE id = 2")
    assert base.summary()["outcomes"]["kept"] == 1


NARROW = {
    "VARCHAR(5)": ("postgresql", "mariadb"), "INTEGER CHECK (outcome > 1)": ("sqlite",),
    "TEXT CHECK (outcome IN ('placed', 'kept'))": ("sqlite", "postgresql", "mariadb"),
    "ENUM('placed', 'doubtful')": ("mariadb",),
}  # fmt: skip


def test_a_column_that_can_not_hold_an_answer_is_told_before_anything_is_asked(base):
    for kind in [kind for kind, engines in NARROW.items() if base.engine_name in engines]:
        base.sql(f"ALTER TABLE sites ADD outcome {kind}")
        told = base.run("run", "job.toml", code=4).stderr
        assert "column 'outcome'" in told
        assert "Nothing was sent" in told
        base.sql("ALTER TABLE sites DROP COLUMN outcome")
    if base.engine_name == "sqlite":
        base.sql("DROP TABLE sites")
        base.sql("CREATE TABLE sites (id INTEGER PRIMARY KEY, street TEXT, town TEXT, postcode TEXT, lat INTEGER, "
                 "lon REAL) STRICT")  # fmt: skip
        base.sql("INSERT INTO sites (id, street, town) VALUES (1, 'Kelp Lane 1', 'Holm')")
        assert "the column 'lat' does not take" in base.run("run", "job.toml", code=4).stderr
    assert base.service.requests == 0


def test_keys_and_names_are_taken_as_the_database_has_them(base):
    exact = {"mariadb": "VARCHAR(20) COLLATE utf8mb4_bin", "postgresql": "TEXT", "sqlite": "TEXT"}[base.engine_name]
    quote = "`" if base.engine_name == "mariadb" else '"'
    table, keys = (
        f"{quote}my.sites{quote}",
        ["a", "A", "á", "Á", "b", "b.0", "07", "7"] + ["a "] * (base.engine_name != "mariadb"),
    )
    base.sql(f"DROP TABLE IF EXISTS {table}")
    base.sql(
        f"CREATE TABLE {table} (id {exact} PRIMARY KEY, street TEXT, town TEXT, postcode TEXT, lat REAL, lon REAL)"
    )
    for key, (_, street, town, postcode) in zip(keys, real_addresses(10), strict=False):
        base.sql(f"INSERT INTO {table} (id, street, town, postcode) VALUES (:k, :s, :t, :p)", k=key, s=street, t=town, p=postcode)  # fmt: skip
    base.edit("job.toml", ('table = "sites"', """table = '"my.sites"'"""))
    assert base.summary()["outcomes"]["placed"] == len(keys)
    assert base.sql(f"SELECT count(*) FROM {table} WHERE lat IS NULL") == [(0,)]
    assert "up to date" in base.run("run", "job.toml").stderr
    base.sql(f"DROP TABLE {table}")


@pytest.mark.parametrize("base", ["postgresql", "mariadb"], indirect=True)
def test_a_row_that_somebody_holds_is_told_after_a_few_seconds(base):
    base.run("run", "job.toml")
    base.sql("UPDATE sites SET outcome = NULL WHERE id = 4")
    with base.engine.begin() as theirs:
        theirs.execute(sa.text("UPDATE sites SET note = 'mine' WHERE id = 4"))
        told = base.run("run", "job.toml", code=4).stderr
        assert re.search("(?i)lock", told), told
    assert base.summary()["requests"]["sent"] == 0
    assert base.sql("SELECT note, outcome FROM sites WHERE id = 4") == [("mine", "placed")]


KINDS = {
    "sqlite": ["REAL"],
    "mariadb": ["FLOAT(10,6)", "FLOAT", "DECIMAL(7,4)"],
    "postgresql": ["pos", "real", "numeric(7,4)"],
}


def test_our_own_coordinates_are_known_again_whatever_the_type_makes_of_them(base):
    if base.engine_name == "postgresql":
        base.sql("DROP DOMAIN IF EXISTS pos CASCADE")
        base.sql("CREATE DOMAIN pos AS numeric(7,4)")
    for sent, kind in zip((10, 0, 0), KINDS[base.engine_name], strict=False):
        for column in ("lat", "lon"):
            base.sql(f"ALTER TABLE sites DROP COLUMN {column}")
            base.sql(f"ALTER TABLE sites ADD {column} {kind}")
        for requests, changed in ((sent, 10), (0, 0), (0, 0)):
            summary = base.summary()
            told = (summary["requests"]["sent"], summary["outcomes"]["placed"], summary["written"]["changed"])
            assert told == (requests, 10, changed), kind
    base.sql("DROP TABLE sites")
