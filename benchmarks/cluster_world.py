"""A made-up register in a folder of Parquet files, a reference table for it, and a job that has both."""

import random
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from trust_world import FORMS, _plain, made_world, name, typo

COUNTRIES = ("IT", "NL", "CZ", "PT", "US", "DE")
SEED = 211
PARTS = ("number", "street", "town", "postcode", "region", "country", "latitude", "longitude")
COLUMNS = ("street", "town", "postcode", "country")
JOB = """ledger = "{ledger}"
[records]
file = "register"
key = "id"
[address]
street = "street"
town = "town"
postcode = "postcode"
country = "country"
[ask]
services = [{services}]
[judge]
tolerance_m = 100
place_at = 0.9
[write]
to = "placed"
[write.columns]
latitude = "latitude"
longitude = "longitude"
outcome = "outcome"
confidence = "confidence"
matched = "matched"
"""
REFERENCE = """[service]
name = "Made-up addresses"
[reference]
file = "reference.parquet"
index = "index"
[reference.columns]
number = "number"
street = "street"
town = "town"
postcode = "postcode"
region = "region"
country = "country"
latitude = "latitude"
longitude = "longitude"
"""


def messy(r, parts, country):
    """The parts with an error, or a street that is nowhere."""
    street, town, postcode, land = parts
    return r.choice([
        [typo(r, street), town, postcode, land],
        [street, typo(r, town), postcode, land],
        [street, town, "", land],
        [_plain(street).upper(), _plain(town).upper(), postcode, ""],
        [f"{name(r, country, False)}vord 3", town, postcode, land],
    ])  # fmt: skip


def lay_out_register(place: Path, ledger: str, *, records: int, files: int, distinct: int, reference: int) -> None:
    """Records in `files` files with this many distinct addresses, of which one in ten is messy, and the reference."""
    made = made_world(SEED, COUNTRIES, reference)
    rows = [
        (str(number), s.text(), s.town.name, s.postcode, s.town.region, s.town.country, *map(repr, s.at(number)))
        for s in made.streets
        for number in s.numbers
    ]
    columns = dict(zip(PARTS, zip(*rows, strict=True), strict=True))
    pq.write_table(pa.table({name: pa.array(texts) for name, texts in columns.items()}), place / "reference.parquet")
    r = random.Random(5)
    texts = []
    for number in range(distinct):
        s = r.choice(made.streets)
        parts = [s.text(str(r.choice(s.numbers))), s.town.name, s.postcode, FORMS[s.town.country][0][0]]
        texts.append(parts if number % 10 else messy(r, parts, s.town.country))
    asked = pa.table(dict(zip(COLUMNS, map(pa.array, zip(*texts, strict=True)), strict=True)))
    numbers = np.random.default_rng(7)
    folder = place / "register"
    folder.mkdir()
    for at in range(files):
        here = range(records * at // files, records * (at + 1) // files)
        rows = asked.take(pa.array(numbers.integers(0, distinct, len(here))))
        keys = pa.array([f"R{number:09d}" for number in here])
        table = rows.add_column(0, "id", keys).append_column("built", pa.array([1900 + n % 120 for n in here]))
        pq.write_table(table, folder / f"part-{at:05d}.parquet", row_group_size=100_000)
    (place / "addresses.toml").write_text(REFERENCE)
    (place / "job.toml").write_text(JOB.format(ledger=ledger, services='"addresses.toml"'))
