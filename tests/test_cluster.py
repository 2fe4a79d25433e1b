"""A folder of Parquet files: by one process, by the workers of a cluster, and by an engine that calls us."""

import errno
import json
import os
import shutil
import signal
import sys
import tempfile
import time
from pathlib import Path

import dask.dataframe as dd
import fsspec
import pandas as pd
import psutil
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from conftest import real_addresses
from hypothesis import given
from hypothesis import strategies as st
from moto.server import ThreadedMotoServer

import yellowtor
from yellowtor.errors import BadSource
from yellowtor.tables.folder import LocalFolder, is_records
from yellowtor.tables.remote_folder import RemoteFolder

NAMES = ["Id", "Street", "Town", "Postcode"]


def write_register(folder, rows, files):
    """The rows in this many files, one of them in a folder of its own, beside what is no record."""
    for number in range(files):
        path = folder / ("north" if number == 1 else "") / f"part-{number}.parquet"
        path.parent.mkdir(parents=True, exist_ok=True)
        here = rows[number::files]
        pq.write_table(pa.table(dict(zip(NAMES, map(pa.array, zip(*here, strict=True)), strict=True))), path)
    (folder / "_SUCCESS").write_text("")


def placed(job, name="placed"):
    return {file.name: pq.read_table(file) for file in sorted(job.path(name).rglob("*.parquet"))}


@pytest.fixture
def register(small, ledger):
    """register(records, files) is a job whose records are in a folder, and how many different questions they are."""

    def make(records, files, **manners):
        job = small([], **manners)
        addresses = real_addresses(60)
        rows = [[f"R{n}", *addresses[n * 7 % len(addresses)][1:]] for n in range(records)]
        rows[5][1] = ""  # incomplete
        rows[9][1] = f"9999 {rows[9][1].partition(' ')[2]}"  # doubtful
        rows[11][1] = f"9998 {rows[9][1].partition(' ')[2]}"
        write_register(job.path("records"), rows, files)
        job.edit(
            "job.toml",
            ('"records.csv"', '"records"'),
            ('"placed.csv"', '"placed"'),
            ('"ledger.sqlite"', f'"{ledger.text}"'),
        )
        return job, len({tuple(row[1:]) for row in rows if row[1]})

    return make


def written_at(job):
    return {file.name: file.stat().st_mtime_ns for file in job.path("placed").rglob("*.parquet")}


@pytest.mark.parametrize("ledger", ["postgresql"], indirect=True)
def test_workers_place_a_folder_of_files_as_one_process_does(register):
    job, questions = register(600, 5)
    summary = job.summary("--on", "local:2")
    assert job.service.requests == questions == summary["requests"]["sent"]
    by_workers = placed(job)
    assert sum(table.num_rows for table in by_workers.values()) == summary["records"] == 600
    assert summary["outcomes"]["incomplete"] == 1
    entry = json.loads(job.path("placed/_manifest/north/part-1.parquet.json").read_text())
    assert (entry["file"], entry["records"], entry["result"]["written"]) == ("north/part-1.parquet", 120, 120)

    job.path("placed").rename(job.path("before"))
    text = job.path("job.toml").read_text()
    alone = "\n".join('ledger = "alone.sqlite"' if line.startswith("ledger") else line for line in text.splitlines())
    job.path("job.toml").write_text(alone)
    one = job.summary()
    assert (one["outcomes"], one["doubts"]) == (summary["outcomes"], summary["doubts"])
    assert placed(job) == by_workers, "the same records, answers and types"
    at = written_at(job)
    assert "up to date: placed" in job.run("run", "job.toml").stderr
    assert written_at(job) == at
    told = job.run("run", "job.toml", "--on", "local:2", code=3).stderr
    assert "the ledger is a PostgreSQL" in told
    job.path("job.toml").write_text(text)

    for broken, code, said in (
        (lambda: pq.write_table(pq.read_table(job.path("records/part-0.parquet")), job.path("records/part-9.parquet")),
         4, "is also in another file"),
        (lambda: (job.path("records/part-9.parquet").unlink(), job.path("placed/part-2.parquet").write_bytes(b"mine")),
         4, "is not as a run wrote it"),
    ):  # fmt: skip
        broken()
        assert said in job.run("run", "job.toml", code=code).stderr
    assert job.path("placed/part-2.parquet").read_bytes() == b"mine"
    assert job.service.requests == 2 * questions, "once for each ledger"


@pytest.mark.parametrize("ledger", ["sqlite"], indirect=True)
def test_the_index_of_states_is_made_after_all_files_of_a_folder(register, ledger):
    job, questions = register(12_000, 2)
    job.run("plan", "job.toml")
    pages = dict(ledger.sql("SELECT name, rootpage FROM sqlite_master WHERE name IN ('work_place', 'work_state')"))
    assert pages["work_state"] > pages["work_place"] + 100, "they began side by side"
    summary = job.summary()
    assert (summary["records"], summary["requests"]["sent"]) == (12_000, questions)


@pytest.mark.parametrize("ledger", ["postgresql"], indirect=True)
def test_workers_that_live_on_serve_run_after_run_and_without_a_scheduler_the_run_ends(register):
    job, questions = register(3_000, 6)
    dask = [str(Path(sys.executable).with_name("dask"))]
    scheduler = job.start("scheduler", "--host", "127.0.0.1", "--port", 0, "--no-dashboard", "--scheduler-file", "s.json", program=dask)  # fmt: skip
    worker = job.start("worker", "--scheduler-file", "s.json", "--nthreads", 1, "--no-nanny", "--no-dashboard", program=dask)  # fmt: skip
    try:
        until = time.monotonic() + 60
        while not job.path("s.json").exists() and time.monotonic() < until:
            time.sleep(0.05)
        on = ("--on", json.loads(job.path("s.json").read_text())["address"])
        odd = job.path("records/part-9.parquet")
        pq.write_table(pa.table({"Id": ["X"]}), odd)
        assert "has other columns than" in job.run("run", "job.toml", *on, code=4).stderr
        odd.unlink()
        began = time.monotonic()
        told = job.run("run", "job.toml", *on, "--json")
        assert "waiting for the tasks" not in told.stderr, time.monotonic() - began
        assert job.service.requests == questions
        shutil.rmtree(job.path("placed"))
        orphan = job.start("run", "job.toml", *on, "--log", "log.jsonl")
        wait_for_phase(job.path("log.jsonl"), "Reading", orphan)
        scheduler.kill()
        out, err = orphan.communicate(timeout=60)
        assert orphan.returncode == 1
        assert "scheduler of the cluster does not answer any more" in err
        assert "Traceback" not in out + err
        job.run("run", "job.toml")
        assert (len(placed(job)), job.service.requests) == (6, questions)
    finally:
        for process in (worker, scheduler):
            process.kill()
            process.communicate()


def workers_of(process):
    return [
        one for one in psutil.Process(process.pid).children(recursive=True) if "spawn_main" in " ".join(one.cmdline())
    ]


def wait_for_phase(log, name, process):
    until = time.monotonic() + 90
    while time.monotonic() < until and process.poll() is None:
        if log.exists() and f'"{name}"' in log.read_text():
            return
        time.sleep(0.02)
    pytest.fail(f"no {name}: {process.communicate()}")


NAMES_OF_FOLDERS = st.lists(st.sampled_from(["a", "ab", "[x", "_no", ".no"]), max_size=3).map("/".join)
PATTERNS = st.lists(st.sampled_from(["*", "**", "a*", "?", "[ab]*", "[[]x", "*.parquet"]), min_size=1, max_size=4)


@given(st.sets(NAMES_OF_FOLDERS, min_size=1), PATTERNS.filter(lambda parts: parts[-1] != "**"))
def test_a_pattern_finds_what_the_system_finds_but_nothing_hidden_and_passes_over_no_unreadable_folder(folders, parts):
    def shut(path):
        if Path(path).name == "ab":
            raise PermissionError(errno.EACCES, "Permission denied", str(path))
        return scandir(path)

    scandir = os.scandir
    with tempfile.TemporaryDirectory() as name, pytest.MonkeyPatch.context() as patched:
        place, pattern = Path(name), "/".join(parts)
        for folder in folders:
            (place / folder).mkdir(parents=True, exist_ok=True)
            (place / folder / "b.parquet").touch()
        known = [file.relative_to(place) for file in place.glob(pattern) if file.is_file()]
        wanted = sorted({path.as_posix() for path in known if not any(part[0] in "_." for part in path.parts)})
        both = LocalFolder(place), RemoteFolder(f"file://{place}")
        for folder in both:
            assert sorted(filter(is_records, folder.names(pattern))) == wanted
            everything = sorted(filter(is_records, folder.names("**/*")))
            (place / "back").symlink_to(place)
            assert sorted(filter(is_records, folder.names("**/*"))) == everything, (
                "a link that leads back is not followed"
            )
            (place / "back").unlink()
        patched.setattr(os, "scandir", shut)
        for folder in both if any("ab" in path.split("/") for path in wanted) else ():
            with pytest.raises(BadSource, match=r"can't be read: .*Permission denied"):
                folder.names(pattern)


@pytest.fixture
def store(request, tmp_path, monkeypatch):
    """The URL of a place for folders: an object store, or a file system of which only the URL is known."""
    (tmp_path / "store").mkdir()
    if request.param == "file":
        yield f"file://{tmp_path}/store"
        return
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    for name in ("ACCESS_KEY_ID", "SECRET_ACCESS_KEY"):
        monkeypatch.setenv(f"AWS_{name}", f"not-told-{name}")
    monkeypatch.setenv("AWS_ENDPOINT_URL", f"http://{host}:{port}")
    fsspec.filesystem("s3", skip_instance_cache=True).mkdir("store")
    yield "s3://store"
    server.stop()


@pytest.mark.parametrize("ledger", ["postgresql"], indirect=True)
@pytest.mark.parametrize("store", ["s3", "file"], indirect=True)
def test_folders_of_another_file_system_are_read_and_written_like_those_of_this_machine(register, store):
    job, questions = register(300, 4)
    job.env |= {name: value for name, value in os.environ.items() if name.startswith("AWS")}
    job.summary()
    here = placed(job)
    job.edit("job.toml", ('"records"', f'"{store}/records"'), ('"placed"', f'"{store}/placed"'))
    system, root = fsspec.url_to_fs(store, use_listings_cache=False, skip_instance_cache=True)
    system.put(str(job.path("records")), f"{root}/records", recursive=True)
    said = job.run("check", "job.toml").stdout
    assert f"{store}/placed" in said
    summary = job.summary("--on", "local:1")
    assert summary["files"][0] == f"{store}/placed"
    there = {Path(name).name: name for name in system.find(f"{root}/placed") if "_manifest" not in name}
    assert {name: pq.read_table(system.open(path)) for name, path in there.items()} == here
    states = {name: system.info(path) for name, path in there.items()}
    assert f"up to date: {store}/placed" in job.run("run", "job.toml").stderr
    assert {name: system.info(path) for name, path in there.items()} == states, "not written again"
    assert job.service.requests == questions

    system.pipe_file(there["part-2.parquet"], b"mine")
    told = job.run("run", "job.toml", code=4).stderr
    assert f"{store}/placed/part-2.parquet is not as a run wrote it" in told
    job.run("plan", "job.toml")
    job.edit("job.toml", ("[write]\n", '[write]\nif_edited = "backup"\n'))
    for mine in (b"mine", b"mine, too"):
        system.pipe_file(there["part-2.parquet"], mine)
        told = job.run("run", "job.toml").stderr
        assert "part-2.parquet was changed by somebody else" in told
    system.invalidate_cache()
    kept = {system.cat_file(path) for path in system.find(f"{root}/placed") if Path(path).name.startswith("_part-2")}
    assert kept == {b"mine", b"mine, too"}
    assert pq.read_table(system.open(there["part-2.parquet"])) == here["part-2.parquet"]
    left = [path for path in system.find(f"{root}/placed") if Path(path).name.startswith(".")]
    assert (left, job.service.requests) == ([], questions)
    job.edit("job.toml", (f'"{store}/records"', f'"{store}/records/part-[02].parquet"'))
    assert job.summary()["records"] == len(here["part-0.parquet"]) + len(here["part-2.parquet"])
    outputs = "".join(path.read_text() for path in job.folder.glob("*.*") if path.suffix in {".toml", ".html"})
    assert "not-told" not in outputs + told + said

    for bad, why in (
        ("s3://nowhere/records", "s3://nowhere/records"),
        ("s3://me:not-told@store/records", "has a password in it"),
        ("nofs://store/records", "nofs"),
        ("s3://st[ao]re/records", "can't be a pattern"),
        (f"{store}/none-*", "has no Parquet file"),
    ):
        job.edit("job.toml", ("file = ", f'file = "{bad}"\n#'))
        said = job.run("run", "job.toml", code=None)
        assert said.returncode in {3, 4}
        assert why in said.stderr
        assert "not-told" not in said.stderr
    assert job.service.requests == questions


@pytest.mark.parametrize("ledger", ["postgresql"], indirect=True)
def test_dead_workers_and_a_dead_client_lose_nothing_and_no_question_is_asked_twice(register):
    job, questions = register(15_000, 12)
    first = job.start("run", "job.toml", "--on", "local:2", "--log", "one.jsonl", "--json")
    wait_for_phase(job.path("one.jsonl"), "Reading", first)
    for _ in range(2):
        time.sleep(0.7)
        workers_of(first)[0].kill()
    wait_for_phase(job.path("one.jsonl"), "Writing", first)
    until = time.monotonic() + 60
    while not list(job.path("placed").rglob("*.parquet.json")) and time.monotonic() < until:
        time.sleep(0.02)
    workers = workers_of(first)
    os.kill(first.pid, signal.SIGKILL)
    first.communicate()
    psutil.wait_procs(workers, timeout=20)
    assert not any(one.is_running() for one in workers), "local workers end with the client"
    there = written_at(job)

    again = job.start("run", "job.toml", "--on", "local:2", "--log", "two.jsonl", "--json")
    wait_for_phase(job.path("two.jsonl"), "Reading", again)
    workers_of(again)[-1].kill()
    out, err = again.communicate(timeout=120)
    assert again.returncode == 0, err
    assert json.loads(out)["records"] == 15_000
    assert job.service.requests == questions
    events = map(json.loads, job.path("two.jsonl").read_text().splitlines())
    assert max(e["done"] for e in events if e["event"] == "file" and e["phase"] == "Writing") == 12
    found = placed(job)
    assert sum(table.num_rows for table in found.values()) == 15_000
    assert not [file for file in job.path("placed").rglob("*") if file.name.startswith(".")], "nothing is left beside"
    done = {Path(json.loads(file.read_text())["file"]).name for file in job.path("placed").rglob("*.parquet.json")}
    assert done == set(found)
    assert any(written_at(job)[name] == at for name, at in there.items()), "what was complete is not written again"


@pytest.mark.parametrize("ledger", ["postgresql"], indirect=True)
def test_a_task_whose_connection_to_the_ledger_is_ended_is_done_again(register, ledger):
    job, questions = register(600, 2)
    job.run("plan", "job.toml")
    ledger.sql("TRUNCATE work, last_scan")
    ledger.sql("CREATE SEQUENCE ended")
    ledger.sql("""CREATE FUNCTION end_it() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
        IF nextval('ended') <= 2 THEN PERFORM pg_terminate_backend(pg_backend_pid()); END IF; RETURN NULL; END $$""")
    ledger.sql("CREATE TRIGGER end_it BEFORE INSERT ON work EXECUTE FUNCTION end_it()")
    ran = job.run("run", "job.toml", "--on", "local:2", "--json")
    summary = json.loads(ran.stdout)
    assert (summary["records"], job.service.requests) == (600, questions)
    assert "Traceback" not in ran.stderr
    assert "psycopg" not in ran.stderr
    assert ledger.sql("SELECT last_value FROM ended") >= [(4,)]
    assert ledger.sql("SELECT count(*) FROM run WHERE ended_at IS NULL") == [(0,)], "nobody waits for the ended ones"


@pytest.mark.parametrize("ledger", ["postgresql"], indirect=True)
def test_ctrl_c_in_a_terminal_stops_the_client_and_loses_no_request(register):
    job, questions = register(60, 2)
    job.edit("stand-in.toml", ("[allowance]", "[allowance]\nper_second = 15"))
    process = job.start("run", "job.toml", "--on", "local:2", start_new_session=True)
    until = time.monotonic() + 60
    while job.service.requests < 4 and time.monotonic() < until:
        time.sleep(0.02)
    os.killpg(process.pid, signal.SIGINT)  # a terminal sends it to every process
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert "Traceback" not in out + err
    asked = job.service.requests
    outcomes = [outcome for table in placed(job).values() for outcome in table["Outcome"].to_pylist()]
    assert sum(outcome not in {"waiting", "incomplete"} for outcome in outcomes) >= asked
    assert job.summary()["requests"]["sent"] == questions - asked


@pytest.mark.parametrize("ledger", ["postgresql"], indirect=True)
def test_an_engine_places_partitions_at_the_same_time(register, monkeypatch):
    job, questions = register(120, 1)
    for name, value in job.env.items():
        monkeypatch.setenv(name, value)
    frame = pq.read_table(job.path("records/part-0.parquet")).to_pandas()
    told = str(job.path("job.toml"))
    meta = yellowtor.place_partition(frame.head(0), told)
    assert job.service.requests == 0
    parts = dd.from_pandas(frame, npartitions=4).map_partitions(yellowtor.place_partition, told, meta=meta)
    answered = parts.compute(scheduler="threads")
    assert answered["Outcome"].value_counts().to_dict() == {"placed": 117, "doubtful": 2, "incomplete": 1}
    assert (answered["Latitude"].dtype, answered["Outcome"].dtype) == ("float64", "object")
    assert job.service.requests == questions
    lonely = yellowtor.place_partition(pa.Table.from_pandas(frame[5:6]), told)
    assert lonely["Outcome"].to_pylist() == ["incomplete"]
    assert lonely.schema.field("Latitude").type == pa.float64()
    batch = yellowtor.place_partition(pa.RecordBatch.from_pandas(frame[:3]), told)
    assert isinstance(batch, pa.RecordBatch)
    pd.testing.assert_series_equal(batch.to_pandas()["Latitude"], answered["Latitude"][:3])
