"""Records in PostgreSQL, every answer in the ledger, against the plainest COPY out, COPY in and UPDATE … FROM.

python benchmarks/tables.py [RECORDS]      default 1000000; the server is a private one, from pgserver
"""

import os
import sys
import tempfile
from itertools import cycle, islice
from pathlib import Path

from common import JOB, PROGRAM, addresses, folder, lay_out, peak_mib, run, stand_in

os.environ.setdefault("XDG_RUNTIME_DIR", tempfile.mkdtemp())
import pgserver
import psycopg

COUNT = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
ROUNDS = 3 if COUNT <= 200_000 else 1
TABLE = """
DROP TABLE IF EXISTS sites;
CREATE TABLE sites (id INTEGER PRIMARY KEY, name TEXT, street TEXT, town TEXT, postcode TEXT, kind TEXT, owner TEXT,
  notes TEXT, checked DATE, size INTEGER, lat DOUBLE PRECISION, lon DOUBLE PRECISION, outcome TEXT,
  confidence DOUBLE PRECISION, level TEXT, matched TEXT);
INSERT INTO sites SELECT * FROM sites_as_they_were;
VACUUM ANALYZE sites;
"""
COLUMNS = "lat, lon, outcome, confidence, level, matched"
PLAIN = f"""
import io, sys, psycopg
out = io.BytesIO()
with psycopg.connect(sys.argv[1]) as connection, connection.cursor() as cursor:
    with cursor.copy("COPY (SELECT id, street, town, postcode FROM sites) TO STDOUT") as copy:
        answers = dict(line.rstrip("\\n").split("\\t", 1) for line in open("answers.tsv", encoding="utf-8"))
        rows = []
        for row in copy.rows():
            rows.append(row[0] + "\\t" + answers["|".join(row[1:])])
    cursor.execute("CREATE TEMP TABLE new (id INTEGER, lat DOUBLE PRECISION, lon DOUBLE PRECISION, outcome TEXT,"
                   " confidence DOUBLE PRECISION, level TEXT, matched TEXT)")
    with cursor.copy("COPY new FROM STDIN") as copy:
        copy.write("\\n".join(rows) + "\\n")
    sets = ", ".join(f"{{c}} = new.{{c}}" for c in "{COLUMNS}".split(", "))
    cursor.execute(f"UPDATE sites SET {{sets}} FROM new WHERE sites.id = new.id")
"""
EDITS = [
    ('file = "records.csv"\nkey = "Id"', 'database = "{url}"\ntable = "sites"'),
    ('"Street"', '"street"'), ('"Town"', '"town"'), ('"Postcode"', '"postcode"'),
    ('to = "placed.csv"', "in_place = true"),
    ('"Latitude"', '"lat"'), ('"Longitude"', '"lon"'), ('"Outcome"', '"outcome"'), ('"Confidence"', '"confidence"'),
    ('"Level"', '"level"'), ('"Matched address"', '"matched"'),
]  # fmt: skip

with folder() as name, stand_in("--pace", "0") as address:
    place = Path(name)
    server = pgserver.get_server(place / "postgres", cleanup_mode="stop")
    url = server.get_uri()

    def sql(text):
        with psycopg.connect(url, autocommit=True) as connection:
            for statement in filter(str.strip, text.split(";")):
                connection.execute(statement)

    lay_out(place, address, pace=None, parallel=32, rows=islice(cycle(list(addresses(5_000))), COUNT))
    sql(TABLE.split(";")[1].replace("sites", "sites_as_they_were"))
    with psycopg.connect(url) as connection, connection.cursor() as cursor:
        columns = "id, name, street, town, postcode, kind, owner, notes, checked, size"
        with cursor.copy(f"COPY sites_as_they_were ({columns}) FROM STDIN") as copy:
            for i, (street, town, postcode) in enumerate(islice(cycle(list(addresses(5_000))), COUNT)):
                copy.write_row([i, f"Site {i}", street, town, postcode, "indoor", "trust", "left of the door",
                                "2026-03-01", i % 90])  # fmt: skip
    job = JOB
    for old, new in EDITS:
        job = job.replace(old, new.format(url=url))
    (place / "job.toml").write_text(job)
    sql(TABLE)
    run(place, PROGRAM, "run", "job.toml")
    with psycopg.connect(url) as connection, (place / "answers.tsv").open("wb") as file:
        query = f"SELECT DISTINCT concat_ws('|', street, town, postcode), {COLUMNS} FROM sites"
        with connection.cursor().copy(f"COPY ({query}) TO STDOUT") as copy:
            for piece in copy:
                file.write(piece)
    pairs = []
    for _ in range(ROUNDS):
        sql(TABLE)
        _, plain = run(place, sys.executable, "-c", PLAIN, url)
        sql(TABLE)
        _, ours = run(place, PROGRAM, "run", "job.toml")
        _, again = run(place, PROGRAM, "run", "job.toml")
        pairs.append((ours / plain, ours, plain, again))
    sql(TABLE)
    memory = peak_mib(place, PROGRAM, "run", "job.toml")
    server.cleanup()
ratio, ours, plain, again = sorted(pairs)[len(pairs) // 2]
print(
    f"{COUNT:>9,} records in PostgreSQL: yellowtor {ours:.1f} s, plain {plain:.1f} s, ratio {ratio:.2f} (wanted: at "
    f"most 2); again, with nothing to write, {again:.1f} s ({again / plain:.2f}); peak {memory:.0f} MiB"
)
