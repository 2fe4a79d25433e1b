"""Asking, with a service and a ledger made of plain values: what is retried, what stops, what is never sent."""

import asyncio
from contextlib import asynccontextmanager
from types import SimpleNamespace

import pytest

from yellowtor.allowance.pace import Pace
from yellowtor.answers.ledger_rows import AlreadyKnown, Question, Reserved, Spent
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.run.asking.ask import Asker
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.asking.gate import Gate
from yellowtor.run.clock import SystemClock


class Service:
    """Says the kinds that it was given, question by question; a kind may bring Retry-After."""

    name, tries, parallel, most, counts_each, looks, is_local = "service", 3, 2, 1, True, 0, False

    def __init__(self, script, pace=None, retry_after=None):
        self.script, self.pace, self.asked = script, Pace(pace), []
        self.headers = {"retry-after": retry_after} if retry_after else {}

    def request(self, address):
        return address.street

    def apart(self, reply, count):
        return [reply]

    def meaning(self, reply):
        return Read(reply.kind, message="because")

    async def send(self, request, leave):
        if not await leave():
            return None
        self.asked.append((request, asyncio.get_running_loop().time()))
        said = self.script[request]
        kind = said.pop(0) if len(said) > 1 else said[0]
        return Reply(200, self.headers, b"", kind=kind)


class Ledger:
    """Reserves what it may, and remembers what became of it."""

    def __init__(self, limit=99, known=(), late=0):
        self.limit, self.known, self.late, self.fate, self.clock = limit, known, late, {}, SystemClock()

    async def reserve(self, keys, attempt, *, counts_each, free=False):
        return [self.one(key) for key in keys]

    def one(self, key):
        if key in self.known:
            return AlreadyKnown()
        if len(self.fate) >= self.limit:
            return Spent("2026-01-01T00:00:00+00:00")
        self.fate[len(self.fate) + 1] = "reserved"
        return Reserved(len(self.fate), self.clock.boot() - self.late)

    def settle(self, request_id, key, reply, read, took_s):
        self.fate[request_id] = read.kind.value

    async def flush(self):
        pass

    async def refuse(self, request_id, kind, took_s, tried):
        self.fate[request_id] = f"refused: {kind}"

    def shut(self, seconds):
        pass

    def leave_open(self, key, why):
        self.left = {key: why}

    async def release(self, reserved):
        self.fate[reserved.request_id] = "released"

    async def postpone(self, reserved, units):
        self.late = 0
        return Reserved(reserved.request_id, self.clock.boot() + 0.05)

    async def call(self, work):
        return work()


class Watch:
    count, keeps_log = 0, False

    def sent(self, requests, counted):
        self.count += requests

    def advanced(self, count):
        pass

    def event(self, name, facts):
        pass

    def fault(self, error):
        raise error


def ask(service, ledger, stop=None):
    questions = iter([Question(name, Address(street=name), 1) for name in service.script])
    asker = Asker(service, ledger, SystemClock(), Watch())
    return asyncio.run(asker.ask(questions, stop or Cancellation()))


def test_what_may_pass_is_asked_again_and_what_will_not_is_settled():
    service = Service({
        "good": [Kind.ANSWERED], "heals": [Kind.UNAVAILABLE, Kind.ANSWERED], "never": [Kind.UNREADABLE],
        "bad": [Kind.QUESTION_REFUSED], "none": [Kind.NOTHING_FOUND],
    })  # fmt: skip
    ledger = Ledger(known=("known",))
    service.script["known"] = [Kind.ANSWERED]
    result = ask(service, ledger)
    names = [name for name, _ in service.asked]
    assert {name: names.count(name) for name in service.script} == {
        "good": 1, "heals": 2, "never": 3, "bad": 1, "none": 1, "known": 0,
    }  # fmt: skip
    assert sorted(ledger.fate.values()) == [
        "answered", "answered", "nothing found", "question refused", "refused: unavailable", "refused: unreadable",
        "refused: unreadable", "unreadable",
    ]  # fmt: skip
    assert (result.sent, result.settled, result.retried, result.stopped_by) == (8, 5, 3, None)


@pytest.mark.parametrize("kind", [Kind.KEY_REFUSED, Kind.NOT_PERMITTED, Kind.WINDOW_SPENT])
def test_a_reply_that_ends_the_asking_ends_it_before_anything_else_leaves(kind):
    service = Service({"first": [kind]} | {f"q{i}": [Kind.ANSWERED] for i in range(50)})
    service.parallel = 1
    ledger = Ledger()
    result = ask(service, ledger)
    assert [name for name, _ in service.asked] == ["first"]
    assert (result.stopped_by, result.message) == (kind, "because")
    assert set(ledger.fate.values()) <= {f"refused: {kind}", "released"}


def test_a_spent_allowance_lets_what_is_reserved_leave_and_nothing_else():
    service, ledger = Service({f"q{i}": [Kind.ANSWERED] for i in range(20)}), Ledger(limit=7)
    result = ask(service, ledger)
    assert len(service.asked) == 7
    assert set(ledger.fate.values()) == {"answered"}
    assert result.resets_at == "2026-01-01T00:00:00+00:00"


def test_too_fast_holds_everybody_back_for_as_long_as_the_service_says():
    service = Service(
        {"one": [Kind.TOO_FAST, Kind.ANSWERED], "two": [Kind.ANSWERED], "three": [Kind.ANSWERED]}, retry_after="1"
    )
    service.parallel = 1
    ask(service, Ledger())
    times = [at for _, at in service.asked]
    assert times[1] - times[0] >= 1.0
    assert len(times) == 4


def test_a_wish_to_stop_that_came_before_sends_nothing():
    stop = Cancellation()
    stop.ask()
    service, ledger = Service({f"q{i}": [Kind.ANSWERED] for i in range(9)}), Ledger()
    result = ask(service, ledger, stop)
    assert result.interrupted
    assert service.asked == []
    assert "reserved" not in ledger.fate.values()


def test_a_request_that_is_late_for_its_place_takes_another():
    service = Service({"one": [Kind.ANSWERED]}, pace=5)
    started = SystemClock().boot()
    ask(service, Ledger(late=0.2))
    assert SystemClock().boot() - started >= 0.05


def test_a_fault_of_the_ledger_ends_the_asking_and_is_told():
    class Broken(Ledger):
        async def reserve(self, keys, attempt, *, counts_each, free=False):
            raise OSError("disk full")

    with pytest.raises(OSError, match="disk full"):
        ask(Service({"one": [Kind.ANSWERED], "two": [Kind.ANSWERED]}), Broken())


@asynccontextmanager
async def gate(rate):
    made = Gate(Pace(rate), SystemClock())
    yield made
    made.stopped.set()


class ByHand(Gate):
    """Its clock goes on by what is waited for, at once."""

    async def wait(self, seconds):
        self.clock.now += seconds
        return False


def by_hand(rate):
    clock = SimpleNamespace(now=100.0)
    clock.boot = lambda: clock.now
    door = ByHand(Pace(rate), clock)
    door.clock = clock
    return door


def test_the_gate_lets_no_more_through_than_the_rate_even_when_all_come_at_once():
    async def whole():
        times = []
        async with gate(20) as door:

            async def one():
                assert await door.passed(0.0)
                times.append(asyncio.get_running_loop().time())

            await asyncio.gather(*(one() for _ in range(45)))
        return times

    times = asyncio.run(whole())
    assert all(later - first >= 1.0 for first, later in zip(times, times[20:], strict=False))
    assert times[-1] - times[0] < 10, "and not much fewer"
    door = by_hand(20)
    times = [asyncio.run(door.passed(0.0)) for _ in range(45)]
    assert times[-1] - times[0] == pytest.approx(2 * 1.005), "no fewer at all, but for the machine"


def test_a_request_that_counts_for_many_leaves_room_for_as_many():
    """By a clock moved by hand: whatever they count for, no second holds too many, unless one alone is too much."""

    async def whole(weights):
        door = by_hand(10)
        return [(await door.passed(0.0, units=units), units) for units in weights]

    left = asyncio.run(whole([3, 4, 3, 1, 9, 2, 25, 1]))
    for at, _ in left:
        within = [units for when, units in left if at - 1 < when <= at]
        assert sum(within) <= 10 or len(within) == 1
    assert left[3][0] - left[0][0] == pytest.approx(1.005)


def test_a_request_that_comes_too_late_leaves_no_trace_at_the_gate():
    async def whole():
        door = by_hand(3)
        late = [await door.passed(0.0, late_or_not=False) for _ in range(9)]
        return late, await door.passed(door.clock.now, late_or_not=False) - 100.0

    late, waited = asyncio.run(whole())
    assert late == [None] * 9
    assert waited == 0, "nothing has left, so nothing is to be waited for"


def test_who_waits_at_the_gate_is_turned_away_when_it_closes():
    async def whole():
        async with gate(1) as door:
            now = SystemClock().boot()
            waiting = [asyncio.create_task(door.passed(now + 60)), asyncio.create_task(door.comes(now + 60))]
            await asyncio.sleep(0.02)
            door.stopped.set()
            return await asyncio.gather(*waiting)

    assert asyncio.run(whole()) == [0, False]


@pytest.mark.parametrize(("held_up", "more"), [(0.03, 0.03), (0.3, 0.0)])
def test_after_a_request_that_was_held_up_the_one_a_second_later_waits_as_long(held_up, more):
    """Unless it took so long that the service must have been thinking."""

    async def whole():
        door = by_hand(10)
        usual = [await door.passed(0.0) for _ in range(10)]
        for left in usual[1:]:
            door.heard(left)
        door.clock.now += held_up
        door.heard(usual[0])
        return await door.passed(0.0) - usual[0]

    assert asyncio.run(whole()) == pytest.approx(1.005 + more)
