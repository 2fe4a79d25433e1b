"""What a ledger promises, whichever database it lies in: nothing over the allowance, nothing twice, whatever the clock says."""

import asyncio
import os
import platform
import time
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from functools import partial, wraps
from itertools import pairwise
from pathlib import Path
from types import SimpleNamespace
from zoneinfo import ZoneInfo

import pytest
from conftest import Ledger
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule, run_state_machine_as_test
from sqlalchemy.exc import IntegrityError

from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Price, Tier
from yellowtor.allowance.windows import Span, Window, tightest
from yellowtor.answers.ledger_rows import (
    AlreadyKnown,
    Composed,
    Elsewhere,
    MetCells,
    MetRecords,
    NewRecords,
    Reserved,
    Spent,
    Ticket,
    Work,
    WorkState,
    Written,
)
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.errors import BadSource, Busy, LedgerTrouble
from yellowtor.ledger.accounts.orders import KeepTickets, Refuse, Release, Reserve, SettleReply, Shut
from yellowtor.ledger.accounts.service_account import AccountTerms
from yellowtor.ledger.jobs import judging
from yellowtor.ledger.jobs.run_book import BookOptions, open_book
from yellowtor.ledger.storage import store
from yellowtor.ledger.storage.machine import this_machine
from yellowtor.ledger.storage.server_clock import ServerClock
from yellowtor.ledger.storage.store import Worker

LISBON = ZoneInfo("Europe/Lisbon")
TERMS = AccountTerms("service", "asking", "account", Pace(None))


def law(*strategies):
    """Tried 36 times on SQLite, and a third as often on PostgreSQL, where each example opens a database."""

    def of(check):
        @wraps(check)
        def test(ledger):
            often = 36 if isinstance(ledger.where, Path) else 12
            settings(max_examples=often)(given(*strategies)(check))(ledger)

        del test.__wrapped__  # its arguments are the strategies', and no fixtures
        return test

    return of


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


@pytest.fixture(autouse=True)
def copied(monkeypatch):
    """A PostgreSQL gets two rows by COPY, as it gets many."""
    for module in (store, judging):
        monkeypatch.setattr(module, "COPIED", 2)


@contextmanager
def book(place, clock, *, per_second=None, per_day=None, windows=(), job="job.toml", again="nothing"):
    windows = [*windows, *([Window(per_day, Span.DAY, LISBON)] if per_day else [])]
    terms = AccountTerms("service", "asking", "account", Pace(per_second), windows)
    with open_book(place.where, job, clock, [terms], BookOptions(again)) as opened:
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


def test_a_day_is_never_passed_when_the_clock_is_set_back_and_begins_anew_at_its_zones_midnight(ledger):
    clock = Clock()
    with book(ledger, clock, per_day=3) as requests:
        assert [type(r) for r in reserve(requests, "a", "b", "c", "d")] == [Reserved] * 3 + [Spent]
        assert reserve(requests, "e")[0].resets_at == "2026-03-29T00:00:00.000+00:00"
        clock.time -= timedelta(days=2)
        assert isinstance(reserve(requests, "f")[0], Spent)
        assert left(requests) == 0
    with book(ledger, clock, per_day=3) as requests:
        assert isinstance(reserve(requests, "g")[0], Spent), "nor by starting again with the clock set back"
        clock.time = datetime(2026, 3, 29, 22, 59, tzinfo=UTC)  # 23:59 in summer time: the 29th has 23 hours
        assert left(requests) == 3
        one, two, _, spent = reserve(requests, *"hijk")
        assert isinstance(spent, Spent)
        settle(requests, one, "h")
        clock.time += timedelta(minutes=2)
        settle(requests, two, "i")
        assert left(requests) == 1, "what was in flight at midnight may count for either day"
        assert [type(r) for r in reserve(requests, *"kl")] == [Reserved, Spent]


def test_every_window_is_kept_and_the_one_that_is_spent_is_named(ledger):
    """A minute that rolls, a day and a month of the calendar: over runs, and whatever becomes of a request."""
    clock = Clock()  # 12:00 on a Saturday, the 28th of March
    windows = [Window(2, Span.MINUTE, rolling=True), Window(3, zone=LISBON), Window(5, Span.MONTH, LISBON)]
    with book(ledger, clock, windows=windows) as requests:
        one, two, none = reserve(requests, "a", "b", "c")
        assert (none.why, none.resets_at) == (
            "the quota of the rolling minute is used up",
            "2026-03-28T12:01:00.000+00:00",
        )
        clock.time += timedelta(seconds=90)
        assert isinstance(reserve(requests, "c")[0], Spent), "both are still in flight: the service may get them now"
        settle(requests, one, "a")
        carry_out(requests, Release(two.request_id))
        assert [type(r) for r in reserve(requests, "b", "c")] == [Reserved, Spent]
    with book(ledger, clock, windows=windows) as requests:  # what was in flight is abandoned, and counts from now
        clock.time += timedelta(seconds=59)
        assert isinstance(reserve(requests, "d")[0], Spent)
        clock.time += timedelta(seconds=1)
        three, spent = reserve(requests, "d", "e")
        assert (spent.why, spent.resets_at) == ("the quota of the day is used up", "2026-03-29T00:00:00.000+00:00")
        settle(requests, three, "d")
        assert [(w.window, w.left) for w in requests.left()] == [("rolling minute", 1), ("day", 0), ("month", 2)]
        clock.time = datetime(2026, 3, 30, 12, tzinfo=UTC)
        for key in "ef":
            settle(requests, reserve(requests, key)[0], key)
        clock.time += timedelta(hours=1)
        assert (reserve(requests, "g")[0].why, reserve(requests, "g")[0].resets_at) == (
            "the quota of the month is used up", "2026-03-31T23:00:00.000+00:00",
        )  # fmt: skip
        clock.time = datetime(2026, 4, 1, tzinfo=UTC)
        assert isinstance(reserve(requests, "g")[0], Reserved)


@law(
    st.lists(st.tuples(st.sampled_from(["ask", "answer", "drop", "anew"]), st.integers(0, 40)), max_size=40),
    st.integers(1, 4),
    st.booleans(),
)
def test_no_minute_ever_holds_too_many_wherever_between_the_two_a_request_arrives(ledger, events, limit, rolling):
    """A request may arrive at any moment from its reservation to its reply: at none is its minute too full."""
    place, clock, flying, ended = ledger.fresh(), Clock(), [], []
    opened = partial(book, place, clock, windows=[Window(limit, Span.MINUTE, rolling=rolling)])
    with ExitStack() as stack:
        requests = stack.enter_context(opened())
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
            elif event == "anew":  # what is in flight is cut, and may arrive until then
                stack.close()
                requests = stack.enter_context(opened())
                ended, flying = [*ended, *((began, clock.time) for _, began in flying)], []
    spans = ended + [(began, clock.time) for _, began in flying]
    if rolling:  # at the worst, all that might still arrive then do, and what is over by then came just before
        minutes = [(began - timedelta(minutes=1, microseconds=-1), began) for began, _ in spans]
    else:
        starts = {began.replace(second=0) for began, _ in spans}
        minutes = [(start, start + timedelta(minutes=1, microseconds=-1)) for start in starts]
    for first, last in minutes:
        assert sum(began <= last and end >= first for began, end in spans) <= limit


def test_a_released_request_is_given_back_and_a_refused_one_is_not(ledger):
    with book(ledger, Clock(), per_day=2) as requests:
        one, two = reserve(requests, "a", "b")
        carry_out(requests, Release(one.request_id), Refuse(two.request_id, Kind.UNAVAILABLE))
        assert left(requests) == 1
        assert [type(r) for r in reserve(requests, "a", "b")] == [Reserved, Spent]


@pytest.mark.parametrize(("each", "granted", "over", "next_at"), [(True, 3, 0, 0.3045), (False, 4, 2, 0.1015)])
def test_many_questions_in_one_request_count_each_or_as_one(ledger, each, granted, over, next_at):
    with book(ledger, Clock(), per_day=3, per_second=10) as requests:
        (got,) = carry_out(requests, Reserve("abcd", 1, counts_each=each))
        reserved = [one for one in got if isinstance(one, Reserved)]
        assert [type(one) for one in got] == [Reserved] * granted + [Spent] * (4 - granted)
        assert {one.send_at for one in reserved} == {1000.0}
        assert sum(one.units for one in reserved) == 3 - over
        assert left(requests) == over
        carry_out(requests, *(Release(one.request_id, one.units) for one in reserved))
        assert left(requests) == 3
        assert reserve(requests, "e")[0].send_at == pytest.approx(1000 + next_at)


def test_the_pace_goes_on_over_runs_but_not_over_a_boot(ledger):
    clock = Clock()
    with book(ledger, clock, per_second=10) as requests:
        times = [r.send_at for r in reserve(requests, *"abcdefghijkl")]
    assert times[0] == 1000
    assert times[-1] == pytest.approx(1000 + 11 * 0.1015)
    with book(ledger, clock, per_second=10, job="other.toml") as requests:
        assert reserve(requests, "m")[0].send_at == pytest.approx(1000 + 12 * 0.1015), "an account is one for all jobs"
    clock.boot_name, clock.seconds = "two", 5.0
    with book(ledger, clock, per_second=10) as requests:
        assert reserve(requests, "n")[0].send_at == 5.0


def test_what_another_process_has_answered_meanwhile_is_not_asked(ledger):
    clock = Clock()
    with book(ledger, clock) as ours, book(ledger, clock, job="other.toml") as theirs:
        (reserved,) = reserve(theirs, "b")
        settle(theirs, reserved, "b")
        assert isinstance(reserve(ours, "b")[0], AlreadyKnown), "even before the first of ours"
        reserve(ours, "a")
        assert [type(r) for r in reserve(ours, "b", "c")] == [AlreadyKnown, Reserved]
        ids = [r.request_id for r in (*reserve(ours, "d"), *reserve(theirs, "e"), *reserve(ours, "f"))]
        assert len(set(ids)) == 3


def test_only_failed_replies_are_replaced_and_only_on_request(ledger):
    clock = Clock()
    with book(ledger, clock) as requests:
        good, bad = reserve(requests, "good", "bad")
        settle(requests, good, "good")
        settle(requests, bad, "bad", Kind.UNREADABLE)
    with book(ledger, clock, again="failed") as requests, book(ledger, clock, job="other.toml") as theirs:
        reserve(requests, "x")
        (one,) = reserve(theirs, "y")
        settle(theirs, one, "y")  # somebody else writes: what is known is looked up
        assert [type(r) for r in reserve(requests, "y", "bad")] == [AlreadyKnown, Reserved]


def test_a_transaction_that_fails_leaves_no_trace_and_no_wrong_memory(ledger):
    with book(ledger, Clock(), per_day=5) as requests:
        (one,) = reserve(requests, "a")
        settle(requests, one, "a")
        (two,) = reserve(requests, "b")
        with pytest.raises(IntegrityError, match=r"(?i)foreign key"):
            carry_out(
                requests,
                SettleReply(two.request_id + 99, "b", Reply(200, {}, b"{}"), Read(Kind.ANSWERED)),  # of no request
                Reserve(["c"], 1),
            )
        assert left(requests) == 3
        assert isinstance(reserve(requests, "c", "d", "e")[2], Reserved)
        assert isinstance(reserve(requests, "f")[0], Spent)


DAY, MONTH = Window(4, zone=LISBON), Window(9, Span.MONTH, LISBON)
RISING = (Price("EUR", (Tier(3, 1_000), Tier(None, 5_000))), Price("EUR", (Tier(None, 7_000),), date(2026, 3, 30)))
SERVICES = {
    "daily": AccountTerms("daily", "asking daily", "shared", Pace(None), [DAY]),
    "monthly": AccountTerms("monthly", "asking monthly", "shared", Pace(None), [replace(DAY, limit=6), MONTH]),
    "priced": AccountTerms(
        "priced", "asking priced", "own", Pace(None), [Window(20_000, money=True, cap="own")], RISING
    ),
}
CAP = Window(5, zone=LISBON, cap="job's")


class Charging(RuleBasedStateMachine):
    """Two jobs charge the same accounts through three descriptions, over days and new prices; their processes die."""

    place = None

    def __init__(self):
        super().__init__()
        self.where, self.clock, self.number = self.place.fresh(), Clock(), 0
        self.jobs, self.charged, self.flying, self.ids = {}, [], [], set()
        for job in ("one", "two"):
            self.open(job)

    def open(self, job):
        for charge in self.charged:  # what its last process left in flight counts as spent from now on
            if charge["job"] == job and charge["settled"] is None:
                charge["settled"] = self.clock.time
        self.flying = [one for one in self.flying if one[1]["job"] != job]
        terms = [replace(one, windows=[*one.windows, *([CAP] if job == "two" else [])]) for one in SERVICES.values()]
        opened = open_book(self.where.where, job, self.clock, terms)
        self.jobs[job] = (opened, opened.__enter__(), {one.service: one for one in terms})

    def counted(self, window, job, account):
        start = window.start(self.clock.time)
        mine = [
            one for one in self.charged
            if (one["job"] == job if window.cap == "job's" else one["account"] == account)
            and (one["settled"] is None or one["settled"] >= start)
        ]  # fmt: skip
        return sum(one["cost"] if window.money else 1 for one in mine)

    @rule(job=st.sampled_from(["one", "two"]), service=st.sampled_from([*SERVICES]), count=st.integers(1, 4))
    def reserve(self, job, service, count):
        _, opened, terms = self.jobs[job]
        keys = [f"q{self.number + at}" for at in range(count)]
        self.number += count
        for key, got in zip(keys, reserve(opened.requests[service], *keys), strict=True):
            if isinstance(got, Reserved):
                assert got.request_id not in self.ids, "a number is given once"
                self.ids.add(got.request_id)
                used = self.counted(Window(0, Span.MONTH), job, "own")
                price = RISING[self.clock.time.date() >= date(2026, 3, 30)]
                assert got.cost == (price.cost(used, 1) if service == "priced" else 0)
                charge = {"job": job, "account": terms[service].account, "cost": got.cost, "settled": None}
                self.charged.append(charge)
                self.flying.append((got, charge, service, key))
                for window in terms[service].windows:
                    assert self.counted(window, job, terms[service].account) <= window.limit
            else:
                assert isinstance(got, Spent)

    @precondition(lambda self: self.flying)
    @rule(at=st.integers(0, 50), become=st.sampled_from(["answered", "refused", "released"]))
    def end(self, at, become):
        got, charge, service, key = self.flying.pop(at % len(self.flying))
        requests = self.jobs[charge["job"]][1].requests[service]
        if become == "answered":
            settle(requests, got, key)
        elif become == "refused":
            carry_out(requests, Refuse(got.request_id, Kind.UNAVAILABLE))
        else:
            carry_out(requests, Release(got.request_id, got.units, got.cost))
            self.charged = [one for one in self.charged if one is not charge]
        charge["settled"] = self.clock.time

    @rule(hours=st.sampled_from([1, 13, 25, 24 * 4]))
    def later(self, hours):
        self.clock.time += timedelta(hours=hours)

    @rule(job=st.sampled_from(["one", "two"]), dies=st.booleans())
    def begin_anew(self, job, dies):
        died = RuntimeError("the process died") if dies else None
        with suppress(RuntimeError):
            self.jobs[job][0].__exit__(type(died) if died else None, died, None)
        self.clock.time += timedelta(seconds=31)  # until then a server waits for a sign of life
        self.open(job)

    @invariant()
    def what_is_left_is_what_was_not_charged(self):
        for job, (_, opened, terms) in self.jobs.items():
            for service, one in terms.items():
                wanted = [max(0, w.limit - self.counted(w, job, one.account)) for w in one.windows]
                assert [left.left for left in opened.requests[service].left()] == wanted

    def teardown(self):
        for opened, *_ in self.jobs.values():
            opened.__exit__(None, None, None)


def test_no_course_of_events_passes_a_limit_or_counts_a_request_twice(ledger):
    often = 16 if isinstance(ledger.where, Path) else 5
    charging = type("ChargingHere", (Charging,), {"place": ledger})
    run_state_machine_as_test(charging, settings=settings(max_examples=often, stateful_step_count=25, deadline=None))


OURS, THEIRS = Position(1, 2), Position(3, 4)
ROW = st.tuples(st.integers(0, 12).map(str), st.sampled_from("ab"), st.sampled_from([None, OURS, THEIRS]))


def work_of(item):
    state = WorkState.KEPT if item.held else WorkState.ASK
    questions = {} if item.held else {"service": item.raw_hash}
    return Work(*item[:4], item.raw_hash, state, (), Composed("{}", item.raw_hash, "", questions))


def met(batch):
    return MetRecords(*zip(*batch, strict=True)) if batch else MetRecords((), (), ())


def new_of(batch):
    """Records with equal cells share them, as in a scan."""
    cells = {}
    for _, cell, held in batch:
        state = WorkState.KEPT if held else WorkState.ASK
        composed = Composed("{}", cell, "", {} if held else {"service": cell})
        cells.setdefault((cell, bool(held)), MetCells(cell, state, (), composed))
    order = list(cells)
    which = [order.index((cell, bool(held))) for _, cell, held in batch]
    keys, _, helds = zip(*batch, strict=True)
    return NewRecords(keys, helds, which, list(cells.values()))


def test_a_batch_of_known_records_costs_the_same_wherever_it_comes_in_the_source(tmp_path):
    rows = [(f"{n:05}", "ab"[n % 2], None) for n in range(5_000)]
    with open_book(tmp_path / "ledger.sqlite", "job.toml", Clock(), [TERMS]) as opened:
        scanning, steps = opened.scanning, []
        scanning.recall("")
        assert scanning.put_new(new_of(rows))
        scanning.close()
        scanning.recall("")
        connection = scanning._store.connection.connection.driver_connection
        connection.set_progress_handler(lambda: steps.append(1), 10)
        costs = []
        for at in range(0, len(rows), 100):
            steps.clear()
            assert not scanning.expects_new()
            assert scanning.note(met(rows[at : at + 100]), all_of_them=False) == ([], None)
            costs.append(len(steps))
        connection.set_progress_handler(None, 0)
    assert 0 < max(costs) < 1.2 * costs[1]


@law(
    st.data(),
    st.integers(1, 4),
    st.lists(st.lists(ROW, max_size=9, unique_by=lambda row: row[0]), min_size=2, max_size=4),
)
def test_scans_find_what_is_new_changed_and_gone_whatever_order_the_source_comes_in(ledger, data, size, more):
    """Rows are put in, edited, taken out, moved, and get our coordinates; against a dictionary of what was there."""
    place, seen, here, ours, rows = ledger.fresh(), {}, set(), set(), []
    for put_in in more:
        taken_out = {row[0] for row in put_in}
        rows = [row for row in rows if row[0] not in taken_out and data.draw(st.integers(0, 4))]
        at = data.draw(st.integers(0, len(rows)))
        rows[at:at] = put_in
        now = {key: (cell, None if held == OURS and key in ours else held) for key, cell, held in rows}
        with open_book(place.where, "job.toml", Clock(), [TERMS]) as opened:
            scanning, found, again = opened.scanning, {}, data.draw(st.sampled_from([None, *rows])) if seen else None
            scanning.recall("")
            for at in range(0, len(rows), size):
                batch = rows[at : at + size]
                if scanning.expects_new() and data.draw(st.booleans()):
                    assert scanning.put_new(new_of(batch)) == seen.keys().isdisjoint(key for key, *_ in batch)
                    if scanning.count() > at:
                        found |= {key: SimpleNamespace(is_new=True) for key, *_ in batch}
                        continue
                known, twice = scanning.note(met(rows[at : at + size]), all_of_them=False)
                assert twice is None
                found |= {item.key: item for item in known}
                scanning.put_work([work_of(item) for item in known])
            assert again is None or scanning.note(met([again]), all_of_them=False) == ([], again[0]), (
                "a key occurs twice"
            )
            assert {key for key, item in found.items() if item.is_new} == now.keys() - seen.keys()
            assert found.keys() == {key for key in now if key not in here or now[key] != seen[key]}
            assert (scanning.close(), scanning.count()) == (len(here - now.keys()), len(rows))
            answers = opened.judging.answers_in_order(0, len(rows), {"key"})
            assert [answer.key for answer in answers] == [key for key, *_ in rows]
            written = [a for a in answers if a.outcome is Outcome.WAITING and data.draw(st.booleans())]
            opened.judging.note_written([Written(answer.id, OURS) for answer in written])
            opened.judging.keep_written(in_place=True)
        ours |= {answer.key for answer in written}
        rows = [(key, cell, OURS if key in ours and not held else held) for key, cell, held in rows]
        seen, here = seen | now, set(now)


@law(
    st.data(),
    st.lists(
        st.dictionaries(st.sampled_from(["a", "b", "n/c"]), st.lists(ROW, max_size=5), min_size=1),
        min_size=2,
        max_size=4,
    ),
)
def test_parts_of_a_source_are_scanned_apart_in_any_order_and_records_may_move_between_them(ledger, data, editions):
    """A folder of files in several editions, with every key in one file; against a dictionary of what was there."""
    place, before = ledger.fresh(), {}
    for edition in editions:
        taken, files = set(), {}
        for name, rows in edition.items():
            files[name] = [row for n, row in enumerate(rows) if row[0] not in taken | {key for key, *_ in rows[:n]}]
            taken |= {key for key, *_ in rows}
        now = {row[0]: name for name, rows in files.items() for row in rows}
        with open_book(place.where, "job.toml", Clock(), [TERMS]) as opened:
            numbers = dict(zip(files, opened.parts(list(files)), strict=True))
            new = 0
            for name in data.draw(st.permutations(list(files))):
                scanning = opened.scanning_of(numbers[name])
                scanning.recall("")
                if not (
                    files[name]
                    and scanning.expects_new()
                    and data.draw(st.booleans())
                    and scanning.put_new(new_of(files[name]))
                ):
                    known, twice = scanning.note(met(files[name]), all_of_them=False)
                    assert twice is None
                    scanning.put_work([work_of(item) for item in known])
                    new += sum(item.is_new for item in known)
                else:
                    new += len(files[name])
                scanning.close()
            assert new == len(now.keys() - before.keys())
            assert opened.sizes() == {numbers[name]: len(rows) for name, rows in files.items() if rows}
            assert sum(opened.outcomes.counts().values()) == len(now)
            for name, rows in files.items():
                answers = opened.judging_of(numbers[name]).answers_in_order(0, len(rows), {"key"})
                assert [answer.key for answer in answers] == [key for key, *_ in rows]
                assert opened.scanning_of(numbers[name]).elsewhere(list(now)) == {k for k in now if now[k] != name}
            most, least = data.draw(st.integers(1, 4)), data.draw(st.integers(1, 3))
            shares = opened.shares(most, least)
            asked = {cell for rows in files.values() for _, cell, held in rows if not held}
            assert len(shares) <= min(most, max(1, len(asked) // least))
            assert all(one.up_to == other.above for one, other in pairwise(shares)), "no address is left out"
            assert not shares or shares[0].above == 0
        before |= now
    with open_book(place.where, "job.toml", Clock(), [TERMS]) as opened:
        opened.parts(())
        assert not opened.outcomes.counts(), "a source without parts has none of their records"


def test_a_second_opening_of_a_job_is_busy_and_one_of_another_is_not(ledger):
    me = Worker("anna", platform.node(), os.getpid())
    with open_book(ledger.where, "job.toml", Clock(), [TERMS], BookOptions(worker=me)):
        with pytest.raises(
            Busy, match=rf"\(anna on {me.host}, process {me.process}\) .* since 2026-03-28 12:00:00 UTC"
        ):
            book(ledger, Clock()).__enter__()
        with book(ledger, Clock(), job="other.toml"):
            pass
    with pytest.raises(BadSource), open_book(ledger.where, "job.toml", Clock(), [TERMS], BookOptions(worker=me)):
        raise BadSource("a file can't be read")
    with book(ledger, Clock()):
        pass  # the failed run is over, although its process lives


def test_a_question_that_another_run_has_in_flight_waits_for_its_reply_or_its_end(ledger):
    clock = Clock()
    with book(ledger, clock) as ours, book(ledger, clock, job="other.toml") as theirs:
        (flying,) = reserve(theirs, "a")
        assert [type(r) for r in reserve(ours, "a", "b")] == [Elsewhere, Reserved]
        settle(theirs, flying, "a")
        assert isinstance(reserve(ours, "a")[0], AlreadyKnown)
        reserve(theirs, "c")
        assert isinstance(reserve(ours, "c")[0], Elsewhere)
    with book(ledger, clock) as ours:  # the other has ended, and what it left may be asked once more
        assert isinstance(reserve(ours, "c")[0], Reserved)
    assert [n for (n,) in ledger.sql("SELECT count(*) FROM request WHERE state = 'abandoned'")] == [2]


def test_workers_with_wrong_clocks_keep_one_pace_and_one_day_by_the_servers_clock(postgres, tmp_path):
    place, early, late = Ledger(tmp_path, postgres), Clock(), Clock()
    late.time, late.seconds = late.time + timedelta(days=400), 77.0
    times = []
    with (
        book(place, ServerClock(early), per_second=5, per_day=6) as ours,
        book(place, ServerClock(late), per_second=5, per_day=6, job="other.toml") as theirs,
    ):
        for number in range(6):
            (got,) = reserve(ours if number % 2 else theirs, f"q{number}")
            times.append(got.send_at)
        assert {type(reserve(one, "more")[0]) for one in (ours, theirs)} == {Spent}, "six of one day, by both runs"
        starts = place.sql("SELECT DISTINCT start FROM window_use WHERE \"window\" = 'day'")
    assert all(later - one == pytest.approx(0.203, abs=1e-6) for one, later in pairwise(times))
    assert abs(times[0] - time.time()) < 5
    assert [datetime.fromisoformat(start).year for (start,) in starts] == [datetime.now(UTC).year]


def test_a_ledger_of_a_newer_version_is_not_touched(ledger):
    with book(ledger, Clock()):
        pass
    ledger.sql("PRAGMA user_version = 99" if isinstance(ledger.where, Path) else "UPDATE ledger SET version = 99")
    with pytest.raises(LedgerTrouble, match="has version 99; this Yellowtor knows those up to 14"):
        book(ledger, Clock()).__enter__()


def test_the_group_writer_gives_each_order_its_own_answer_and_each_failure_to_whoever_asked(ledger):
    terms = AccountTerms("service", "asking", "account", Pace(None))

    async def whole(opened):
        async with opened.writer("service") as writer:
            reserved = [one for (one,) in await asyncio.gather(*(writer.reserve([f"q{i}"], 1) for i in range(50)))]
            assert len({r.request_id for r in reserved}) == 50
            writer.settle(reserved[2].request_id, "q2", Reply(200, {}, b"{}"), Read(Kind.ANSWERED))
            await writer.flush()
            for number in (reserved[0].request_id, 999):  # there is no such request
                writer.settle(number, f"q{number}", Reply(200, {}, b"{}"), Read(Kind.ANSWERED))
            with pytest.raises(IntegrityError, match=r"(?i)foreign key"):
                await writer.flush()
            assert isinstance((await writer.reserve(["after"], 1))[0], Reserved)
            assert opened.requests["service"].kept("q2"), "what was flushed before is there"
            assert not opened.requests["service"].kept(f"q{reserved[0].request_id}"), (
                "a group is carried out whole or not at all"
            )

    with open_book(ledger.where, "job.toml", Clock(), [terms]) as opened:
        asyncio.run(whole(opened))


def test_a_price_holds_from_its_day_on_in_the_middle_of_a_run(ledger):
    clock = Clock()
    prices = [Price("EUR", (Tier(None, 1_000),)), Price("EUR", (Tier(None, 5_000),), date(2026, 3, 29))]
    terms = AccountTerms("service", "asking", "account", Pace(None), prices=prices)
    with open_book(ledger.where, "job.toml", clock, [terms]) as opened:
        requests, costs = opened.requests["service"], []
        for key in ("a", "b"):
            with requests.transaction():
                costs += [one.cost for (one,) in requests.carry_out([Reserve([key], 1)])]
            clock.time += timedelta(days=1)
        assert costs == [1_000, 5_000]


def test_a_pause_that_was_asked_for_is_kept_by_all_and_after_a_restart(ledger):
    clock = Clock()
    with book(ledger, clock, per_second=10) as requests:
        carry_out(requests, Shut(3_600.0))
    with book(ledger, clock, per_second=10, job="another.toml") as requests:
        (spent,) = reserve(requests, "a")
        assert isinstance(spent, Spent)
        assert datetime.fromisoformat(spent.resets_at) == clock.time + timedelta(hours=1)
        clock.time += timedelta(seconds=3_595)
        (late,) = reserve(requests, "a")
        assert late.send_at == pytest.approx(clock.seconds + 5)


def test_two_containers_of_one_name_do_not_take_each_other_for_dead(ledger):
    if isinstance(ledger.where, Path):
        pytest.skip("a file is locked by the system")
    other = Worker("eve", platform.node(), 2**22 + 1, "another machine")
    mine = Worker("eve", platform.node(), 2**22 + 1, this_machine())
    for worker, alive in ((other, 1), (mine, 0)):
        with (
            open_book(
                ledger.where, f"{alive}.toml", ServerClock(Clock()), [TERMS], BookOptions(worker=worker)
            ) as first,
            open_book(ledger.where, f"{alive}.toml", ServerClock(Clock()), [TERMS], BookOptions(along=True)) as second,
        ):
            assert second.along == bool(alive)
            assert first.others()[0] == 1


def test_tickets_are_kept_until_a_reply_comes(ledger):
    clock = Clock()
    with book(ledger, clock) as requests:
        (one, two) = reserve(requests, "a", "b")
        carry_out(requests, KeepTickets({"a": Ticket("t", 0, 2), "b": Ticket("t", 1, 2)}))
    with book(ledger, clock) as requests:
        assert requests.tickets(["a", "b", "c"]) == {"a": Ticket("t", 0, 2), "b": Ticket("t", 1, 2)}
        (again,) = reserve(requests, "a")
        settle(requests, again, "a")
        carry_out(requests, KeepTickets({"b": None}))
        assert requests.tickets(["a", "b"]) == {}
    assert {one.units, two.units} == {1}
