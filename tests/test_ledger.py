"""The ledger's guarantees, with real SQLite files: nothing over the allowance, nothing twice, whatever the clock says."""

import asyncio
import json
import sqlite3
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from conftest import judging_pace, lay_out, real_addresses, write_csv
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy.exc import IntegrityError

from yellowtor.allowance.forecast import forecast
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.windows import Left, Span, Window, tightest
from yellowtor.answers.kinds import Kind
from yellowtor.answers.reading import Read
from yellowtor.answers.reply import Reply
from yellowtor.answers.work import AlreadyKnown, Reserved, Spent, Work
from yellowtor.errors import Busy, LedgerTrouble
from yellowtor.ledger.account import AccountTerms
from yellowtor.ledger.book import open_book
from yellowtor.ledger.requests import Refuse, Release, Reserve, SettleReply

LISBON = ZoneInfo("Europe/Lisbon")


class Clock:
    """A clock that a test sets."""

    def __init__(self):
        self.time, self.seconds, self.boot_name = datetime(2026, 3, 28, 12, tzinfo=UTC), 1000.0, "one"

    def now(self):
        return self.time

    def boot(self):
        return self.seconds

    def boot_id(self):
        return self.boot_name


@contextmanager
def book(folder, clock, *, per_second=None, per_day=None, windows=(), job="job.toml", again="nothing"):
    windows = [*windows, *([Window(per_day, Span.DAY, LISBON)] if per_day else [])]
    terms = AccountTerms("service", "asking", "account", Pace(per_second), windows)
    with open_book(folder / "ledger.sqlite", folder / job, clock, [terms], again=again) as opened:
        yield opened.requests["service"]


def left(requests):
    return tightest(requests.left()).left


def carry_out(requests, *orders):
    with requests.transaction():
        return requests.carry_out(orders)


def reserve(requests, *keys, attempt=1):
    return [one for (one,) in carry_out(requests, *(Reserve([key], attempt) for key in keys))]


def settle(requests, reserved, key, kind=Kind.ANSWERED):
    carry_out(requests, SettleReply(reserved.request_id, key, Reply(200, {}, b"{}"), Read(kind)))


def test_a_day_is_never_passed_when_the_clock_is_set_back_and_begins_anew_at_its_zones_midnight(tmp_path):
    clock = Clock()
    with book(tmp_path, clock, per_day=3) as requests:
        assert [type(r) for r in reserve(requests, "a", "b", "c", "d")] == [Reserved] * 3 + [Spent]
        assert reserve(requests, "e")[0].resets_at == "2026-03-29T00:00:00.000+00:00"
        clock.time -= timedelta(days=2)
        assert isinstance(reserve(requests, "f")[0], Spent)
        assert left(requests) == 0
    with book(tmp_path, clock, per_day=3) as requests:
        assert isinstance(reserve(requests, "g")[0], Spent), "nor by starting again with the clock set back"
        clock.time = datetime(2026, 3, 29, 22, 59, tzinfo=UTC)  # 23:59 in summer time: the 29th has 23 hours
        assert left(requests) == 3
        assert [type(r) for r in reserve(requests, *"hijk")] == [Reserved] * 3 + [Spent]
        clock.time += timedelta(minutes=2)
        assert isinstance(reserve(requests, "l")[0], Reserved)


def test_every_window_is_kept_and_the_one_that_is_spent_is_named(tmp_path):
    """A minute that rolls, a day and a month of the calendar: over runs, and whatever becomes of a request."""
    clock = Clock()  # 12:00 on a Saturday, the 28th of March
    windows = [Window(2, Span.MINUTE, rolling=True), Window(3, zone=LISBON), Window(5, Span.MONTH, LISBON)]
    with book(tmp_path, clock, windows=windows) as requests:
        one, two, none = reserve(requests, "a", "b", "c")
        assert (none.why, none.resets_at) == (
            "the allowance of the rolling minute is spent",
            "2026-03-28T12:01:00.000+00:00",
        )
        clock.time += timedelta(seconds=90)
        assert isinstance(reserve(requests, "c")[0], Spent), "both are still in flight: the service may get them now"
        settle(requests, one, "a")
        carry_out(requests, Release(two.request_id))
        assert [type(r) for r in reserve(requests, "b", "c")] == [Reserved, Spent]
    with book(tmp_path, clock, windows=windows) as requests:  # what was in flight is abandoned, and counts from now
        clock.time += timedelta(seconds=59)
        assert isinstance(reserve(requests, "d")[0], Spent)
        clock.time += timedelta(seconds=1)
        three, spent = reserve(requests, "d", "e")
        assert (spent.why, spent.resets_at) == ("the allowance of the day is spent", "2026-03-29T00:00:00.000+00:00")
        settle(requests, three, "d")
        assert [(w.window, w.left) for w in requests.left()] == [("rolling minute", 1), ("day", 0), ("month", 2)]
        clock.time = datetime(2026, 3, 30, 12, tzinfo=UTC)
        for key in "ef":
            settle(requests, reserve(requests, key)[0], key)
        clock.time += timedelta(hours=1)
        assert (reserve(requests, "g")[0].why, reserve(requests, "g")[0].resets_at) == (
            "the allowance of the month is spent", "2026-03-31T23:00:00.000+00:00",
        )  # fmt: skip
        clock.time = datetime(2026, 4, 1, tzinfo=UTC)
        assert isinstance(reserve(requests, "g")[0], Reserved)


@given(
    st.lists(st.tuples(st.sampled_from(["ask", "answer", "drop"]), st.integers(0, 40)), max_size=40), st.integers(1, 4)
)
def test_no_rolling_minute_ever_holds_too_many_wherever_between_the_two_a_request_arrives(
    tmp_path_factory, events, limit
):
    """A request may arrive at any moment from its reservation to its reply: at none is the minute before too full."""
    clock, flying, ended = Clock(), [], []
    with book(
        tmp_path_factory.mktemp("rolling"), clock, windows=[Window(limit, Span.MINUTE, rolling=True)]
    ) as requests:
        for number, (event, seconds) in enumerate(events):
            clock.time += timedelta(seconds=seconds)
            if event == "ask" and isinstance(got := reserve(requests, f"q{number}")[0], Reserved):
                flying.append((got, clock.time))
            elif flying and event == "answer":
                got, began = flying.pop(0)
                settle(requests, got, f"a{number}")
                ended.append((began, clock.time))
            elif flying and event == "drop":
                carry_out(requests, Release(flying.pop(0)[0].request_id))
    for began, _ in ended + [(began, None) for _, began in flying]:
        # At the worst, all that might still arrive then do, and what was answered less than a minute ago came just before.
        others = [e for b, e in ended if b <= began and e > began - timedelta(minutes=1)]
        assert len(others) + sum(b <= began for _, b in flying) <= limit


def test_a_released_request_is_given_back_and_a_refused_one_is_not(tmp_path):
    with book(tmp_path, Clock(), per_day=2) as requests:
        one, two = reserve(requests, "a", "b")
        carry_out(requests, Release(one.request_id), Refuse(two.request_id, Kind.UNAVAILABLE))
        assert left(requests) == 1
        assert [type(r) for r in reserve(requests, "a", "b")] == [Reserved, Spent]


@pytest.mark.parametrize(("each", "granted", "over", "next_at"), [(True, 3, 0, 0.303), (False, 4, 2, 0.101)])
def test_many_questions_in_one_request_count_each_or_as_one(tmp_path, each, granted, over, next_at):
    with book(tmp_path, Clock(), per_day=3, per_second=10) as requests:
        (got,) = carry_out(requests, Reserve("abcd", 1, counts_each=each))
        reserved = [one for one in got if isinstance(one, Reserved)]
        assert [type(one) for one in got] == [Reserved] * granted + [Spent] * (4 - granted)
        assert {one.send_at for one in reserved} == {1000.0}
        assert sum(one.units for one in reserved) == 3 - over
        assert left(requests) == over
        carry_out(requests, *(Release(one.request_id, one.units) for one in reserved))
        assert left(requests) == 3
        assert reserve(requests, "e")[0].send_at == pytest.approx(1000 + next_at)


def test_the_pace_goes_on_over_runs_but_not_over_a_boot(tmp_path):
    clock = Clock()
    with book(tmp_path, clock, per_second=10) as requests:
        times = [r.send_at for r in reserve(requests, *"abcdefghijkl")]
    assert times[0] == 1000
    assert times[-1] == pytest.approx(1000 + 11 * 0.101)
    with book(tmp_path, clock, per_second=10, job="other.toml") as requests:
        assert reserve(requests, "m")[0].send_at == pytest.approx(1000 + 12 * 0.101), "an account is one for all jobs"
    clock.boot_name, clock.seconds = "two", 5.0
    with book(tmp_path, clock, per_second=10) as requests:
        assert reserve(requests, "n")[0].send_at == 5.0


def test_what_another_process_has_answered_meanwhile_is_not_asked(tmp_path):
    clock = Clock()
    with book(tmp_path, clock) as ours, book(tmp_path, clock, job="other.toml") as theirs:
        (reserved,) = reserve(theirs, "b")
        settle(theirs, reserved, "b")
        assert isinstance(reserve(ours, "b")[0], AlreadyKnown), "even before the first of ours"
        reserve(ours, "a")
        assert [type(r) for r in reserve(ours, "b", "c")] == [AlreadyKnown, Reserved]
        ids = [r.request_id for r in (*reserve(ours, "d"), *reserve(theirs, "e"), *reserve(ours, "f"))]
        assert len(set(ids)) == 3


def test_only_failed_replies_are_replaced_and_only_on_request(tmp_path):
    clock = Clock()
    with book(tmp_path, clock) as requests:
        good, bad = reserve(requests, "good", "bad")
        settle(requests, good, "good")
        settle(requests, bad, "bad", Kind.UNREADABLE)
    with book(tmp_path, clock, again="failed") as requests, sqlite3.connect(tmp_path / "ledger.sqlite") as other:
        reserve(requests, "x")
        other.execute("UPDATE run SET ended_at = 'now'")  # somebody else writes: what is known is looked up
        other.commit()
        assert [type(r) for r in reserve(requests, "good", "bad")] == [AlreadyKnown, Reserved]


def test_a_transaction_that_fails_leaves_no_trace_and_no_wrong_memory(tmp_path):
    with book(tmp_path, Clock(), per_day=5) as requests:
        (one,) = reserve(requests, "a")
        settle(requests, one, "a")
        (two,) = reserve(requests, "b")
        with pytest.raises(Exception, match="UNIQUE"):
            carry_out(
                requests,
                SettleReply(two.request_id, "a", Reply(200, {}, b"{}"), Read(Kind.ANSWERED)),
                Reserve(["c"], 1),
            )
        assert left(requests) == 3
        assert isinstance(reserve(requests, "c", "d", "e")[2], Reserved)
        assert isinstance(reserve(requests, "f")[0], Spent)


@given(st.lists(st.sampled_from(["reserve", "settle", "refuse", "release", "again"]), max_size=40), st.integers(1, 6))
def test_no_course_of_events_passes_the_window(tmp_path_factory, events, limit):
    folder, clock, flying = tmp_path_factory.mktemp("ledger"), Clock(), []
    opened = book(folder, clock, per_day=limit)
    requests = opened.__enter__()
    counted = 0
    for number, event in enumerate(events):
        if event == "reserve":
            (got,) = reserve(requests, f"q{number}")
            if isinstance(got, Reserved):
                counted += 1
                flying.append((got, f"q{number}"))
            assert isinstance(got, Reserved) == (counted <= limit and not isinstance(got, Spent))
        elif event == "again":
            opened.__exit__(None, None, None)
            opened = book(folder, clock, per_day=limit)
            requests, flying = opened.__enter__(), []
        elif flying:
            got, key = flying.pop()
            if event == "settle":
                settle(requests, got, key)
            else:
                refused = event == "refuse"
                carry_out(requests, Refuse(got.request_id, Kind.TOO_FAST) if refused else Release(got.request_id))
                counted -= event == "release"
        assert counted <= limit
        assert left(requests) == limit - counted
    opened.__exit__(None, None, None)


ROW = st.tuples(st.integers(0, 12).map(str), st.sampled_from("ab"), st.sampled_from([None, "1,2", "3,4"]))
TERMS = AccountTerms("service", "asking", "account", Pace(None))


def work_of(item):
    state = "kept" if item.held else "ask"
    questions = {} if item.held else {"service": item.raw_hash}
    return Work(*item[:4], item.raw_hash, state, "[]", "{}", item.raw_hash, questions)


@given(
    st.data(),
    st.integers(1, 4),
    st.lists(st.lists(ROW, max_size=9, unique_by=lambda row: row[0]), min_size=2, max_size=4),
)
def test_scans_find_what_is_new_changed_and_gone_whatever_order_the_source_comes_in(tmp_path_factory, data, size, more):
    """Rows are put in, edited, taken out, moved, and get our coordinates; against a dictionary of what was there."""
    folder, seen, here, ours, rows = tmp_path_factory.mktemp("scans"), {}, set(), set(), []
    for put_in in more:
        taken_out = {row[0] for row in put_in}
        rows = [row for row in rows if row[0] not in taken_out and data.draw(st.integers(0, 4))]
        at = data.draw(st.integers(0, len(rows)))
        rows[at:at] = put_in
        now = {key: (cell, None if held == "1,2" and key in ours else held) for key, cell, held in rows}
        with open_book(folder / "ledger.sqlite", folder / "job.toml", Clock(), [TERMS]) as opened:
            scanning, found, again = opened.scanning, {}, data.draw(st.sampled_from([None, *rows])) if seen else None
            scanning.recall("")
            for at in range(0, len(rows), size):
                known, twice = scanning.note(rows[at : at + size], all_of_them=False)
                assert twice is None
                found |= {item.key: item for item in known}
                scanning.put_work([work_of(item) for item in known])
            assert again is None or scanning.note([again], all_of_them=False) == ([], again[0]), "a key stands twice"
            assert {key for key, item in found.items() if item.is_new} == now.keys() - seen.keys()
            assert found.keys() == {key for key in now if key not in here or now[key] != seen[key]}
            assert (scanning.close(), scanning.count()) == (len(here - now.keys()), len(rows))
            answers = opened.judging.answers_in_order(0, len(rows), frozenset())
            assert [answer.key for answer in answers] == [key for key, *_ in rows]
            written = [a for a in answers if a.outcome == "waiting" and data.draw(st.booleans())]
            opened.judging.note_written([(answer.id, "1,2") for answer in written])
            opened.judging.keep_written(in_place=True)
        ours |= {answer.key for answer in written}
        rows = [(key, cell, "1,2" if key in ours and not held else held) for key, cell, held in rows]
        seen, here = seen | now, set(now)


def test_a_second_opening_of_a_job_is_busy_and_a_broken_file_is_told(tmp_path):
    with book(tmp_path, Clock()), pytest.raises(Busy, match="Another run has"), book(tmp_path, Clock()):
        pass
    (tmp_path / "ledger.sqlite").write_bytes(b"no database at all" * 100)
    with pytest.raises(LedgerTrouble, match="can't be opened"), book(tmp_path, Clock()):
        pass


def test_the_group_writer_gives_each_order_its_own_answer_and_each_failure_to_whoever_asked(tmp_path):
    terms = AccountTerms("service", "asking", "account", Pace(None))

    async def whole(opened):
        async with opened.writer("service") as writer:
            reserved = [one for (one,) in await asyncio.gather(*(writer.reserve([f"q{i}"], 1) for i in range(50)))]
            assert len({r.request_id for r in reserved}) == 50
            writer.settle(reserved[2].request_id, "q2", Reply(200, {}, b"{}"), Read(Kind.ANSWERED))
            await writer.flush()
            for one in reserved[:2]:
                writer.settle(one.request_id, "q0", Reply(200, {}, b"{}"), Read(Kind.ANSWERED))
            with pytest.raises(IntegrityError, match="UNIQUE"):
                await writer.flush()
            assert isinstance((await writer.reserve(["after"], 1))[0], Reserved)
            assert opened.requests["service"].kept("q2"), "what was flushed before is there"
            assert not opened.requests["service"].kept("q0"), "a group is carried out whole or not at all"

    with open_book(tmp_path / "ledger.sqlite", tmp_path / "job.toml", Clock(), [terms]) as opened:
        asyncio.run(whole(opened))


def test_several_jobs_at_once_keep_the_pace_and_the_day_of_the_account_they_share(tmp_path, serve):
    """Asserted from the stand-in's clock and counters: it knows one account, four processes charge it."""
    service = serve()
    addresses, jobs = real_addresses(160), []
    for number in range(4):
        job = lay_out(tmp_path / f"job{number}", service, paced=True)
        job.edit(
            "job.toml",
            ('ledger = "ledger.sqlite"', f'ledger = "{tmp_path}/shared.sqlite"'),
            ('file = "cabinets.xlsx"\nsheet = "Cabinets"', 'file = "records.csv"'),
            ('name = "Cabinet"\n', ""), ('"Number and street"', '"Street"'), ('to = "cabinets-placed.xlsx"', 'to = "placed.csv"'),
        )  # fmt: skip
        job.edit("stand-in.toml", ("per_second = 40", "per_second = 30"), ("per_day = 2500", "per_day = 100"))
        write_csv(job.path("records.csv"), addresses[number * 30 : number * 30 + 40])  # each shares ten with the next
        jobs.append(job)
    with judging_pace(service, 30, believed=0.01):
        running = [job.start("run", "job.toml", "--json") for job in jobs]
        summaries = [json.loads(process.communicate(timeout=90)[0]) for process in running]
    counted = service.counters()
    assert counted["requests"] == sum(s["requests"]["sent"] for s in summaries) == 100
    assert sum(s["outcomes"]["waiting"] for s in summaries) > 0
    assert {process.returncode for process in running} <= {0, 6}


def test_a_reply_is_kept_for_every_job_that_asks_the_same(small, tmp_path):
    rows = real_addresses(5)
    one = small(rows)
    one.run("run", "job.toml")
    (tmp_path / "small" / "job.toml").rename(tmp_path / "small" / "renamed.toml")
    told = one.run("run", "renamed.toml").stderr
    assert "0 requests sent; 5 questions answered from the ledger" in told


@pytest.mark.parametrize(
    ("requests", "windows", "used", "at_once", "goes", "ends"),
    [
        (0, [], [], 0, 0, "2026-03-28T12:00:00"),
        (100, [], [], 100, 1, "2026-03-28T12:00:10"),
        (100, [Window(40)], [10], 30, 3, "2026-03-30T00:00:03"),  # 30 at once, 40 tomorrow, 30 the day after
        (100, [Window(40)], [40], 0, 3, "2026-03-31T00:00:02"),
        (100, [Window(60, Span.HOUR), Window(80)], [0, 0], 60, 3, "2026-03-29T00:00:02"),
        (30, [Window(10, Span.MINUTE, rolling=True)], [0], 10, 3, "2026-03-28T12:02:03"),
        (100, [Window(1, Span.MONTH)], [0], 1, 100, "2034-06-01"),
    ],
)
def test_the_forecast_is_exact(requests, windows, used, at_once, goes, ends):
    now = datetime(2026, 3, 28, 12, tzinfo=UTC)
    lefts = [Left(w.name, w.words, w.limit, w.limit - n, "") for w, n in zip(windows, used, strict=True)]
    made = forecast(requests, Pace(10), windows, lefts, now)
    assert (made.at_once, made.stretches, made.seconds) == (at_once, goes, pytest.approx(at_once * 0.101))
    assert made.ends_at.startswith(ends)
    assert forecast(requests, Pace(None), windows, lefts, now).seconds is None


def layout(path):
    with sqlite3.connect(path) as ledger:
        names = [name for (name,) in ledger.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY 1")]
        columns = {name: ledger.execute(f"PRAGMA table_info({name})").fetchall() for name in names}
        indices = {name: sorted(i[1:4] for i in ledger.execute(f"PRAGMA index_list({name})")) for name in names}
        return columns, indices, ledger.execute("PRAGMA user_version").fetchall()


def test_an_older_ledger_is_brought_up_to_date_whole_and_nothing_is_asked_again(small):
    known = real_addresses(4)
    rows = [*known, ["R4", *known[0][1:]], ["R5", "", "Nowhere", ""], ["R6", *known[1][1:], "47.5", "-28.5"],
            ["R7", "9 No Such Street", known[2][2], ""]]  # fmt: skip
    job = small(rows)
    old = job.path("ledger.sqlite")
    with sqlite3.connect(old) as ledger:
        text = (Path(__file__).parent / "data" / "ledger-1.sql").read_text(encoding="utf-8")
        ledger.executescript(text.replace("{job}", str(job.path("job.toml").resolve())))
        ledger.execute("PRAGMA user_version = 1")
    kept = old.read_bytes()
    for _ in range(2):
        summary = job.summary()
        assert summary["scan"] == {"records": 8, "new": 0, "changed": 0, "vanished": 0}
        assert summary["requests"]["sent"] == 0
        assert {k: n for k, n in summary["outcomes"].items() if n} == {
            "placed": 5, "kept": 1, "doubtful": 1, "incomplete": 1,
        }  # fmt: skip
    job.edit("job.toml", ("ledger.sqlite", "new.sqlite"))
    job.run("run", "job.toml", "--dry-run")
    old_layout, new_layout = layout(old), layout(job.path("new.sqlite"))
    assert old_layout[0].pop("alembic_version")
    old_layout[1].pop("alembic_version")
    assert old_layout == new_layout
    broken = job.path("broken.sqlite")
    broken.write_bytes(kept)
    with sqlite3.connect(broken) as ledger:  # what can't be brought up to date stays as it is
        ledger.execute("CREATE TABLE record (x)")
    job.edit("job.toml", ("new.sqlite", "broken.sqlite"))
    assert "table record already exists" in job.run("run", "job.toml", code=8).stderr
    with sqlite3.connect(broken) as ledger:
        assert ledger.execute("PRAGMA user_version").fetchall() == [(1,)]
        assert len(ledger.execute("SELECT * FROM last_order").fetchall()) == 8
