"""What the ledger knows, for people: found, shown, pinned, forgotten without a trace, expired, taken along."""

import getpass
import json
import re

import pytest
from conftest import real_addresses

ROWS = real_addresses(6)
LINE = f"{ROWS[2][1]}, {ROWS[2][3]} {ROWS[2][2]}"


def number_of(job, text, *where):
    found = json.loads(job.run("cache", "find", text, "--json", *(where or ("--job", "job.toml"))).stdout)
    return found[0]["number"], found


def test_an_address_is_found_also_roughly_and_everything_known_of_it_is_shown(small):
    job = small([*ROWS, ["SAME", *ROWS[2][1:]]])
    job.run("run", "job.toml")
    number, found = number_of(job, LINE)
    assert [one["likeness"] for one in found] == sorted((one["likeness"] for one in found), reverse=True)
    street = ROWS[2][1]
    assert number_of(job, f"{ROWS[2][2]} {street[:4]}{street[5:]}")[0] == number, (
        "a letter short, and the other way round"
    )
    assert "The ledger has no similar address" in job.run("cache", "find", "zzzz", "--job", "job.toml").stderr
    shown = job.run("cache", "show", number, "--job", "job.toml").stdout
    assert f"number {number}" in shown
    assert "stand-in, 2" in shown
    assert ": answered (HTTP 200" in shown
    assert "● placed by job.toml" in shown
    assert "2 records have it: R2, SAME" in shown
    entry = json.loads(job.run("cache", "show", number, "--job", "job.toml", "--json").stdout)
    (reply,), (asked,) = entry["replies"], entry["requests"]
    assert (reply["kind"], asked["kind"], asked["service"]) == ("answered", "answered", "stand-in")
    assert json.loads(reply["body"])
    assert reply["candidates"][0]["position"].keys() == {"lat", "lon"}
    assert (asked["who"], asked["took_ms"] >= 0) == (getpass.getuser(), True)
    told = job.run("cache", "sizes", "--job", "job.toml").stdout
    assert "6 addresses, 6 requests, 0 pins" in told
    assert re.search(r"stand-in +6 +answered +[\d.]+ KiB", told)
    by_name = json.loads(job.run("cache", "show", LINE.upper(), "--job", "job.toml", "--json").stdout)
    assert by_name["number"] == int(number), "by the address itself"
    assert "has no address similar to" in job.run("cache", "show", "Qwertz 12", "--job", "job.toml", code=3).stderr
    assert "is ambiguous. Give the number" in job.run("cache", "show", LINE[:9], "--job", "job.toml", code=3).stderr
    assert "has no address with the number 99" in job.run("cache", "show", 99, "--job", "job.toml", code=3).stderr
    assert job.service.requests == 6


def test_a_pin_on_an_address_takes_effect_at_the_next_run_without_a_request(small):
    job = small([*ROWS, ["SAME", *ROWS[2][1:]]])
    job.run("run", "job.toml")
    number, other = number_of(job, LINE)[0], number_of(job, f"{ROWS[4][1]}, {ROWS[4][3]} {ROWS[4][2]}")[0]
    told = job.run(
        "cache", "pin", number, "--at", "47.5,-28.5", "--why", "seen", "--by", "anna", "--job", "job.toml"
    ).stderr
    assert "is pinned at 47.5, -28.5; the next run writes this and asks no service" in told
    assert "0 requests sent" in job.run("run", "job.toml").stderr
    rows = job.rows("placed.csv")
    assert {(rows[key]["Latitude"], rows[key]["Outcome"]) for key in ("R2", "SAME")} == {("47.5", "placed")}
    assert "pinned by anna on" in job.run("cache", "show", number, "--job", "job.toml").stdout
    job.run("cache", "pin", number, "--like", other, "--why", "renamed", "--job", "job.toml")
    job.run("run", "job.toml")
    rows = job.rows("placed.csv")
    assert rows["R2"]["Latitude"] == rows["R4"]["Latitude"] != "47.5"
    assert f"renamed (as {ROWS[4][1]}" in job.run("cache", "show", number, "--job", "job.toml").stdout
    job.run("cache", "unpin", number, "--job", "job.toml")
    assert "has no pin" in job.run("cache", "unpin", number, "--job", "job.toml", code=3).stderr
    job.run("run", "job.toml")
    assert job.rows("placed.csv")["R2"]["Latitude"] not in {rows["R4"]["Latitude"], "47.5"}
    assert (
        "give either a position or a known address"
        in job.run("cache", "pin", number, "--why", "x", "--job", "job.toml", code=2).stderr
    )
    assert job.service.requests == 6


def test_what_is_forgotten_leaves_no_trace_in_the_files_of_the_ledger(small):
    job = small(ROWS)
    job.run("run", "job.toml")
    number = number_of(job, LINE)[0]
    street = ROWS[2][1].split(" ", 1)[1]
    others = [row for row in ROWS if street in row[1]]
    job.run("cache", "pin", number, "--at", "47.5,-28.5", "--why", "a secret of hers", "--job", "job.toml")
    assert "Aborted" in job.run("cache", "forget", number, "--job", "job.toml", code=1).stderr
    told = job.run("cache", "forget", number, "--every-trace", "--yes", "--job", "job.toml").stderr
    assert "every trace deleted (1 replies)" in told
    held = b"".join(path.read_bytes() for path in job.folder.glob("ledger.sqlite*"))
    assert b"a secret of hers" not in held
    assert len(others) > 1 or street.encode() not in held
    assert json.dumps(ROWS[2][1], ensure_ascii=False).encode() not in held
    assert "5 addresses, 6 requests, 0 pins" in job.run("cache", "sizes", "--job", "job.toml").stdout
    told = job.run("run", "job.toml").stderr
    assert "1 requests sent" in told, "it is in the source still: it is a new record"
    one = number_of(job, LINE)[0]
    job.run("cache", "forget", one, "--yes", "--job", "job.toml")
    assert "1 requests sent" in job.run("run", "job.toml").stderr, "what was forgotten is asked again"
    assert "No reply is too old" in job.run("cache", "expire", "--job", "job.toml").stderr
    assert (
        "stand-in: 6 replies are deleted" in job.run("cache", "expire", "--older-than", "0", "--job", "job.toml").stderr
    )
    assert "6 requests sent" in job.run("run", "job.toml").stderr


def test_a_colleagues_ledger_and_old_coordinates_are_taken_over_with_where_they_are_from(small, ledger):
    job = small([*ROWS, ["OLD", "1 Nowhere Lane", "Xyphoria", ""]])
    job.run("run", "job.toml")
    job.run("cache", "pin", number_of(job, "Nowhere Lane")[0], "--at", "47.5,-28.5", "--why", "known", "--by", "anna", "--job", "job.toml")  # fmt: skip
    told = job.run("cache", "export", "known.geojson", "--job", "job.toml").stderr
    assert "7 replies and 1 decisions are in known.geojson" in told
    features = json.loads(job.path("known.geojson").read_text())["features"]
    assert len(features) == 8
    assert all(f["geometry"] is None or f["geometry"]["type"] == "Point" for f in features)
    job.edit("job.toml", ("ledger.sqlite", ledger.text))
    job.path("placed.csv").unlink()
    told = job.run("cache", "import", "known.geojson", "--job", "job.toml").stderr
    assert "7 replies and 1 decisions are imported from known.geojson. They take effect at the next run" in told
    assert "; 8 were known" in job.run("cache", "import", "known.geojson", "--job", "job.toml").stderr
    before = job.service.requests
    assert "0 requests sent; 6 questions answered from the ledger" in job.run("run", "job.toml").stderr
    assert job.rows("placed.csv")["OLD"]["Latitude"] == "47.5"
    shown = job.run("cache", "show", number_of(job, LINE)[0], "--job", "job.toml").stdout
    assert "import of known.geojson: " in shown
    street, town = ROWS[0][1], ROWS[0][2]
    point = {"type": "Point", "coordinates": [-28.25, 47.75]}
    old = {"street": street, "town": town, "postcode": ROWS[0][3], "country": "XT"}
    job.path("old.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [
        {"type": "Feature", "geometry": point, "properties": {**old, "why": "the survey of 1998", "who": "the harbour board"}}]}))  # fmt: skip
    job.run("cache", "import", "old.geojson", "--job", "job.toml")
    job.run("run", "job.toml")
    assert (job.rows("placed.csv")["R0"]["Latitude"], job.service.requests) == ("47.75", before)
    assert (
        "pinned by the harbour board"
        in job.run("cache", "show", number_of(job, f"{street} {town}")[0], "--job", "job.toml").stdout
    )


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("no json", "can't be read as GeoJSON"), ("[]", "is not a GeoJSON FeatureCollection"),
        ('{"features": [{"geometry": null, "properties": {"town": "A"}}]}', "it has neither a point nor a reply"),
        ('{"features": [{"geometry": {"type": "Point", "coordinates": [200, 1]}, "properties": {"town": "A"}}]}', "not on the globe"),
        ('{"features": [{"geometry": {"type": "Point", "coordinates": [2, 1]}, "properties": {"x": 1}}]}', "it has no address"),
    ],
)  # fmt: skip
def test_a_file_that_is_not_as_it_must_be_is_told(small, text, said):
    job = small(ROWS)
    assert "There is no ledger" in job.run("cache", "sizes", "--job", "job.toml", code=3).stderr
    job.path("bad.geojson").write_text(text)
    assert said in job.run("cache", "import", "bad.geojson", "--job", "job.toml", code=4).stderr
