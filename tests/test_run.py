"""What `yellowtor run` promises, seen from outside: files in a folder, and the stand-in's own counters."""

import json
import re
import signal
import sqlite3
import subprocess
import zlib
from contextlib import closing
from datetime import UTC, datetime

import pytest
from conftest import HURRIED, judging_pace, real_addresses, without_times, write_csv

TEN = real_addresses(10)


def outcomes(summary):
    return {name: count for name, count in summary["outcomes"].items() if count}


def test_a_dry_run_plans_exactly_what_a_run_then_sends_and_touches_nothing(small):
    job = small(
        [*TEN, ["X1", "", "Nowhere"], ["X2", "1 Some Street", "Town", "", "47.5", "-28.5"], ["X3", *TEN[0][1:]]]
    )
    before = {p: p.read_bytes() for p in job.folder.glob("*.*") if "ledger" not in p.name}
    plan = job.summary("--dry-run")["plan"]
    assert (plan["kept"], plan["incomplete"], plan["to_answer"], plan["open_questions"]) == (1, 1, 11, 10)
    assert job.service.requests == 0
    assert before == {p: p.read_bytes() for p in job.folder.glob("*.*") if "ledger" not in p.name}
    assert "Nothing was sent, nothing written" in job.run("run", "job.toml", "--dry-run").stderr
    summary = job.summary()
    assert job.service.requests == summary["requests"]["sent"] == plan["forecast"]["requests"]
    assert outcomes(summary) == {"placed": 11, "kept": 1, "incomplete": 1}


def test_changing_thresholds_or_reading_rules_judges_anew_and_sends_nothing(small):
    job = small(TEN)
    assert outcomes(job.summary()) == {"placed": 10}
    job.edit("job.toml", ("place_at = 0.9", "place_at = 1.0"))
    assert outcomes(job.summary()) == {"doubtful": 10}
    assert all(row["Latitude"] == "" and row["Outcome"] == "doubtful" for row in job.rows("placed.csv").values())
    job.edit("job.toml", ("place_at = 1.0", "place_at = 0.9"))
    job.edit("stand-in.toml", ('door = { level = "building"', 'door = { level = "address area"'))
    assert outcomes(job.summary()) == {"doubtful": 10}
    assert {row["Level"] for row in job.rows("placed.csv").values()} == {"address area"}
    assert job.service.requests == 10


def test_only_new_and_edited_records_are_asked_about_and_vanished_ones_are_counted(small):
    job = small(TEN)
    job.summary()
    more = real_addresses(40)[-3:]
    rows = [*TEN[1:5], ["R5", *more[0][1:]], ["N1", *more[1][1:]], ["N2", TEN[0][1].upper() + " ", *TEN[0][2:]]]
    write_csv(job.path("records.csv"), rows)
    summary = job.summary()
    assert summary["scan"] == {"records": 7, "new": 2, "changed": 1, "vanished": 5}
    assert summary["requests"]["sent"] == 2, "an address that differs only in case and blanks is known"
    write_csv(job.path("records.csv"), TEN)
    assert job.summary()["requests"]["sent"] == 0, "changed back is answered from the ledger"
    assert max(job.service.counters()["by_question"].values()) == 1


def test_coordinates_that_were_there_are_kept_until_the_address_changes(small):
    job = small([["A", *TEN[0][1:], "47.1", "-28.9"], ["B", *TEN[1][1:], "0", "0"], ["C", *TEN[2][1:], "ask me", ""]])
    assert outcomes(job.summary()) == {"placed": 2, "kept": 1}
    assert job.rows("placed.csv")["A"]["Latitude"] == "47.1"
    for _ in range(2):  # and stays asked about, although the source still holds the old coordinates
        write_csv(job.path("records.csv"), [["A", *TEN[3][1:], "47.1", "-28.9"]])
        assert outcomes(job.summary()) == {"placed": 1}
        assert job.rows("placed.csv")["A"]["Latitude"] != "47.1"


def test_in_place_our_own_coordinates_are_judged_anew_and_never_kept(small):
    job = small([*TEN, ["N", "1 Zwark Prospect", "Xyphoria"]])
    job.edit("job.toml", ('to = "placed.csv"', "in_place = true"))
    before = job.path("records.csv").read_bytes()
    first, written = job.summary(), job.path("records.csv").read_bytes()
    assert outcomes(first) == {"placed": 10, "unplaced": 1}
    assert outcomes(job.summary()) == outcomes(first)
    assert job.path("records.csv").read_bytes() == written
    (backup,) = job.folder.glob("records.????-??-??.csv")
    assert backup.read_bytes() == before, "as it was; and a run that changes nothing leaves none"
    assert first["backup"] == str(backup)
    job.edit("job.toml", ("place_at = 0.9", "place_at = 1.0"))
    assert outcomes(job.summary()) == {"doubtful": 10, "unplaced": 1}
    assert all(not row["Latitude"] for row in job.rows("records.csv").values()), "a point that is no longer sure goes"
    (later,) = job.folder.glob("records.????-??-??T*.csv")
    assert later.read_bytes() == written
    job.edit("job.toml", ("in_place = true", "in_place = true\nbackup = false\ndoubtful = true"))
    assert job.summary()["backup"] is None
    assert all(row["Latitude"] for row in job.rows("records.csv").values() if row["Outcome"] == "doubtful")
    assert job.service.requests == 11


@pytest.mark.parametrize(
    ("fault", "told"),
    [("error", "unavailable"), ("cut", "unreadable"), ("page", "unreadable"), ("busy", "unavailable")],
)
def test_faults_that_pass_are_survived_and_every_record_is_placed(small, fault, told):
    job = small(TEN, faults={fault: 4})
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 2"))
    summary = job.summary()
    counted = job.service.counters()
    assert outcomes(summary) == {"placed": 10}
    assert counted["by_kind"][fault] == summary["requests"]["by_kind"][told] == summary["requests"]["again"] > 0
    assert counted["requests"] == summary["requests"]["sent"]


def test_what_always_fails_is_failed_is_not_asked_again_unless_told_so_and_then_heals(small, serve):
    job = small(TEN[:3], faults={"page": 1})
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 8\ntries = 2"))
    assert outcomes(job.summary()) == {"failed": 3}
    assert job.service.requests == 6
    assert outcomes(job.summary()) == {"failed": 3}
    assert job.service.requests == 6
    job.env["YELLOWTOR_STANDIN"] = serve().address
    summary = job.summary("--again", "failed")
    assert outcomes(summary) == {"placed": 3}
    assert summary["requests"]["sent"] == 3
    assert job.summary("--again", "failed")["requests"]["sent"] == 0


def test_where_a_coordinate_came_from_and_when_may_be_written_later_without_asking(small):
    job = small([*TEN[:2], ["N", "1 Zwark Prospect", "Xyphoria"]])
    began = datetime.now(UTC)
    job.summary()
    more = 'geo = "Link"\nservice = "By"\nasked_at = "When"'
    job.edit("job.toml", ('matched = "Matched address"', more))
    assert job.summary()["requests"]["sent"] == 0
    for key, row in job.rows("placed.csv").items():
        assert row["Link"] == (f"geo:{row['Latitude']},{row['Longitude']}" if key != "N" else "")
        assert row["By"] == "stand-in"
        assert began <= datetime.fromisoformat(row["When"]) <= datetime.now(UTC)


def test_a_service_that_is_not_there_fails_clearly_and_a_slow_one_is_given_up(small):
    job = small(TEN[:1], faults={"slow": 1}, slow_s=5)
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 8\ntries = 1\ntimeout_s = 0.3"))
    assert outcomes(job.summary(code=6)) == {"waiting": 1}, "nobody has said anything about it"
    job.edit("job.toml", ('matched = "Matched address"', 'reasons = "Why"'))
    told = job.run("run", "job.toml", code=6).stderr
    assert "1 question was not answered: no reply within 0.3 s." in told
    assert "no reply within 0.3 s" in job.rows("placed.csv")["R0"]["Why"]
    job.env["YELLOWTOR_STANDIN"] = "http://127.0.0.1:1"
    job.run("run", "job.toml", code=6)
    assert "day        2  2,498" in job.run("quota", "job.toml").stdout, "what never left is not charged"
    assert "no connection to 127.0.0.1:1" in job.rows("placed.csv")["R0"]["Why"]


def test_a_service_asked_too_fast_is_waited_for_and_its_zero_positions_are_never_placed(small):
    for unfriendly in (False, True):
        job = small(TEN, per_second=5, unfriendly=unfriendly)
        summary = job.summary()
        for row in job.rows("placed.csv").values():
            assert (row["Outcome"] == "placed") == bool(row["Latitude"])
            assert row["Latitude"] not in {"0", "0.0"}
        if not unfriendly:
            assert outcomes(summary) == {"placed": 10}
            assert summary["requests"]["by_kind"]["too fast"] == job.service.counters()["by_kind"]["too fast"] > 0


def test_the_pace_is_held_by_the_services_own_clock(example):
    job = example(paced=True)
    with judging_pace(job.service, 40):
        job.summary()
    assert job.service.counters()["most_in_a_second"] >= 20, "and used, even where the machine is slow"


def test_a_days_allowance_is_never_passed_and_the_rest_waits(small):
    job = small(TEN)
    job.edit("stand-in.toml", ("per_day = 2500", "per_day = 4"))
    summary = job.summary(code=6)
    assert outcomes(summary) == {"placed": 4, "waiting": 6}
    assert summary["resets_at"]
    told = job.run("run", "job.toml", code=6).stderr
    assert "Run the job again after" in told
    assert job.service.requests == 4
    job.edit("stand-in.toml", ("per_day = 4", "per_day = 2500"))
    assert outcomes(job.summary()) == {"placed": 10}
    assert job.service.requests == 10


def test_each_of_several_windows_is_kept_and_some_of_one_may_be_left_for_others(small):
    job = small(TEN)
    windows = '[[allowance.windows]]\nrequests = 9\nin = "month"\nleave = 3\n[[allowance.windows]]\nrequests = 8\nin = "hour"\nrolling = true\n'
    job.edit("stand-in.toml", ("[reply]\n", f"{windows}\n[reply]\n"))
    told = job.run("run", "job.toml", "--dry-run").stderr
    assert re.search(r"Under the quota the last request is sent on \d{4}-\d\d-01 00:00 UTC, in 2 stretches\.", told)
    summary = job.summary(code=6)
    assert (outcomes(summary), job.service.requests) == ({"placed": 6, "waiting": 4}, 6)
    assert [(w["window"], w["left"]) for w in job.summary("--dry-run")["plan"]["left"]] == [
        ("day", 2494), ("month", 0), ("rolling hour", 2),
    ]  # fmt: skip
    told = job.run("run", "job.toml", code=6).stderr
    assert "window spent (the quota of the month is used up)" in told
    assert "0 left this month" in told
    job.edit("stand-in.toml", ("leave = 3", "leave = 9"))
    assert "leave = 9 leaves nothing of 9 requests" in job.run("run", "job.toml", code=3).stderr
    job.edit("stand-in.toml", ('requests = 9\nin = "month"\nleave = 9', 'requests = 9\nin = "day"'))
    assert "two windows are the same" in job.run("run", "job.toml", code=3).stderr


FOUR_AN_HOUR = ("[reply]\n", '[[allowance.windows]]\nrequests = 4\nin = "hour"\nrolling = true\n\n[reply]\n')


def test_a_run_that_waits_goes_on_by_itself_to_the_end_and_keeps_every_window(small):
    """By a clock that goes 600 times as fast: an hour lasts six seconds."""
    job = small(TEN)
    job.edit("stand-in.toml", FOUR_AN_HOUR)
    told = job.run("run", "job.toml", "--wait", program=HURRIED).stderr
    rounds = list(map(int, re.findall(r"placed (\d+)", told)))
    assert rounds == sorted(rounds)
    assert (rounds[0], rounds[-1] < 10) == (4, True)
    assert told.count("Waiting stand-in: the quota of the rolling hour is used up; continues at ") == len(rounds)
    assert re.search(r"● placed +10 ", told)
    assert job.service.requests == 10
    arrivals = job.service.arrivals()
    assert all(later - first >= 6.0 for first, later in zip(arrivals, arrivals[4:], strict=False)), "four in any hour"


def test_a_run_that_waits_ends_at_a_signal_and_asks_no_more_than_it_may(small):
    job = small(TEN)
    job.edit("stand-in.toml", FOUR_AN_HOUR)
    for name in ("SIGTERM", "SIGHUP"):
        waiting = job.start("run", "job.toml", "--wait")
        while "placed" not in (line := waiting.stderr.readline()):
            assert line
        waiting.send_signal(getattr(signal, name))
        waiting.communicate(timeout=30)
        assert waiting.returncode == 130
        assert list(job.rows("placed.csv").values())[3]["Outcome"] == "placed"
    ignoring = lambda: signal.signal(signal.SIGHUP, signal.SIG_IGN)  # noqa: E731 - as nohup does
    waiting = job.start("run", "job.toml", "--wait", preexec_fn=ignoring)
    while "Waiting" not in (line := waiting.stderr.readline()):
        assert line
    waiting.send_signal(signal.SIGHUP)
    with pytest.raises(subprocess.TimeoutExpired):
        waiting.wait(1)
    waiting.send_signal(signal.SIGTERM)
    waiting.communicate(timeout=30)
    assert waiting.returncode == 130
    job.run("run", "job.toml", "--wait", "--at-most", "3", program=HURRIED, code=6)
    assert job.service.requests == 4 + 3
    job.edit("job.toml", ('file = "records.csv"', 'file = "-"'))
    assert "which --wait needs" in job.run("run", "job.toml", "--wait", code=3).stderr


def test_when_the_service_says_that_the_day_is_spent_nothing_more_is_asked(small):
    job = small(TEN, per_day=3)
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 1"))
    summary = job.summary(code=6)
    assert outcomes(summary) == {"placed": 3, "waiting": 7}
    assert summary["stopped_by"] == "window spent"
    assert job.service.requests == 4


def test_a_refused_key_stops_at_once_and_stands_in_no_output(small):
    job = small(TEN)
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 1"))
    job.env["YELLOWTOR_STANDIN_KEY"] = " wrong-key/€ \t"
    result = job.run("run", "job.toml", code=5)
    assert job.service.requests == 1
    assert "blanks around its value" in result.stderr
    assert "key refused (the key ••• is unknown)" in result.stderr
    job.env["YELLOWTOR_STANDIN_KEY"] = job.service.key
    assert outcomes(job.summary()) == {"placed": 10}
    tried = job.run("try", TEN[0][1], "--service", "stand-in.toml")
    everything = result.stdout + result.stderr + tried.stdout + tried.stderr
    written = b"".join(p.read_bytes() for p in job.folder.rglob("*") if p.is_file())
    with sqlite3.connect(job.path("ledger.sqlite")) as ledger:
        written += b"".join(zlib.decompress(body) for (body,) in ledger.execute("SELECT body FROM reply"))
    assert TEN[0][1].encode() in written, "the search looks where the replies are"
    for secret in ("wrong-key", job.service.key, "a-key%2Fwith"):
        assert secret not in everything
        assert secret.encode() not in written


def test_a_missing_key_is_named_with_every_place_that_was_looked_in_before_anything_is_sent(small):
    job = small(TEN)
    del job.env["YELLOWTOR_STANDIN_KEY"]
    told = job.run("run", "job.toml", code=5).stderr
    assert "YELLOWTOR_STANDIN_KEY has no value" in told
    assert "the environment" in told
    assert str(job.path(".env")) in told
    job.path(".env").write_text(f"YELLOWTOR_STANDIN_KEY={job.service.key}\n")
    assert outcomes(job.summary()) == {"placed": 10}


def test_at_most_tries_a_few_first_and_strict_has_a_code_of_its_own(small):
    job = small([*TEN, ["N", "1 Zwark Prospect", "Xyphoria"]])
    assert outcomes(job.summary("--at-most", "3", code=6)) == {"placed": 3, "waiting": 8}
    assert job.service.requests == 3
    placed = [key for key, row in job.rows("placed.csv").items() if row["Outcome"] == "placed"]
    assert placed == ["R0", "R1", "R2"], "the job's order"
    assert outcomes(job.summary("--strict", code=7)) == {"placed": 10, "unplaced": 1}


def test_the_report_reads_well_where_there_is_no_terminal(small):
    job = small([*TEN, ["N", "1 Zwark Prospect", "Xyphoria"]])
    told = without_times(job.run("run", "job.toml").stderr)
    for line in (
        "● placed    10  A point",
        "✕ unplaced   1  The",
        "11 requests sent; ",
        "2,489 left today",
        "wrote placed.csv",
    ):
        assert line in told
    assert "\x1b" not in told
    assert "up to date: placed.csv" in job.run("run", "job.toml").stderr, "nothing was written the second time"


def test_an_unchanged_ledger_of_another_version_is_refused_untouched(small):
    job = small(TEN)
    job.summary()
    with sqlite3.connect(job.path("ledger.sqlite")) as ledger:
        ledger.execute("PRAGMA user_version = 99")
    assert "has version 99" in job.run("run", "job.toml", code=8).stderr
    assert job.path("ledger.sqlite").stat().st_mode & 0o077 == 0, "an address book is private"


def test_a_pinned_position_is_written_at_the_next_run_and_outranks_services_and_coordinates(small):
    rows = [*TEN[:4], ["R4", *TEN[0][1:]], ["R5", *TEN[1][1:], "47.5", "-28.5"], ["R6", "", "Nowhere", ""]]
    job = small(rows)
    job.edit("job.toml", ('"Matched address"', '"Matched address"\nreasons = "Why"'))
    assert "knows no record R0" in job.run("pin", "job.toml", "R0", "--at", "47,-28", "--why", "seen", code=3).stderr
    job.run("run", "job.toml", "--dry-run")
    job.run("pin", "job.toml", "R2", "--at", "47° 30′ N, 28.25 W", "--why", "stood there", "--by", "Ida")
    before = job.summary()
    assert (before["requests"]["sent"], before["outcomes"]["placed"]) == (3, 5)
    for key, extra in (("R0", "--address"), ("R5", None), ("R6", None), ("R4", None)):
        at = "47.4,-28.4" if key == "R4" else "47.25,-28.125"
        job.run("pin", "job.toml", key, "--at", at, "--why", "a letter", *filter(None, [extra]))
    assert "The address of" not in job.run("pin", "job.toml", "R4", "--at", "47.4,-28.4", "--why", "x").stderr
    after = job.summary()
    assert after["requests"]["sent"] == 0
    assert after["outcomes"]["placed"] == 7
    told = {key: (row["Latitude"], row["Longitude"]) for key, row in job.rows("placed.csv").items()}
    pinned = {"R0": ("47.25", "-28.125"), "R4": ("47.4", "-28.4"), "R2": ("47.5", "-28.25"),
              "R5": ("47.25", "-28.125"), "R6": ("47.25", "-28.125")}  # fmt: skip
    assert {key: told[key] for key in pinned} == pinned, "that of a record goes before that of its address"
    why = job.rows("placed.csv")["R2"]
    assert re.fullmatch(r"pinned by Ida on 2\d{3}-\d\d-\d\d: stood there", why["Why"])
    assert (why["Confidence"], why["Outcome"]) == ("1.0", "placed")
    listed = job.run("pin", "job.toml").stdout
    assert re.search(r"R0 \(its address\) +47\.250000 +-28\.125000 .* a letter", listed)
    job.edit("records.csv", (TEN[2][1], TEN[3][1]))  # the record's own pin stays with it, whatever its address
    assert job.summary()["requests"]["sent"] == 0
    assert job.rows("placed.csv")["R2"]["Latitude"] == "47.5"
    for key in ("R2", "R5", "R4"):
        job.run("pin", "job.toml", key, "--off")
    assert "has no pin" in job.run("pin", "job.toml", "R4", "--off", code=3).stderr
    last = job.summary()
    assert (last["outcomes"]["placed"], last["outcomes"]["kept"]) == (5, 1)
    assert last["requests"]["sent"] == 1, "R2 has an address now that nobody has asked about"
    assert job.rows("placed.csv")["R5"]["Latitude"] == "47.5"
    assert job.rows("placed.csv")["R4"]["Latitude"] not in {"47.4", "47.25"}, "--off takes that of the address too"
    for at in ("47", "91,0", "0,0", "here,there"):
        assert "degrees" in job.run("pin", "job.toml", "R0", "--at", at, "--why", "x", code=2).stderr


def test_try_shows_the_request_the_reply_what_was_read_and_how_sure_it_is(small):
    job = small([])
    street, town = TEN[0][1], TEN[0][2]
    told = job.run("try", f"{street}, {town}", "--service", "stand-in.toml").stdout
    order = [told.index(part) for part in ("Request", "key=•••", "Reply  200 · answered", '"verdict": "found"')]
    order += [
        told.index(part)
        for part in ("Read  candidates: 1", "→", "Aligned", "Confidence  1.00", "● placed", "street agrees")
    ]
    assert order == sorted(order)
    again = job.run("try", f"{street}, {town}", "--service", "stand-in.toml").stdout
    assert "not sent: the ledger has the reply" in again
    assert job.service.requests == 1
    job.run("try", f"{street}, {town}", "--service", "stand-in.toml", "--anew")
    assert job.service.requests == 2
    assert json.loads(told[told.index("{") : told.rindex("}") + 1])["verdict"] == "found"


def test_numbers_dates_and_keys_in_a_workbook_are_what_people_see(example):
    import xlsxwriter

    job = example()
    with xlsxwriter.Workbook(job.path("cabinets.xlsx")) as book:
        sheet = book.add_worksheet("Cabinets")
        sheet.write_row(2, 1, ["Id", "Cabinet", "Number and street", "Town", "Postcode", "Latitude", "Longitude"])
        for at, (_, street, town, postcode) in enumerate(TEN[:3]):
            sheet.write_row(3 + at * 2, 1, [at + 7, "x", street, town, int(postcode)])  # blank rows between, zeros lost
    assert outcomes(job.summary()) == {"placed": 3}
    rows = job.rows()
    assert [key for key in rows if key != ""] == [7.0, 8.0, 9.0]
    for key, (_, street, _, postcode) in zip((7.0, 8.0, 9.0), TEN, strict=False):
        assert rows[key]["Postcode"] == int(postcode), "what was read is not written"
        assert rows[key]["Matched address"].startswith(f"{street}, {postcode}")
    with sqlite3.connect(job.path("ledger.sqlite")) as ledger:
        assert {key for (key,) in ledger.execute("SELECT key FROM work")} == {"7", "8", "9"}


def test_foreign_coordinates_of_an_address_that_is_gone_are_reported_as_stale(small):
    job = small([["A", *TEN[0][1:], "47.1", "-28.9"]])
    assert outcomes(job.summary()) == {"kept": 1}
    write_csv(job.path("records.csv"), [["A", "1 Zwark Prospect", "Xyphoria", "", "47.1", "-28.9"]])
    summary = job.summary()
    assert outcomes(summary) == {"unplaced": 1}
    assert summary["written"]["stale"] == 1
    assert job.rows("placed.csv")["A"]["Latitude"] == "47.1", "what is not ours is not cleared"


def test_a_plan_tells_over_how_many_days_the_allowance_spreads_it(small):
    job = small(TEN)
    job.edit("stand-in.toml", ("per_day = 2500", "per_day = 4"))
    told = job.run("run", "job.toml", "--dry-run").stderr
    assert "00:00 UTC, in 3 stretches." in told
    assert re.search(r"requests of this run +4\b", told)


def test_try_has_the_exit_codes_of_run(small):
    job = small([], faults={"error": 1})
    assert "Confidence  none" in job.run("try", "1 Kelp Lane", "--service", "stand-in.toml", code=1).stdout
    job.env["YELLOWTOR_STANDIN_KEY"] = "another"
    assert "key refused" in job.run("try", "1 Kelp Lane", "--service", "stand-in.toml", code=5).stdout
    assert "The address is empty" in job.run("try", " .- ", "--service", "stand-in.toml", code=3).stderr


def test_the_stand_in_runs_by_itself_and_says_when_its_port_is_taken(tmp_path):
    import signal
    import urllib.request

    from conftest import Example

    example = Example(tmp_path, None)
    running = example.start("stand-in", "--port", "0", "--key", "k", "--pace", "0")
    address = running.stdout.readline().strip()
    with urllib.request.urlopen(f"{address}/find?q=Nymrberga&key=k") as reply:
        assert json.load(reply)["verdict"] == "found"
    told = example.run("stand-in", "--port", address.rpartition(":")[2], code=1).stderr
    assert "can't be used" in told
    running.send_signal(signal.SIGTERM)
    running.communicate(timeout=20)
    assert running.returncode == 0


def test_a_large_table_is_composed_once_for_each_address_by_one_process_or_by_several(small):
    """Rows come in batches of some thousands: many bring no new address, later ones enough for helpers."""
    addresses = [row[1:] for row in real_addresses(60)]
    new = [[f"{number} {addresses[number % 60][0]}", *addresses[number % 60][1:]] for number in range(23_000)]
    job = small([[f"R{number}", *cells] for number, cells in enumerate([*addresses * 400, *new, *addresses * 200])])
    ledgers = []
    for cores in ("1", "2"):
        job.env["YELLOWTOR_CORES"] = cores
        job.edit("job.toml", ('ledger = "', f'ledger = "{cores}-'))
        plan = json.loads(job.run("plan", "job.toml", "--json").stdout)
        assert (plan["to_answer"], plan["open_questions"]) == (59_000, 23_060)
        with closing(sqlite3.connect(next(job.folder.glob(f"{cores}-*.sqlite")))) as ledger:
            records = "SELECT w.key, w.place, w.raw_hash, w.state, a.key, a.parts FROM work w JOIN address a ON a.id = w.address_id"
            ledgers.append(sorted(ledger.execute(records)))
    assert ledgers[0] == ledgers[1]
    write_csv(job.path("records.csv"), [[f"R{number}", *cells] for number, cells in enumerate(addresses * 400)])
    assert job.summary()["outcomes"]["placed"] == 24_000
    assert job.service.requests == 60
    assert [row["Outcome"] for row in job.rows("placed.csv").values()] == ["placed"] * 24_000
