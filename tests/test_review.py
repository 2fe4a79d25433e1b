"""Doubtful records are settled by people: in a workbook, on a page, over a server, in the copy, by tables of their own."""

import csv
import json
import re
import shutil
import signal
import subprocess
import time
import urllib.error
import urllib.request
from pathlib import Path

import openpyxl
import pytest
from conftest import Ledger, real_addresses
from hypothesis import given
from hypothesis import strategies as st
from test_page import browser  # noqa: F401 - a fixture

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.geography.cell_coordinates import read_place
from yellowtor.contracts.address import Address
from yellowtor.contracts.review_file import CHOICES
from yellowtor.ledger.jobs.run_book import open_pins
from yellowtor.ledger.storage.open_store import open_store
from yellowtor.ledger.storage.schema import address as addresses
from yellowtor.run.clock import SystemClock
from yellowtor.run.phases.decision_rows import read_decision

GOOD = real_addresses(9)


def wrong(key, at, number):
    """A record whose house number does not exist: doubtful, with the street as its candidate."""
    return [key, f"{number} {GOOD[at][1].split(' ', 1)[1]}", *GOOD[at][2:]]


@pytest.fixture
def doubtful(small):
    """A job that was run, with nine doubtful records of eight addresses, an unplaced one, a good one, an empty one."""
    rows = [wrong(f"D{at}", at, 900 + at) for at in range(8)]
    job = small([*rows, wrong("D0b", 0, 900), ["U", "1 Nowhere Way", "Nixville", "99999"], GOOD[8], ["E", "", "", ""]])
    job.edit("job.toml", ('"Matched address"', '"Matched address"\nreasons = "Why"'))
    job.before = job.summary()
    assert job.before["outcomes"]["doubtful"] >= 8, job.before
    return job


def sent(job):
    summary = job.summary()
    return summary["requests"]["sent"], summary["outcomes"]


def cells(job, key, *names):
    row = job.rows("placed.csv")[key]
    return [row[name] for name in names]


def fill(path, decisions):
    """Decide in a workbook: {key: {column: text}}."""
    book = openpyxl.load_workbook(path)
    sheet = book["Review"]
    at = {cell.value: cell.column for cell in sheet[1]}
    for row in range(2, sheet.max_row + 1):
        for name, text in decisions.get(str(sheet.cell(row, at["key"]).value), {}).items():
            assert not sheet.cell(row, at[name]).protection.locked
            sheet.cell(row, at[name]).value = text
    book.save(path)
    return sheet, at


def test_a_workbook_goes_through_another_program_and_comes_back_as_decisions(doubtful, tmp_path):
    job = doubtful
    job.run("review", "job.toml", "--to", "r.xlsx", "--to", "r.csv", "--also", "unplaced", "--json")
    new_street = GOOD[8][1]
    sheet, at = fill(job.path("r.xlsx"), {
        "D0": {"decision": "a", "why": "the street is enough"},
        "D1": {"coordinates": "47,5; -28,25"},
        "D2": {"decision": "address", "new street": new_street, "new town": GOOD[8][2], "new postcode": GOOD[8][3]},
        "D3": {"decision": "all nothing"},
        "D4": {"decision": "place"},
        "D5": {"decision": "b"},
        "D6": {"decision": "a", "coordinates": "47.5, -28"},
        "U": {"decision": "nothing", "why": "demolished"},
    })  # fmt: skip
    assert sheet.protection.sheet
    assert sheet.auto_filter.ref
    assert sheet.freeze_panes
    (choice,) = sheet.data_validations.dataValidation
    assert set(CHOICES) == set(choice.formula1.strip('"').split(","))
    assert sheet.cell(2, at["address"]).protection.locked
    assert str(sheet.cell(2, at["records"]).value) == "2", "what settles most comes first"
    if shutil.which("soffice"):
        profile = f"-env:UserInstallation=file://{tmp_path / 'office'}"
        convert = [
            "soffice",
            profile,
            "--headless",
            "--convert-to",
            "ods",
            "--outdir",
            str(job.folder),
            str(job.path("r.xlsx")),
        ]
        subprocess.run(convert, check=True, capture_output=True, timeout=120)
    file = "r.ods" if shutil.which("soffice") else "r.xlsx"
    told = job.run("review", "job.toml", "--apply", file, "--by", "Ida", code=4).stderr
    assert len(re.findall(r"row \d+ \(D[456]\)", told)) == 3, "what can't be understood is listed"
    assert re.search(
        r"1 candidate accepted.*1 place set.*1 address corrected.*3 addresses that nothing fits", told, re.DOTALL
    )
    again = job.run("review", "job.toml", "--apply", file, code=4).stderr
    assert "6 known already" in again
    assert "Taken from" not in again
    requests, outcomes = sent(job)
    assert requests == 0, "the corrected address is known"
    assert outcomes["doubtful"] == job.before["outcomes"]["doubtful"] - 6
    assert outcomes["unplaced"] == 3
    assert cells(job, "D1", "Latitude", "Longitude") == ["47.5", "-28.25"]
    assert cells(job, "D0", "Latitude") == cells(job, "D0b", "Latitude") != [""], "equal addresses are decided once"
    assert re.fullmatch(
        r"pinned by Ida on 2\d{3}-\d\d-\d\d: candidate a of stand-in: .*; the street is enough",
        cells(job, "D0", "Why")[0],
    )
    assert cells(job, "D2", "Latitude", "Outcome") == cells(job, GOOD[8][0], "Latitude", "Outcome")
    assert "demolished" in cells(job, "U", "Why")[0]
    assert "corrected by Ida" in job.run("explain", "job.toml", "D2").stdout
    _, street, town, postcode = wrong("D2", 2, 902)
    address = f"{street}, {postcode} {town}, XT"
    assert "corrected by Ida" in job.run("cache", "show", "--job", "job.toml", address).stdout
    job.run("review", "job.toml", "--apply", file, code=4)
    assert sent(job) == (0, outcomes), "nothing changes"
    job.edit("records.csv", ("902 ", "903 "))
    assert job.summary()["requests"]["sent"] == 1, "until the address changes"
    job.run("pin", "job.toml", "D0", "--off")
    assert cells(job, "D0", "Outcome") == ["placed"]
    job.run("run", "job.toml")
    assert cells(job, "D0", "Outcome") == cells(job, "D0b", "Outcome") == ["doubtful"]


def test_csv_shields_formulas_and_no_file_of_the_job_is_overwritten(doubtful, small, tmp_path):
    job = doubtful
    job.run("review", "job.toml", "--to", "r.csv")
    with job.path("r.csv").open(encoding="utf-8-sig", newline="") as file:
        rows = list(csv.DictReader(file))
    assert not [text for row in rows for text in row.values() if text[:1] in {"=", "+", "-", "@"}]
    rows[0]["decision"] = "nothing"
    with job.path("mine.csv").open("w", newline="") as file:
        writer = csv.DictWriter(file, rows[0])
        writer.writeheader()
        writer.writerows(rows[:2])
    assert "1 address that nothing fits" in job.run("review", "job.toml", "--apply", "mine.csv").stderr
    for bad, code in (("r.docx", 3), ("records.csv", 3), ("job.toml", 3)):
        assert "Nothing was written" in job.run("review", "job.toml", "--to", bad, code=code).stderr
    job.run("review", "job.toml", "--to", "x.csv", "--serve", code=2)
    assert "run` first" in job.run("review", shutil.copy(job.path("job.toml"), job.path("other.toml")), code=3).stderr


def test_a_table_of_ones_own_and_the_copy_itself_bring_decisions(doubtful):
    job = doubtful
    street = wrong("x", 1, 901)[1]
    job.path("mine.csv").write_text(
        f"Id,latitude,longitude,New Street,why\nD0,47.1,-28.1,,a letter\nD1,,,{GOOD[8][1]},typed wrong\nD3,abc,1,,\nZZ,1,2,,\nE,,,1 Kelp,\n"
    )
    told = job.run("review", "job.toml", "--apply", "mine.csv", code=4).stderr
    assert [key in told for key in ("(D3)", "(ZZ)", "(E)")] == [True] * 3
    job.run("run", "job.toml")
    assert cells(job, "D0", "Latitude", "Longitude") == ["47.1", "-28.1"]
    assert cells(job, "D0b", "Outcome") == ["doubtful"], "the pin is the record's"
    # the copy: an address, a position; then another column
    job.edit("job.toml", ('to = "placed.csv"', 'to = "placed.csv"\ncorrections = true\ndoubtful = true'))
    job.run("run", "job.toml")
    before = job.path("placed.csv").read_text()
    street = wrong("x", 4, 904)[1]
    text = before.replace(f"D4,{street}", f"D4,{GOOD[8][1]}")
    lat, lon = cells(job, "D5", "Latitude", "Longitude")
    changed = text.replace(f"{lat},{lon}", "47.25,-28.5", 1) if f"{lat},{lon}" in text else text
    assert changed != text != before
    job.path("placed.csv").write_text(changed)
    assert "takes its addresses" in job.run("run", "job.toml", "--dry-run").stderr
    told = job.run("run", "job.toml").stderr
    assert re.search(
        r"1 corrected address and 1 position are taken from placed.csv|1 position and 1 corrected", told
    ), told
    pinned = [key for key, row in job.rows("placed.csv").items() if row["Latitude"] == "47.25"]
    assert len(pinned) == 1
    assert "corrected by" in job.run("explain", "job.toml", "D4").stdout
    assert cells(job, "D4", "Street") == [street], "the copy has the source's address again"
    settled = job.path("placed.csv").read_bytes()
    assert job.summary()["requests"]["sent"] == 0
    assert job.path("placed.csv").read_bytes() == settled
    job.path("placed.csv").write_text(settled.decode().replace("D6,", "D6x,"))
    assert "D6x" in job.run("run", "job.toml", code=4).stderr, "everything else is edited still"


def test_the_page_settles_by_keyboard_and_the_next_run_asks_nothing(doubtful, browser):  # noqa: F811
    from selenium.webdriver.common.action_chains import ActionChains
    from selenium.webdriver.common.keys import Keys

    job = doubtful
    job.run("review", "job.toml", "--to", "r.html", "--also", "unplaced")
    browser.execute_cdp_cmd("Page.setDownloadBehavior", {"behavior": "allow", "downloadPath": str(job.folder)})
    browser.get(job.path("r.html").as_uri())

    def press(*keys):
        for key in keys:
            ActionChains(browser).send_keys(key).perform()

    def progress():
        return browser.find_element("id", "progress").text

    texts = ["47.5, -28.25", "47,5; -28,25", "geo:47.5,-28.25;u=9", "47°30′N 28°15′W", "28.25W, 47.5N", "-28.25", "91, 5",
             "0, 0", "47.5 -28.25", "47°30'15\"N, 28°15'1\"W", "here", "47.5, -28.25 N"]  # fmt: skip
    in_page = browser.execute_script("return arguments[0].map(readPlace)", texts)
    ours = [read_place(text) for text in texts]
    for text, at, read in zip(texts, in_page, ours, strict=True):
        assert at is None or list(read.position.rounded()) == pytest.approx(at, abs=2e-6), text
    assert sum(at is not None for at in in_page) == 7
    total = int(re.search(r"of (\d+)", progress())[1])
    press("a", "a", "w", "seen", Keys.ENTER, "n", "t", "47,5; 28°15′W", Keys.ENTER)
    press("r")
    street = browser.find_element("css selector", "[data-part=street]")
    street.clear()
    street.send_keys(GOOD[8][1])
    for part, text in (("town", GOOD[8][2]), ("postcode", GOOD[8][3])):
        field = browser.find_element("css selector", f"[data-part={part}]")
        field.clear()
        field.send_keys(text)
    press(Keys.ENTER)
    assert progress().startswith(f"5 of {total} settled")
    press("m", Keys.ARROW_RIGHT, Keys.ARROW_UP)
    moved = browser.find_element("id", "placing-at").text
    press(Keys.ENTER, "N", "u")
    assert progress().startswith(f"6 of {total} settled"), "undone as one"
    press("A")
    left = browser.execute_script("return ITEMS.filter(item => !decided.has(item.id)).length")
    press("n")
    press("s")
    for _ in range(100):
        if job.path("decisions.json").exists():
            break
        time.sleep(0.1)
    saved = json.loads(job.path("decisions.json").read_text())
    assert len(saved) == total - left + 1
    assert [row.get("why") for row in saved].count("seen") == 1
    job.run("review", "job.toml", "--apply", "decisions.json", "--by", "Bo")
    requests, outcomes = sent(job)
    assert requests == 0
    assert outcomes["doubtful"] == 0
    rows = job.rows("placed.csv").values()
    assert [f"{row['Latitude']}, {row['Longitude']}" for row in rows].count(moved) >= 1
    assert [row["Latitude"] for row in rows].count("47.5") == 1


def call(address, path="", *, method="GET", body=None, **headers):
    request = urllib.request.Request(address + path, method=method, data=body and json.dumps(body).encode())
    for name, text in headers.items():
        request.add_header(name.replace("_", "-"), text)
    try:
        with urllib.request.urlopen(request, timeout=20) as reply:
            return reply.status, reply.read().decode()
    except urllib.error.HTTPError as error:
        return error.code, error.read().decode()


def test_the_server_listens_to_its_own_page_only_and_ends_when_all_is_settled(doubtful):
    job = doubtful
    process = job.start("review", "job.toml", "--serve", "--by", "Cy")
    address = process.stdout.readline().strip()
    origin, _, token = address.rstrip("/").rpartition("/")
    host = origin.removeprefix("http://")
    assert host.startswith("127.0.0.1:")
    assert len(token) >= 30
    status, page = call(address)
    assert status == 200
    items = json.loads(re.search(r'id="data">(.*?)</script>', page, re.DOTALL)[1])["items"]
    own = {"Origin": origin, "Content_Type": "application/json"}
    nothing = [{"id": items[0]["id"], "decision": "nothing"}]
    for refused in (
        call(origin + "/"), call(origin + "/wrong/"), call(f"{origin}/{token[:-1]}/"), call(address, Host="evil.example"),
        call(address, Host=f"evil.example:{host.split(':')[1]}"), call(address, Origin="http://evil.example"),
        call(address, Origin="null"), call(address, Sec_Fetch_Site="cross-site"), call(address, Sec_Fetch_Site="same-site"),
        call(address, "decisions", method="POST", body=nothing, Content_Type="application/json"),
        call(address, "decisions", method="POST", body=nothing, **own | {"Origin": "http://localhost:1"}),
        call(origin, "/x/decisions", method="POST", body=nothing, **own),
    ):  # fmt: skip
        assert refused[0] == 403, refused
    assert call(address, "decisions", method="POST", body=nothing, Origin=origin, Content_Type="text/plain")[0] == 415
    for body in ({"id": "1"}, [1], [{"id": 1, "decision": "a"}], [[]], [{"id": "1"}] * 2000, "x"):
        assert call(address, "decisions", method="POST", body=body, **own)[0] == 400, body
    assert "no pins" in job.run("pin", "job.toml").stderr or "Nothing is pinned" in job.run("pin", "job.toml").stderr
    status, said = call(
        address, "decisions", method="POST", body=[{"id": "1-zzz", "decision": "a", "a at": "geo:1,2"}], **own
    )
    assert (status, "no address" in said) == (200, True)
    left = json.loads(call(address, "decisions", method="POST", body=nothing, **own)[1])["left"]
    assert left == len(items) - 1
    assert "Cy" in job.run("pin", "job.toml").stdout, "stored at once"
    undone = [{"id": items[0]["id"], "decision": "undo"}]
    assert json.loads(call(address, "decisions", method="POST", body=undone, **own)[1])["left"] == len(items)
    rest = [{"id": item["id"], "decision": "nothing"} for item in items]
    assert json.loads(call(address, "decisions", method="POST", body=rest, **own)[1])["left"] == 0
    _, said = process.communicate(timeout=30)
    assert process.returncode == 0
    assert "0 left" in said
    assert sent(job)[1]["unplaced"] == 10
    assert "Nothing is to be decided" in job.run("review", "job.toml", "--serve").stderr
    job.run("pin", "job.toml", "D0", "--off")
    again = job.start("review", "job.toml", "--serve")
    again.stdout.readline()
    again.send_signal(signal.SIGINT)
    _, said = again.communicate(timeout=30)
    assert "1 left" in said, (again.returncode, said)


def test_in_the_terminal_and_by_letter(doubtful):
    job = doubtful
    process = job.start("review", "job.toml", "--ask", stdin=subprocess.PIPE)
    _, told = process.communicate("a\nzz\nn\n\n47.5, -28.25\nq\n", timeout=60)
    assert process.returncode == 0, told
    assert "3 decided" in told
    assert "'zz' is not" in told or "zz" in told
    key = next(k for k in (f"D{n}" for n in range(7, 0, -1)) if k not in job.run("pin", "job.toml").stdout)
    assert "has no candidate 'c'" in job.run("pin", "job.toml", key, "--candidate", "c", code=3).stderr
    job.run("pin", "job.toml", key, "--candidate", "a", "--by", "Di")
    job.run("pin", "job.toml", "U", "--at", "geo:47.1,-28.2", "--why", "seen")
    assert sent(job)[0] == 0
    assert cells(job, key, "Outcome") == ["placed"]
    assert cells(job, key, "Matched address")[0] != ""
    assert cells(job, "U", "Latitude") == ["47.1"]


def test_a_shared_ledger_takes_decisions_and_tells_their_history(small, tmp_path, postgres):
    job = small([wrong(f"D{at}", at, 900 + at) for at in range(5)])
    job.edit("job.toml", ('"ledger.sqlite"', f'"{Ledger(tmp_path, postgres).text}"'))
    job.run("run", "job.toml")
    job.run("review", "job.toml", "--to", "r.csv")
    with job.path("r.csv").open(encoding="utf-8-sig", newline="") as file:
        rows = list(csv.DictReader(file))
    rows[0] |= {"decision": "a"}
    rows[1] |= {"decision": "nothing"}
    rows[2] |= {"new street": GOOD[8][1]}
    rows[3] |= {"coordinates": "47.5, -28.25"}
    job.path("d.json").write_text(json.dumps(rows))
    told = job.run("review", "job.toml", "--apply", "d.json").stderr
    assert re.search(
        "1 candidate accepted.*1 place set.*1 address corrected.*1 address that nothing fits", told, re.DOTALL
    )
    assert "nothing new" in job.run("review", "job.toml", "--apply", "d.json").stderr
    assert sent(job)[0] == 1, "the corrected address"
    assert (
        "1 address of 1 record" in job.run("review", "job.toml").stderr
        or "addresses of" in job.run("review", "job.toml").stderr
    )
    found = json.loads(job.run("compare", "job.toml@-1", "job.toml", "--json").stdout)
    assert {(one["a"], one["b"]) for one in found["outcomes"]} >= {("doubtful", "placed"), ("doubtful", "unplaced")}
    job.run("pin", "job.toml", rows[0]["key"], "--off")
    history = json.loads(job.run("explain", "job.toml", rows[0]["key"], "--history", "--json").stdout)
    assert [(one["outcome"], bool(one["decision"]), bool(one["until"])) for one in history] == [
        ("doubtful", False, False),
        ("placed", True, True),
    ]


@given(st.dictionaries(
    st.sampled_from(["decision", "coordinates", "latitude", "longitude", "new street", "new town", "why", "a at", "b at"]),
    st.one_of(st.text(max_size=20), st.sampled_from([*CHOICES, "geo:47.5,-28.2", "1;2", "47,5 8,2", "all b", "POINT (8 47)"])),
))  # fmt: skip
def test_any_row_is_a_decision_or_is_refused_in_words(row):
    try:
        decision = read_decision(row, "")
    except ValueError:
        return
    if decision and decision.position:
        assert -90 <= decision.position.lat <= 90
        assert -180 <= decision.position.lon <= 180


@given(st.lists(st.tuples(st.integers(0, 4), st.integers(-1, 4)), max_size=12))
def test_corrections_never_form_a_chain_and_the_last_word_counts(tmp_path_factory, steps):
    where = tmp_path_factory.mktemp("corrections") / "ledger.sqlite"
    ways = [Address(street=f"{n} Kelp Lane", town="Holm") for n in range(5)]
    keys = [subject_key(one) for one in ways]
    believed = {}  # what each address should be asked as
    store = open_store(where, SystemClock())
    with store.transaction() as connection:
        connection.execute(
            addresses.insert(),
            [{"key": key, "parts": json.dumps(one.as_dict())} for key, one in zip(keys, ways, strict=True)],
        )
    store.close()
    with open_pins(where, Path("job.toml"), SystemClock()) as book:
        for old, new in steps:
            if new < 0:
                book.undo(keys[old])
                believed.pop(old, None)
                continue
            if old == new:
                continue
            book.correct(keys[old], ways[new], "Ida", "")
            believed = {one: new if to == old else to for one, to in believed.items()}
            believed.pop(new, None)
            believed[old] = new
            believed = {one: to for one, to in believed.items() if one != to}
        found = {subject_key(one.asked): subject_key(one.corrected) for one in book.corrections(keys)}
    assert found == {keys[one]: keys[to] for one, to in believed.items()}
    assert not set(found) & set(found.values())
