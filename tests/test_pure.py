"""The pure rooms: laws that hold for every address, every reply, every rate and every hour."""

import json
import time
from datetime import UTC, date, datetime, timedelta
from itertools import pairwise
from math import ceil, nan
from zoneinfo import ZoneInfo

import jsonpath_rfc9535
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st
from lxml import etree

from yellowtor.addresses.alignment import align
from yellowtor.addresses.canonical import canonical
from yellowtor.addresses.composing import AddressComposer
from yellowtor.addresses.guess import guess_columns
from yellowtor.addresses.keys import Asking, subject_key
from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.suspicion import suspicions
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Price, Tier, money, price_on
from yellowtor.allowance.retry import Attempt, LeaveOpen, Retry, Settle, StopAsking, decide, retry_after_s
from yellowtor.allowance.windows import Span, Window
from yellowtor.answers.geography.cell_coordinates import read_coordinates
from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.judging.judgement import judge
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.formats.json_format import JsonFormat
from yellowtor.answers.replies.formats.text_format import TextFormat
from yellowtor.answers.replies.formats.xml_format import XmlFormat
from yellowtor.answers.replies.json_paths import compile_fields, compile_first, compile_path
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.reading import read_reply
from yellowtor.answers.replies.reading_rules import Reading
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Area, Position
from yellowtor.ledger.storage.stored_text import position_text, position_texts, read_position, read_positions
from yellowtor.run.phases.row_reader import identity
from yellowtor.tables.cells import as_text, as_texts, number_texts, safe_texts
from yellowtor.tables.stated_dialect import StatedDialect
from yellowtor.tables.text.dialect import find_dialect

NUMBERS = st.none() | st.floats() | st.floats(-180, 180).map(lambda degrees: round(degrees, 6))
NOW = datetime(2026, 3, 1, 12, tzinfo=UTC)


@given(st.text(max_size=40))
@example("ǰ\u0345 İ ß ŉ")
def test_the_canonical_form_of_a_canonical_form_is_itself(text):
    once = canonical(text)
    assert canonical(once) == once
    assert canonical(f"  {text}\u00a0 ") == once
    assert "\x1f" not in once
    assert canonical("\u200e\0".join(text) + "\xad\x1b") == once


@given(st.lists(NUMBERS, max_size=6))
@example([1e-05, 1e16, 1e15, -0.0])
@example([None, nan])
def test_many_numbers_are_written_and_read_as_one_alone_is(numbers):
    assert number_texts(numbers, "none") == ["none" if n is None else repr(n) for n in numbers]
    assert [text for (text,) in as_texts([[n] for n in numbers])] == list(map(as_text, numbers))
    assert safe_texts(numbers) == ["" if n is None else repr(n) for n in numbers]


@given(st.lists(st.none() | st.builds(Position, st.floats(-90, 90), st.floats(-180, 180)), max_size=5))
def test_a_stored_position_is_the_position_at_the_precision_that_we_write(positions):
    texts = list(map(position_text, positions))
    assert list(position_texts(positions)) == texts
    assert read_positions(texts) == list(map(read_position, texts)) == [p and p.rounded() for p in positions]
    assert list(map(position_text, read_positions(texts))) == texts


def test_a_character_that_no_database_keeps_is_not_read_out_of_a_reply():
    body = rb'{"a": "x\u0000y\\u0000", "b": "\\\u0000"}'
    assert JsonFormat().open(body, "") == {"a": "x\ufffdy\\u0000", "b": "\\\ufffd"}
    assert TextFormat(",", header=False).open(b"a\0b,c", "")[0].cells == ["a\ufffdb", "c"]


def test_two_numbers_are_never_made_one():
    numbers = [
        "12/1", "12-1", "121", "12 1", "12²", "122", "1½", "11/2", "11-2", "12a", "12/a", "12-a", "1 2a", "٣", "3",
    ]  # fmt: skip
    assert len({subject_key(Address(street=f"{n} Kelp Lane")) for n in numbers}) == len(numbers)
    same = ["12-14 Kelp Lane", "12 - 14  KELP LANE.", "12 -14 Kelp-Lane"]
    assert len({subject_key(Address(street=s)) for s in same}) == 1


def test_parts_left_empty_take_their_punctuation_along_and_needed_ones_are_missed():
    composing = AddressComposer({"street": "S", "town": "T"}, {"country": "XT"}, frozenset({"street", "town"}))
    assert composing.compose({"S": " 1  Kelp\u00a0Lane ", "T": ""}).line() == "1 Kelp Lane, XT"
    cells = {"S": "1 Kelp Lane", "T": " .- "}
    assert composing.why_not(cells, composing.compose(cells)) == "town missing"
    assert [identity(k) for k in ("12", " 12.0", "12.00", "012", "12.5", "a.0")] == ["12", "12", "12", "012", "12.5", "a.0"]  # fmt: skip


JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-999, 999) | st.floats(-200, 200) | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from("abcd"), inner, max_size=4),
    max_leaves=20,
)
STEPS = st.sampled_from([".a", ".b", "['c']", "[0]", "[1]", "[-1]", "[-2]"])


@given(JSON, st.lists(STEPS, max_size=4), st.sampled_from(["", "", "[*]", ".*", "..a", "[0:2]", "[?@.a]"]))
def test_quick_getters_find_what_the_library_finds(value, steps, last):
    path = "$" + "".join(steps) + last
    expected = [node.value for node in jsonpath_rfc9535.find(path, value)]
    assert repr(compile_path(path)(value)) == repr(expected)
    first = next(iter(expected), None)
    assert repr(compile_first(path)(value)) == repr(first)
    assert compile_fields({"it": path})(value) == ({"it": as_written(first)} if as_written(first) else {})


TREE = st.recursive(
    st.just("<a/>") | st.just('<p:b x="1">one<!-- no -->two</p:b>') | st.just("<b>5</b>"),
    lambda inner: st.builds(
        lambda tag, x, parts: f"<{tag}{x}>{''.join(parts)}</{tag}>",
        st.sampled_from(["a", "b", "p:a", "p:b"]), st.sampled_from(["", ' x="2"']), st.lists(inner, max_size=4),
    ),
    max_leaves=12,
)  # fmt: skip
XPATHS = [
    "a", "p:b", "a/b", "p:a/p:b/b", "@x", "a/@x", "p:a/p:b/@x", "b/a/@y", ".", "a[1]/b", "*", "text()", "//b",
    "count(a)",
]  # fmt: skip


@given(TREE, st.sampled_from(XPATHS))
def test_quick_paths_in_xml_find_what_the_library_finds(tree, path):
    shape = XmlFormat({"p": "urn:p"})
    root = shape.open(f'<r xmlns:p="urn:p" x="0">{tree}</r>'.encode(), "")
    for node in root.iter("*"):
        found = etree.XPath(path, namespaces={"p": "urn:p"})(node)
        first = next(iter(found), None) if isinstance(found, list) else found
        expected = first.xpath("string()") if hasattr(first, "xpath") else first
        assert shape.getter(path)(node) == expected


READING = Reading(
    rules=[],
    candidates=compile_path("$.a[*]"),
    latitude=compile_first("$.b"),
    longitude=compile_first("$.c"),
    parts=compile_fields({"street": "$.d", "level": "$.a"}),
    box=[compile_first("$.a[0]")] * 4,
)


@given(
    st.sampled_from(Span), st.floats(1_577_836_800, 2_208_988_800).map(lambda seconds: datetime.fromtimestamp(seconds, UTC)),
    st.sampled_from(["UTC", "Europe/Lisbon", "Asia/Kathmandu", "America/St_Johns", "Australia/Lord_Howe"]),
)  # fmt: skip
def test_every_instant_is_in_just_one_window_of_the_calendar_and_the_next_begins_where_it_ends(span, now, zone):
    window = Window(1, span, ZoneInfo(zone))
    start, end = window.start(now), window.end(now)
    assert start <= now < end
    assert window.start(start) == start
    assert window.start(end) == end
    assert window.end(end - timedelta(microseconds=1)) == end
    longest = {Span.DAY: 90_000, Span.WEEK: 608_400, Span.MONTH: 31 * 86_400 + 3_600}.get(span, span.seconds)
    assert longest * 0.89 <= (end - start).total_seconds() <= longest


TIERS = st.lists(st.tuples(st.integers(1, 50), st.integers(0, 9)), max_size=3).map(
    lambda pairs: (
        *(Tier(sum(n for n, _ in pairs[: at + 1]), each) for at, (_, each) in enumerate(pairs)),
        Tier(None, 7),
    )
)


@given(TIERS, st.integers(0, 100), st.integers(0, 100), st.integers(0, 100))
def test_a_price_is_that_of_each_request_by_its_number_in_the_month(tiers, used, one, more):
    price = Price("EUR", tiers)
    each = [next(t.each for t in tiers if t.upto is None or number < t.upto) for number in range(used, used + one)]
    assert price.cost(used, one) == sum(each)
    assert price.cost(used, one + more) == price.cost(used, one) + price.cost(used + one, more)


def test_money_is_written_as_people_do_and_the_price_is_that_of_the_day():
    assert [money(n, "EUR") for n in (0, 4_500_000, 1_234_567_890_000, 1_500)] == [
        "0.00 EUR", "4.50 EUR", "1,234,567.89 EUR", "0.0015 EUR",
    ]  # fmt: skip
    old, new = Price("EUR", (Tier(None, 1),)), Price("EUR", (Tier(None, 2),), date(2026, 5, 1))
    assert [price_on([new, old], date(2026, month, 1)) for month in (4, 5, 6)] == [old, new, new]
    assert price_on([new], date(2026, 4, 30)) is None


@given(JSON | st.fixed_dictionaries({"a": st.lists(st.fixed_dictionaries({"b": JSON, "c": JSON}), max_size=3)}))
def test_no_reply_makes_a_traceback_or_a_coordinate_out_of_nothing(value):
    read = read_reply(READING, 200, json.dumps(value).encode())
    for candidate in read.candidates:
        assert any(
            float(item["b"]) == candidate.position.lat and float(item["c"]) == candidate.position.lon
            for item in (value["a"] if isinstance(value["a"], list) else value["a"].values())
            if isinstance(item, dict) and all(type(item.get(k)) in {int, float, str} and item[k] != "" for k in "bc")
        )
        assert not candidate.position.is_null_island
    assert (read.kind is Kind.ANSWERED) == bool(read.candidates)


@given(st.binary(max_size=60), st.integers(100, 599))
def test_every_reply_has_one_kind_whatever_its_bytes_are(body, status):
    read = read_reply(READING, status, body)
    assert not read.candidates or status // 100 == 2
    assert (read.kind in {Kind.ANSWERED, Kind.NOTHING_FOUND}) <= (status // 100 == 2 or status == 404)


def test_kinds_by_status_and_shape():
    kinds = {
        s: read_reply(READING, s, b"{}").kind for s in (200, 301, 400, 401, 402, 403, 404, 422, 429, 500, 503, 599)
    }
    assert [k.value for k in kinds.values()] == [
        "unreadable", "unreadable", "question refused", "key refused", "not permitted", "not permitted",
        "unreadable", "question refused", "too fast", "unavailable", "unavailable", "unavailable",
    ]  # fmt: skip
    for body, word in ((b"<html>", "web page"), (b'{"a": [', "cut short"), (b"", "empty"), (b"hello", "not JSON")):
        read = read_reply(READING, 200, body)
        assert read.kind is Kind.UNREADABLE
        assert word in read.message
    zero = read_reply(READING, 200, b'{"a": [{"b": 0, "c": 0.0}]}')
    assert zero.kind is Kind.UNREADABLE
    assert "0,0 is not an answer" in zero.message


PARTS = {"number": "14", "street": "Kelp Lane", "town": "Ørlvík", "postcode": "00412", "country_code": "XT"}
ASKED = Address(street="14 Kelp Lane", town="Ørlvík", postcode="00412", country="XT")
AREA = Area(-30, 46, -27, 49)


def place(lat=47.5, lon=-28.5, level=Level.BUILDING, method=None, **parts):
    return Candidate(Position(lat, lon), level, method, "", {k: v for k, v in (PARTS | parts).items() if v})


def judged(*candidates, tolerance=50, asked=ASKED):
    return judge(asked, frozenset({"country"}), Kind.ANSWERED, "", candidates, Thresholds(tolerance, 0.8, AREA))


@pytest.mark.parametrize(
    ("candidates", "outcome", "reason"),
    [
        ([place()], "placed", "house number agrees"),
        ([place(street="Kelp Ln", postcode="412")], "placed", "street agrees"),
        ([place(), place(47.6, number="15")], "placed", "house number agrees"),
        ([place(lat=10)], "doubtful", "outside the job's area"),
        ([place(country_code="QO", country="Elsewhere")], "doubtful", "another country is answered"),
        ([place(number="16")], "doubtful", "another house number"),
        ([place(number="", level=Level.SEGMENT)], "doubtful", "up to 250 m away"),
        ([place(method=Method.INTERPOLATED)], "doubtful", "interpolated"),
        ([place(), place(47.6)], "doubtful", "another place fits about as well, up to 11.1 km away"),
        ([place(), place(47.50001)], "placed", "house number agrees"),
        ([place(town="Skelmere", postcode="99999")], "doubtful", "another town is answered"),
        ([place(street="", number="", level=Level.ADDRESS_AREA)], "doubtful", "the street is not confirmed"),
        ([Candidate(Position(47, -28), Level.ADMIN_UNIT_1, None, "", {"country_code": "XT"})], "unplaced", "confirms only what the job fixed"),
        ([], "unplaced", "found nothing"),
    ],
)  # fmt: skip
def test_judgements_are_what_a_careful_person_would_say(candidates, outcome, reason):
    judgement = judged(*candidates)
    assert judgement.outcome == outcome
    assert reason in "; ".join(judgement.reasons)


def test_an_address_in_one_line_is_taken_apart_by_what_it_meets():
    whole = Address(whole="14 Kelp Ln, 00412 Orlvik, XT")
    assert judged(place(), asked=whole).outcome == "placed"
    assert judged(place(number="15"), asked=whole).outcome == "doubtful"
    assert judged(place(street="Turbine Rise"), asked=whole).outcome == "doubtful"


@given(
    st.lists(st.sampled_from(["", "Kelp Lane", "Kelp Ln", "Hill Road", "XT", "QO", "14", "16", "00412"]), min_size=5, max_size=5),
    st.sampled_from(Level), st.floats(1, 5000), st.floats(1, 5000), st.booleans(),
)  # fmt: skip
def test_confidence_is_a_probability_and_grows_with_the_tolerance(values, level, one, other, inside):
    candidate = place(47.5 if inside else 1.0, level=level, **dict(zip(PARTS, values, strict=True)))
    small, large = (judged(candidate, tolerance=t).confidence for t in sorted((one, other)))
    assume(small is not None)
    assert 0 <= small.value <= large.value < 1
    assert small.reasons
    if not inside or align(parse(ASKED), candidate.parts).country == 0:
        assert judged(candidate, tolerance=5000).outcome is not Outcome.PLACED


@given(st.floats(0.2, 200), st.lists(st.floats(0, 3), min_size=2, max_size=80))
def test_no_rolling_second_ever_holds_one_too_many(rate, waits):
    pace, tat, now, sent = Pace(rate), 0.0, 100.0, []
    for wait in waits:
        now += wait if wait > 2 else 0
        at, tat = pace.reserve(tat, now)
        sent.append(at)
    most = ceil(rate)
    assert all(later - first >= max(1.0, most / rate) for first, later in zip(sent, sent[most:], strict=False))
    assert all(a <= b for a, b in pairwise(sent))


def test_a_day_is_as_long_as_its_zone_says():
    zone = ZoneInfo("Europe/Lisbon")
    lengths = {
        day: Window(1, zone=zone).end(noon) - Window(1, zone=zone).start(noon)
        for day, noon in ((d, datetime(2026, 3, d, 12, tzinfo=zone)) for d in (28, 29, 30))
    }
    assert lengths == {28: timedelta(hours=24), 29: timedelta(hours=23), 30: timedelta(hours=24)}


@pytest.mark.parametrize(
    ("kind", "headers", "attempt", "decision"),
    [
        (Kind.ANSWERED, {}, 1, Settle()), (Kind.NOTHING_FOUND, {}, 1, Settle()), (Kind.QUESTION_REFUSED, {}, 1, Settle()),
        (Kind.KEY_REFUSED, {}, 1, StopAsking(Kind.KEY_REFUSED)), (Kind.WINDOW_SPENT, {}, 1, StopAsking(Kind.WINDOW_SPENT)),
        (Kind.UNAVAILABLE, {}, 1, Retry(0.375)), (Kind.UNREADABLE, {}, 3, Retry(1.5)), (Kind.UNAVAILABLE, {}, 4, Settle()),
        (Kind.UNAVAILABLE, None, 4, LeaveOpen()),
        (Kind.TOO_FAST, {"retry-after": "7"}, 1, Retry(7.1)), (Kind.TOO_FAST, {}, 4, StopAsking(Kind.TOO_FAST)),
        (Kind.TOO_FAST, {"retry-after": "86400"}, 1, StopAsking(Kind.TOO_FAST)),
    ],
)  # fmt: skip
def test_retry_or_give_up_is_decided_in_one_place(kind, headers, attempt, decision):
    status = 0 if headers is None else 500
    assert decide(kind, status, headers or {}, Attempt(attempt, 4, 0.5), NOW) == decision
    assert retry_after_s("Sun, 01 Mar 2026 12:00:30 GMT", NOW) == 30
    assert retry_after_s("soon", NOW) is None


UNITS = [
    "a", "é", "0", " ", ",", "-", "a ", "1,", "'", "[(", "a1", "1 ", "/", "1-", "A.", "١", "@", "@.", "0.", "e1",
    '"', '""', '",',
]  # fmt: skip


def test_foreign_text_is_read_in_a_time_that_grows_as_its_length():
    whole = AddressComposer({"whole": "w"}, {}, frozenset())
    parts = AddressComposer({"street": "w", "town": "w"}, {}, frozenset())
    readers = {
        "coordinates": lambda text: read_coordinates(text, text, ".", None),
        "whole": lambda text: subject_key(whole.compose({"w": text})),
        "parts": lambda text: subject_key(parts.compose({"w": text})),
        "suspicions": lambda text: list(suspicions(text)),
        "columns": lambda text: guess_columns(["Id", text], [["1", text]]),
        "key": lambda text: identity(f"{text}.0"),
        "text file": lambda text: find_dialect(f"Id;x\n1;{text}\n".encode("cp1252", "replace"), StatedDialect()).said(f"1;{text}é".encode("cp1252", "replace")),
    }  # fmt: skip
    for name, read in readers.items():
        for unit in UNITS:
            for _ in range(3):  # a collection of garbage may fall into one of them
                took = [seconds_of(read, unit * (size // len(unit))) for size in (3_000, 4_000, 64_000)]
                if took[2] < 60 * took[1] + 0.05:  # the first is for what is made once
                    break
            else:
                pytest.fail(f"{name} of {unit!r}: {took}")


def seconds_of(read, text):
    began = time.process_time()
    read(text)
    return time.process_time() - began


def test_of_candidates_that_agree_as_well_the_service_s_own_score_chooses():
    here, there = (place(lat=lat)._replace(score=score) for lat, score in ((47.5, 0.4), (47.6, 0.9)))
    for candidates in ((here, there), (there, here)):
        assert judged(*candidates).candidate.score == 0.9
    assert judged(here._replace(score=1.0), place(street="Gannet Rise")).candidate.position.lat == 47.5


@given(st.lists(st.tuples(st.booleans(), *[st.text(st.sampled_from("ab7é ,.-\n\r\t\xa0\0\x1f"), max_size=6)] * 3), max_size=8, min_size=1), st.booleans())  # fmt: skip
def test_columns_are_composed_as_records_are(cells, fixed):
    from yellowtor.run.phases.composing_helpers import SubjectComposer

    columns = {"street": "S", "town": "T", "postcode": "P"}
    composing = AddressComposer(
        columns, {"town": "Holm"} if fixed else {"country": "XT"}, frozenset({"street", "town"})
    )
    composer = SubjectComposer(composing, [Asking("a", "forward", "{q}", "", "", 1)], {"\x1f\x1f7\x1f": Address("x")})
    one_by_one = [composer.compose(dict(zip("STP", texts, strict=True)), kept=kept) for kept, *texts in cells]
    assert [composed for _, composed in composer.make(cells)] == one_by_one


def test_helpers_compose_what_one_process_does_and_one_that_is_ended_costs_nothing(monkeypatch):
    from yellowtor.run.phases import composing_helpers

    monkeypatch.setattr(composing_helpers, "MANY", 5)
    monkeypatch.setattr(composing_helpers, "BEFORE", 0)
    composing = AddressComposer(
        {"street": "S", "town": "T"}, {"country": "XT"}, frozenset({"town"}), words={"S": {"st": "street"}}
    )
    corrected = {subject_key(Address(street="2 Kelp Row", town="Holm", country="XT")): Address(street="3 Quay Row")}
    askings = [
        Asking(name, "forward", "{q}", "", "", 1, wants) for name, wants in (("a", ("q",)), ("b", ("postcode",)))
    ]
    composer = composing_helpers.SubjectComposer(composing, askings, corrected)
    texts = ["", "Holm", "1 Ørk st", "2 Kelp  Row", "\n7\tQuay, Row", "\0"]
    cells = [(kept, street, town) for kept in (False, True) for street in texts for town in texts[:-1]]
    alone = composer.make(cells)
    assert [composed for _, composed in alone] == [
        composer.compose({"S": street, "T": town}, kept=kept) for kept, street, town in cells
    ]
    assert {composed.why for _, composed in alone} == {"", "town missing", "has coordinates of its own"}
    helpers = composing_helpers.ComposingHelpers(composer)
    helpers._alone = False
    try:
        assert helpers.make(cells) == helpers.make(cells) == alone
        helpers._helpers[0]._process.kill()
        assert helpers.make(cells) == alone
    finally:
        helpers.close()
