"""The page in a browser without a network: what people see of it, do with it, print and embed."""

import base64
import json
import random
import re
import shutil
import time
from io import BytesIO

import pytest
from conftest import real_addresses, write_csv

from yellowtor.contracts.map_view import MapView
from yellowtor.contracts.marker import OUTCOME_LOOKS, Marker, MarkerHead
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.markers.formats.page import open_file
from yellowtor.markers.target import MarkerTarget
from yellowtor.markers.texts import texts_in

DRIVER, CHROMIUM = shutil.which("chromedriver"), shutil.which("chromium")
pytestmark = pytest.mark.skipif(not (DRIVER and CHROMIUM), reason="no Chromium with its driver on this machine")


@pytest.fixture
def browser(tmp_path):
    """A browser that reaches no host at all; what its console says must hold no error."""
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    options.binary_location = CHROMIUM
    flags = ["headless=new", "no-sandbox", "disable-gpu", "no-first-run", "disable-background-networking", "disable-sync",
             "disable-component-update", "window-size=1280,800", f"user-data-dir={tmp_path / 'profile'}",
             "host-resolver-rules=MAP * ~NOTFOUND"]  # fmt: skip
    for flag in flags:
        options.add_argument(f"--{flag}")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service(DRIVER))
    driver.implicitly_wait(5)
    yield driver
    log = driver.get_log("browser")
    driver.quit()
    assert [entry["message"] for entry in log if entry["level"] == "SEVERE"] == []


def of(driver, css):
    return driver.find_element("css selector", css)


def texts(driver, css):
    """What is to be read now in each such element; the page may draw them anew at any time."""
    script = "return [...document.querySelectorAll(arguments[0])].map(one => one.innerText ?? one.textContent)"
    return [text.strip() for text in driver.execute_script(script, css)]


def text_of(driver, css):
    assert wait_until(lambda: texts(driver, css))
    return texts(driver, css)[0]


def click(driver, css):
    from selenium.common.exceptions import ElementClickInterceptedException, StaleElementReferenceException

    before = None
    for _ in range(100):  # until the page rests: what moves is missed, and the click meets the map
        try:
            element = of(driver, css)
            if element.rect == before:
                element.click()
                return
            before = element.rect
        except (ElementClickInterceptedException, StaleElementReferenceException):
            pass
        time.sleep(0.05)
    raise AssertionError(f"{css} can't be clicked")


def legend(driver):
    """The entries of the legend with their counts."""
    names, counts = texts(driver, "#legend span"), texts(driver, "#legend b")
    return {name: int(count.replace(",", "")) for name, count in zip(names, counts, strict=True)}


def test_everything_that_people_do_with_the_page(example, browser):
    from pypdf import PdfReader
    from selenium.webdriver import ActionChains, Keys

    job = example(looks=True)
    summary = job.summary()
    rows = job.rows()
    outcomes = {name: count for name, count in summary["outcomes"].items() if count}
    browser.get(job.path("cabinets.html").as_uri())
    found = legend(browser)
    assert {name: found[name] for name in outcomes} == outcomes
    assert sum(count for name, count in found.items() if name not in outcomes) == summary["records"]
    placed = sum(outcomes.get(name, 0) for name in ("placed", "kept", "doubtful"))
    groups = list(map(int, texts(browser, ".cluster")))
    assert sum(groups) + len(texts(browser, ".marker")) == placed, "each marker is drawn, or counted in a cluster"

    click(browser, ".cluster")
    assert wait_until(lambda: list(map(int, filter(None, texts(browser, ".cluster")))) != groups), "a cluster opens"
    click(browser, "#legend button")
    hidden = found["to be checked"]
    assert text_of(browser, "#found") == f"{summary['records'] - hidden} shown"
    click(browser, "#legend button")

    doubtful = next(row for row in rows.values() if row["Outcome"] == "doubtful")
    of(browser, "#find").send_keys(doubtful["Number and street"])
    assert wait_until(lambda: texts(browser, "#list .where")[0].startswith(doubtful["Number and street"]))
    click(browser, "#list .row")
    said = text_of(browser, ".popup")
    for text in (
        doubtful["Matched address"],
        "doubtful",
        "(estimate)",
        str(doubtful["Access notes"]),
        "Places: the stand-in",
    ):
        assert text in said
    assert text_of(browser, "#list .row[aria-current=true] .name") == doubtful["Cabinet"]
    assert len(texts(browser, ".popup button.near")) == 5
    assert re.fullmatch(r"geo:[\d.-]+,[\d.-]+;u=\d+", of(browser, ".popup a[href^=geo]").get_attribute("href"))
    browser.execute_cdp_cmd(
        "Browser.grantPermissions", {"permissions": ["clipboardReadWrite", "clipboardSanitizedWrite"]}
    )
    click(browser, ".popup [data-copy]")
    assert wait_until(lambda: text_of(browser, ".popup [data-copy]") == "Copied")
    copied = browser.execute_async_script("navigator.clipboard.readText().then(arguments[0])")
    assert [float(n) for n in copied.split(", ")] == [doubtful["Latitude"] or pytest.approx(47.5, abs=1), pytest.approx(-28.5, abs=1.2)]  # fmt: skip

    of(browser, "#find").clear()
    of(browser, "#find").send_keys(" ", Keys.BACKSPACE)
    click(browser, "[aria-label='Show all']")
    click(browser, "[aria-label='Measure a distance']")
    for x, y in ((-100, 0), (100, 0)):
        ActionChains(browser).move_to_element_with_offset(of(browser, "#map"), x, y).click().perform()
    assert wait_until(lambda: re.fullmatch(r"[\d.]+ km", text_of(browser, ".reach")))
    ActionChains(browser).send_keys(Keys.ESCAPE).perform()

    paper = PdfReader(BytesIO(base64.b64decode(browser.print_page())))
    printed = "".join(page.extract_text() for page in paper.pages)
    assert [key for key in rows if key.replace("-", "") not in printed.replace("-", "").replace("\n", "")] == []
    assert "Defibrillator cabinets" in printed

    browser.set_window_size(500, 800)
    width = browser.execute_script("return document.documentElement.scrollWidth <= innerWidth")
    assert width, "nothing is wider than a phone"
    assert of(browser, "#map").rect["width"] == browser.execute_script("return innerWidth")


def test_a_page_in_another_language_inside_another_page(small, browser):
    job = small(real_addresses(3))
    text = job.path("job.toml").read_text()
    own = "[markers]\npage = 'm.html'\ntitle = 'A & <b>'\n[markers.map]\nembed = true\nlanguage = 'de'\nsize = ['700px', '80vh']\n"
    job.path("job.toml").write_text(text[: text.index("[markers]")] + own + "centre = [47.5, -28.5]\nzoom = 9\n")
    job.run("run", "job.toml")
    host = "<!doctype html><meta charset=utf-8><h1>Host</h1>" + job.path("m.html").read_text()
    job.path("host.html").write_text(host)
    browser.get(job.path("host.html").as_uri())
    frame = of(browser, "iframe")
    assert (frame.rect["width"], frame.get_attribute("title")) == (700, "A & <b>")
    browser.switch_to.frame(frame)
    assert text_of(browser, "h1") == "A & <b>"
    assert text_of(browser, ".count") == "3 Datensätze"
    assert legend(browser) == {"verortet": 3}
    click(browser, "#list .row")
    assert "Am nächsten" in text_of(browser, ".popup")


def test_a_hundred_thousand_markers_are_usable_within_seconds(tmp_path, browser):
    from selenium.webdriver import Keys

    page = tmp_path / "m.html"
    target = MarkerTarget(page, MarkerHead("Many", ["Note"]), view=MapView(texts=texts_in("en")))
    chance = random.Random(1)
    with open_file(target) as file:
        for n in range(100_000):
            outcome = Outcome.DOUBTFUL if n % 10 == 0 else Outcome.PLACED
            position = Position(round(chance.gauss(48, 2), 6), round(chance.gauss(5, 4), 6))
            asked = f"{n % 200} Kelp Lane {n % 977}, {n:06} Holm"
            file.add(Marker(f"K-{n}", f"Box {n}", outcome, position, OUTCOME_LOOKS[outcome], asked, f"{asked}, Vest",
                "building", 0.987, "estimate", ["street agrees"], columns={"Note": f"note {n % 5000}"}))  # fmt: skip
    assert page.stat().st_size < 25_000_000
    browser.set_page_load_timeout(60)
    browser.get(page.as_uri())
    ready = int(of(browser, "html[data-ready]").get_attribute("data-ready"))
    assert ready < 15_000, "it takes a second on an idle machine"
    assert sum(int(one.replace(",", "")) for one in texts(browser, ".cluster")) > 90_000
    of(browser, "#find").send_keys("box 77777")
    assert wait_until(lambda: text_of(browser, "#found").startswith("1 "))
    assert json.loads(browser.execute_script("return JSON.stringify(rows)")) == [77777]
    of(browser, "#find").clear()
    of(browser, "#find").send_keys("k", Keys.BACKSPACE)
    assert wait_until(lambda: text_of(browser, "#found") == "")
    browser.execute_script("zoom = map.getZoom(); map.once('zoomend', () => { rests = map.getZoom() > zoom })")
    click(browser, ".cluster")
    assert wait_until(lambda: browser.execute_script("return window.rests")), "a group opens"
    browser.execute_script("listed([1, 2, 3], map.getCenter())")
    click(browser, ".popup [data-go='2']")
    assert wait_until(lambda: "Box 2" in text_of(browser, ".popup h2"))
    assert browser.execute_script("return document.querySelectorAll('#list .row').length") < 60, (
        "only rows in view exist"
    )


def test_every_marker_is_drawn_without_clusters_and_the_keyboard_reaches_all(small, browser):
    from selenium.webdriver import ActionChains, Keys

    job = small(real_addresses(12))
    text = job.path("job.toml").read_text()
    own = "[markers]\npage = 'm.html'\ncolumns = ['*']\n[markers.map]\ncluster = false\nlabel = 'always'\nscroll_wheel = false\n"
    job.path("job.toml").write_text(text[: text.index("[markers]")] + own)
    rows = real_addresses(12)
    write_csv(job.path("records.csv"), [[*row, "", "", note] for row, note in zip(rows, ["https://host.example/a?b=<c>", "javascript:alert(1)", *"cdefghijkl"], strict=True)])  # fmt: skip
    job.run("run", "job.toml")
    browser.get(job.path("m.html").as_uri())
    assert len(texts(browser, ".marker")) == 12
    assert sorted(texts(browser, ".leaflet-tooltip")) == sorted(row[0] for row in rows)
    of(browser, "#find").send_keys("nothing like it")
    assert wait_until(lambda: text_of(browser, "#list .none") == "No record is like that.")
    of(browser, "#find").clear()
    of(browser, "#find").send_keys("javascript")
    assert wait_until(lambda: len(texts(browser, "#list .row")) == 1), "all columns are searched"
    click(browser, "#list .row")
    assert texts(browser, ".popup dd a[target]") == [], "such an address is no link"
    of(browser, "#find").clear()
    of(browser, "#find").send_keys("host.example")
    assert wait_until(lambda: texts(browser, "#list .where") and "R0" in texts(browser, "#list .name"))
    click(browser, "#list .row")
    (link,) = browser.find_elements("css selector", ".popup dd a[target]")
    assert link.get_attribute("rel") == "noopener noreferrer"
    assert link.get_attribute("href").startswith("https://host.example/a?b=")
    of(browser, "#find").clear()
    of(browser, "#find").send_keys("r", Keys.BACKSPACE)
    ActionChains(browser).send_keys(Keys.TAB, Keys.ENTER).perform()
    assert wait_until(lambda: texts(browser, ".popup h2"))
    ActionChains(browser).send_keys(Keys.ARROW_DOWN, Keys.ENTER).perform()
    assert wait_until(lambda: text_of(browser, "#list .row[aria-current=true] .name") == text_of(browser, ".popup h2"))
    ActionChains(browser).send_keys(Keys.ESCAPE).perform()
    browser.execute_script("document.querySelector('.marker').focus()")
    ActionChains(browser).send_keys(Keys.ENTER).perform()
    assert wait_until(lambda: texts(browser, ".popup h2")), "a marker opens by the keyboard too"


def wait_until(holds):
    for _ in range(400):
        if holds():
            return True
        time.sleep(0.05)
    return False
