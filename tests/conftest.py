"""What the tests stand on: the built program, run on files in a temporary folder against a real stand-in."""

import csv
import gc
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import urllib.request
from contextlib import ExitStack, contextmanager
from pathlib import Path
from types import SimpleNamespace

import pytest
import python_calamine as calamine
import sqlalchemy as sa
from hypothesis import HealthCheck, settings
from loaded import run_loaded

import yellowtor.demo
from yellowtor.ledger.storage.server import Server
from yellowtor.standin.server import Manners, StandIn, running

settings.register_profile("ours", deadline=None, max_examples=45, suppress_health_check=list(HealthCheck))
settings.load_profile("ours")

DATA = Path(yellowtor.demo.__file__).parent / "data"
PROGRAM = [str(Path(sys.executable).with_name("yellowtor"))]
HURRIED = [sys.executable, str(Path(__file__).with_name("hurried.py")), "600"]
SABOTEUR = [sys.executable, str(Path(__file__).with_name("saboteur.py"))]
KILLER = [sys.executable, str(Path(__file__).with_name("killer.py"))]
KEY = "a-key/with+odd=signs"


SLOW = ("databases", "files", "page", "stops", "demo", "shared", "shapes", "marker_attacks")  # begin first


def pytest_collection_modifyitems(items):
    """The files that take longest come first, so that no worker is left with one of them at the end."""
    places = {f"test_{name}.py": at for at, name in enumerate(SLOW)}
    items.sort(key=lambda item: places.get(item.path.name, len(SLOW)))


class Service:
    """A running stand-in; counts come from itself, over HTTP."""

    def __init__(self, address, key):
        self.address, self.key = address, key

    def counters(self):
        with urllib.request.urlopen(f"{self.address}/counters", timeout=10) as reply:
            return json.load(reply)

    def arrivals(self):
        with urllib.request.urlopen(f"{self.address}/arrivals", timeout=10) as reply:
            return json.load(reply)

    @property
    def requests(self):
        return self.counters()["requests"]


def around(environment):
    """The surroundings of a process with these variables."""
    return SimpleNamespace(environment=environment, folder=Path.cwd(), input=None)


@pytest.fixture
def serve():
    """serve(per_second=…, faults=…) starts a stand-in that ends with the test."""
    with ExitStack() as stack:

        def start(gazetteer=DATA, **manners):
            manners = {"key": KEY, "per_second": None} | manners
            address = stack.enter_context(running(StandIn(gazetteer, Manners(**manners))))
            return Service(address, manners["key"])

        yield start


PROBE = """
import sys, threading, time
worst, ended = 0.0, threading.Event()
threading.Thread(target=lambda: (sys.stdin.read(), ended.set()), daemon=True).start()
while not ended.is_set():
    before = time.monotonic()
    time.sleep(0.002)
    worst = max(worst, time.monotonic() - before - 0.002)
print(worst)
"""


@contextmanager
def judging_pace(service, rate, *, believed=0.04):
    """While the body runs, watch how late this machine wakes a process up; then hold the arrivals to the rate.

    The law is exact as long as nothing is held up for longer than one process can learn of (50 ms). What several
    processes that share an account can't tell each other is less: for them, believe a machine only up to 10 ms.
    Beyond, it takes a grosser breach to differ from the noise.
    """
    lower = lambda: os.nice(5)  # noqa: E731
    probe = subprocess.Popen([sys.executable, "-c", PROBE], stdin=-1, stdout=-1, text=True, preexec_fn=lower)
    gc.collect()
    gc.disable()  # a collection here stops the stand-in's clock for 50 ms, and requests seem to come together
    try:
        yield
    finally:
        gc.enable()
        jitter = float(probe.communicate("")[0])
    arrivals = service.arrivals()
    spans = [later - first for first, later in zip(arrivals, arrivals[rate:], strict=False)]
    assert spans, "enough requests arrived for a judgement"
    least = f"{rate + 1} in {min(spans):.4f} s; jitter {jitter:.4f} s"
    assert min(spans) >= (1.0 if jitter < believed else 0.9), least


class Example:
    """A folder with a job in it. edit() changes a file of it; run() runs the built program there."""

    def __init__(self, folder, service):
        self.folder, self.service = folder, service
        self.env = {k: v for k, v in os.environ.items() if not k.startswith("YELLOWTOR")} | {
            "XDG_DATA_HOME": str(folder / "home"),
            "XDG_CACHE_HOME": str(folder / "cache"),
            "COLUMNS": "160",
        }
        if service:
            self.env |= {"YELLOWTOR_STANDIN": service.address, "YELLOWTOR_STANDIN_KEY": service.key}

    def path(self, name):
        return self.folder / name

    def edit(self, name, *changes):
        text = self.path(name).read_text()
        for old, new in changes:
            assert old in text, f"{old!r} is not in {name}"
            text = text.replace(old, new)
        self.path(name).write_text(text)

    def start(self, *args, program=PROGRAM, **options):
        # The stand-in's clock is the judge: all other processes run at lower priority.
        options.setdefault("preexec_fn", lambda: os.nice(5))
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
        return subprocess.Popen([*program, *map(str, args)], cwd=self.folder, env=self.env, **pipes, **options)

    def run(self, *args, code=0, program=PROGRAM):
        args = list(map(str, args))
        if program is PROGRAM:
            ended, out, err = run_loaded(args, self.folder, self.env, timeout=180)
        else:
            process = self.start(*args, program=program)
            out, err = process.communicate(timeout=180)
            ended = process.returncode
        assert code is None or ended == code, f"code {ended}\n{out}\n{err}"
        assert "Traceback" not in err
        return subprocess.CompletedProcess(args, ended, out, err)

    def summary(self, *args, code=0, **options):
        return json.loads(self.run("run", "job.toml", "--json", *args, code=code, **options).stdout)

    def rows(self, name="cabinets-placed.xlsx", sheet="Cabinets"):
        """The rows of a workbook's sheet or of a CSV file, as dictionaries by key."""
        if name.endswith(".csv"):
            with self.path(name).open(newline="", encoding="utf-8") as file:
                return {row["Id"]: row for row in csv.DictReader(file)}
        rows = calamine.CalamineWorkbook.from_path(str(self.path(name))).get_sheet_by_name(sheet).to_python()
        return {row[0]: dict(zip(rows[0], row, strict=True)) for row in rows[1:]}


def lay_out(folder, service, data=DATA, *, paced=False, looks=False):
    """The demo's job in a folder; without a pace, and the looks of its markers, unless the test is about them."""
    folder.mkdir(parents=True, exist_ok=True)
    for name in ("job.toml", "stand-in.toml", "cabinets.xlsx", "coast.geojson", "roads.geojson"):
        shutil.copyfile((DATA if name.endswith(".toml") else data) / name, folder / name)
    example = Example(folder, service)
    if not looks:
        text = re.sub(r"(?m)^(to = \[|columns = \[).*\n", "", example.path("job.toml").read_text())
        example.path("job.toml").write_text(text[: text.index("\n[[markers.looks]]")])
    if not paced:
        example.edit("stand-in.toml", ("per_second = 40\n", ""))
    return example


@pytest.fixture
def example(tmp_path, serve):
    """example(per_day=…) is the demo's job and a stand-in with such manners."""

    def make(*, paced=False, looks=False, **manners):
        return lay_out(tmp_path / "example", serve(**manners), paced=paced, looks=looks)

    return make


@pytest.fixture
def small(tmp_path, serve):
    """small(rows, …) is a job on a CSV file of such rows: Id, Street, Town, Postcode, Latitude, Longitude."""

    def make(rows, **manners):
        made = lay_out(tmp_path / "small", serve(**manners))
        made.edit(
            "job.toml",
            ('file = "cabinets.xlsx"\nsheet = "Cabinets"', 'file = "records.csv"'),
            ('name = "Cabinet"\n', ""),
            ('"Number and street"', '"Street"'),
            ('to = "cabinets-placed.xlsx"', 'to = "placed.csv"'),
        )
        write_csv(made.path("records.csv"), rows)
        return made

    return make


def write_csv(path, rows):
    with path.open("w", newline="", encoding="utf-8") as file:
        write = csv.writer(file)
        write.writerow(["Id", "Street", "Town", "Postcode", "Latitude", "Longitude", "Notes"])
        write.writerows([*row, *[""] * (7 - len(row))] for row in rows)


def real_addresses(count, gazetteer=DATA):
    """This number of rows of real (made-up) addresses of the first country, from the gazetteer."""
    from yellowtor.standin.gazetteer import read_gazetteer

    points = [p for p in read_gazetteer(gazetteer)[0] if p.country_code == "XT"]
    chosen = points[:: max(1, len(points) // count)][:count]
    return [[f"R{i}", f"{p.number} {p.street}", p.town, p.postcode] for i, p in enumerate(chosen)]


def without_times(text):
    return re.sub(r"\d+ s|[\d.]+ a second", "", text)


@pytest.fixture(scope="session")
def postgres(tmp_path_factory):
    """The URL of a server of our own; in a folder that its own user can always reach."""
    os.environ.setdefault("XDG_RUNTIME_DIR", str(tmp_path_factory.mktemp("runtime")))
    import pgserver

    with tempfile.TemporaryDirectory(prefix="pg-", ignore_cleanup_errors=True) as folder:
        server = pgserver.get_server(folder, cleanup_mode="stop")
        yield server.get_uri()
        server.cleanup()


class Ledger:
    """A ledger of a test's own; fresh() empties it."""

    def __init__(self, folder, url=None):
        self._folder, self._url, self._number = folder, url, 0
        self.fresh()

    def fresh(self):
        self._number += 1
        if self._url:
            self.sql("DROP SCHEMA IF EXISTS yellowtor CASCADE")
        self.where = Server(self._url) if self._url else self._folder / f"{self._number}" / "ledger.sqlite"
        return self

    def sql(self, text):
        """Somebody else does something in the database."""
        url = (
            f"sqlite:///{self.where}" if self._url is None else self._url.replace("postgresql", "postgresql+psycopg", 1)
        )
        engine = sa.create_engine(url, poolclass=sa.pool.NullPool, isolation_level="AUTOCOMMIT")
        with engine.connect() as connection:
            if self._url:
                connection.exec_driver_sql("SET search_path TO yellowtor")
            done = connection.exec_driver_sql(text)
            return done.fetchall() if done.returns_rows else []

    @property
    def text(self):
        """As a job names it."""
        return str(self._url or self.where)


@pytest.fixture(params=["sqlite", "postgresql"])
def ledger(request, tmp_path):
    return Ledger(tmp_path, None if request.param == "sqlite" else request.getfixturevalue("postgres"))
