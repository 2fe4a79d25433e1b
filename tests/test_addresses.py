"""Addresses are understood: parsed into typed parts, aligned with answers, and judged by laws that always hold."""

import random
from dataclasses import replace

import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

from yellowtor.addresses.alignment import align
from yellowtor.addresses.exact import exact
from yellowtor.addresses.parsing.parse import parse, parse_fully
from yellowtor.addresses.parsing.plain import plain_address
from yellowtor.addresses.parsing.vocabulary import vocabulary
from yellowtor.answers.geography.levels import Level
from yellowtor.answers.judging.explaining import explain
from yellowtor.answers.judging.judgement import judge
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Position

HOUSE = {
    "number": "12", "street": "Wharf Lane", "town": "Holm", "postcode": "00412", "region": "Brænadûn Isles",
    "country": "Germany", "country_code": "DE",
}  # fmt: skip


@pytest.mark.parametrize(
    ("street", "number", "name", "others"),
    [
        ("12 Wharf Lane Apt 4, c/o R. Pell", "12", "wharf lane", {"unit": "apt 4", "care_of": "c/o r pell"}),
        ("12 40th Ave. N", "12", "40th ave n", {}), ("12Wharf Lane", "12", "wharf lane", {}),
        ("12 bis, rue du Port", "12 bis", "rue du port", {}), ("Kelpstr. 14/3", "14/3", "kelpstr", {}),
        ("12-14 Kelp Rd.", "12-14", "kelp rd", {}), ("Kelp Lane 7 #12", "7", "kelp lane", {"unit": "12"}),
        ("Kelp Lane 7 2nd floor left", "7", "kelp lane", {"unit": "2nd floor left"}),
        ("7 Kelp Lane, 1er étage", "7", "kelp lane", {"unit": "1er etage"}),
        ("Kelp Lane 7 (back door)", "7", "kelp lane", {"notes": "back door"}),
        ("Kelp Lane 7 - ring twice", "7", "kelp lane", {"notes": "ring twice"}),
        ("PO Box 8", "", "", {"po_box": "po box 8"}), ("Flat 2, 12 Kelp Road", "12", "kelp road", {"unit": "flat 2"}),
        ("Kelpgade 7, 3. th", "7", "kelpgade", {"unit": "3 th"}), ("Pl. 5 Maja 3", "3", "pl 5 maja", {}),
        ("5th Avenue", "", "5th avenue", {}),
    ],
)  # fmt: skip
def test_a_street_is_parsed_into_number_name_and_what_changes_no_position(street, number, name, others):
    parsed = parse(Address(street=street))
    assert (parsed.number, " ".join(parsed.street)) == (number, name)
    assert {part: getattr(parsed, part) for part in ("unit", "care_of", "po_box", "notes")} == {
        "unit": "", "care_of": "", "po_box": "", "notes": "", **others,
    }  # fmt: skip


@pytest.mark.parametrize(
    "asked",
    [
        Address(street="12 Wharf Lane", town="Holm", postcode="00412", country="Deutschland"),
        Address(street="12 Warf Ln. Apt 4", town="Holm, Brænadûn Isles"), Address(whole="Holm, 12 Wharf Lane, 00412"),
        Address(whole="12 wharf lane holm 00412"), Address(street="Holm", town="12 Wharf Lane", country="DEU"),
        Address(whole="00412 Holm, Wharf Lane 12, Germany"), Address(street="12 Wharf Lane, Holm"),
        Address(number="12", street="WHARF LANE (rear)", town="Holm", region="Brænadûn Isles"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("label_only", [False, True])
def test_one_address_in_many_forms_agrees_with_its_answer_also_if_that_is_only_a_label(asked, label_only):
    answered = {"label": "12 Wharf Lane, 00412 Holm, Brænadûn Isles, Germany"} if label_only else HOUSE
    found = align(parse(asked), answered)
    assert found.number == 1
    assert found.street > 0.79
    assert found.town > 0.89
    assert found.country in {1, None}
    assert found.unexplained == 0


@pytest.mark.parametrize(
    ("asked", "answered", "alike"),
    [
        ("40th Ave. N", "40th Avenue North", True), ("K St NE", "K Street Northeast", True), ("C/ Mayor", "Calle Mayor", True),
        ("1st Street", "First Street", True), ("St John's Rd", "Saint John's Road", True), ("Kelpstr.", "Kelpstraße", True),
        ("Bd du Port", "Boulevard du Port", True), ("Hbr Rd", "Harbour Road", True), ("Lantren Road", "Lantern Road", True),
        ("Kelp Street", "Kelp Avenue", False), ("Mill Road", "Hill Road", False), ("N Kelp Street", "S Kelp Street", False),
        ("2nd Street", "3rd Street", False), ("Park Avenue", "Park Road", False), ("Kelp", "Turbine Rise", False),
    ],
)  # fmt: skip
def test_names_of_streets_agree_as_people_would_say(asked, answered, alike):
    found = align(parse(Address(street=f"5 {asked}")), {"number": "5", "street": answered})
    assert alike == (found.street > 0.8 and found.kind is not False and found.direction is not False)


@pytest.mark.parametrize(
    ("asked", "answered", "agreement"),
    [
        ("12", "12", 1), ("12a", "12 A", 1), ("12 bis", "12bis", 1), ("12-14", "12", 0.9), ("12", "10-14", 0.9),
        ("14/3", "14", 0.95), ("12a", "12", 0.85), ("12a", "12b", 0.5), ("12", "14", 0), ("1", "12", 0),
    ],
)  # fmt: skip
def test_house_numbers_agree_as_far_as_they_mean_one_house(asked, answered, agreement):
    found = align(parse(Address(street=f"Kelp Lane {asked}")), {"number": answered, "street": "Kelp Lane"})
    assert found.number == pytest.approx(agreement, abs=0.05)


TEXTS = st.text(max_size=60) | st.lists(
    st.sampled_from(["12", "Wharf", "Lane", "apt", "4", "#", "c/o", ",", "(", "- ", "2nd", "floor", "00412", "Holm", "DE", "bis", "/", "straße"]),
    max_size=9,
).map(" ".join)  # fmt: skip


@given(TEXTS, TEXTS, TEXTS, TEXTS)
@example("", "", "", "(" * 300)
def test_every_text_can_be_parsed_and_aligned(street, town, whole, label):
    for asked in (Address(street=street, town=town), Address(whole=whole)):
        found = align(parse(asked), {"street": street, "town": whole, "label": label} if town else {"label": label})
        values = [
            found.number,
            found.street,
            found.town,
            found.postcode,
            found.region,
            found.country,
            found.unexplained,
        ]
        assert all(value is None or 0 <= value <= 1 for value in values)


def test_the_quick_way_to_parse_a_plain_address_finds_the_same():
    known = vocabulary()
    words = [
        *known.kinds,
        *known.ordinals,
        *known.directions,
        *known.saint,
        *known.connecting,
        *known.place_kind,
        *known.boxed,
    ]
    words += [
        *known.marked,
        "Kelp",
        "Ørlun",
        "kelpstrasse",
        "O'Brien",
        "Saint-Jean",
        "a",
        "N.",
        "bis",
        "no",
        "東京",
        "s",
        "n",
        "İlke",
    ]
    r = random.Random(7)
    quick = 0
    for _ in range(10_000):
        name, town = (r.choice([" ", " ", "-"]).join(r.choices(words, k=r.randint(1, 4))) for _ in range(2))
        name = r.choice([str.title, str.upper, str])(name)
        number = r.choice(["", "12", "7", "1200", "12345"])
        street = r.choice([f"{number} {name}", f"{name} {number}", f"{name}, {number}"]).strip(" ,")
        asked = Address(number=r.choice(["", "", "5a"]), street=street, town=town, postcode=r.choice(["", "00412"]),
            region=r.choice(["", "North"]), country=r.choice(["", "DE", "Germany"]))  # fmt: skip
        if plain_address(asked):
            quick += 1
            assert parse(asked) == parse_fully(asked), asked
    assert quick > 2_000


PARTS_OF = {
    "number": ["", "12", "7", "12a"], "street": ["Wharf Lane", "5 Kelp Lane", "Kelp-Lane 5", "N Kelp St.", "Lane", "12", "Apt 4 Lane", "Rue du Port"],
    "town": ["Holm", "Holm am See", "St. Holm"], "postcode": ["", "00412", "412"], "country": ["", "DE", "Isles"],
}  # fmt: skip


@given(*(st.fixed_dictionaries({part: st.sampled_from(texts) for part, texts in PARTS_OF.items()}) for _ in range(2)))
def test_the_quick_way_for_equal_words_sees_what_the_alignment_sees(own, there):
    asked = Address(**own)
    quick = exact(asked, there)
    assume(quick)
    slow = align(parse(asked), there)
    assert replace(slow, kind=None, direction=None, marks=()) == quick
    assert False not in {slow.kind, slow.direction}


def place(lat=47.5, lon=-28.5, level=Level.BUILDING, score=None, **parts):
    return Candidate(Position(lat, lon), level, None, "", {k: v for k, v in (HOUSE | parts).items() if v}, score=score)


def confidence(asked, candidates, tolerance_m=100.0):
    found = judge(asked, frozenset(), Kind.ANSWERED, "", candidates, Thresholds(tolerance_m, 0.9)).confidence
    return found.value if found else 0.0


ASKED = Address(street="12 Wharf Lane", town="Holm", postcode="00412", region="Brænadûn Isles", country="DE")
WORSE = {
    "number": ["12", "12a", "14"], "street": ["Wharf Lane", "Warf Lane", "Wharf Road", "Turbine Rise"],
    "town": ["Holm", "Hölmm", "Skelmere"], "postcode": ["00412", "00413", "99999"], "country_code": ["DE", "FR"],
}  # fmt: skip


@given(
    st.fixed_dictionaries({part: st.integers(0, len(texts) - 1) for part, texts in WORSE.items()}),
    st.sampled_from(sorted(WORSE)),
)
def test_more_contradiction_never_raises_confidence(at, part):
    assume(at[part] + 1 < len(WORSE[part]))
    better, worse = ({p: WORSE[p][i] for p, i in places.items()} for places in (at, at | {part: at[part] + 1}))
    country = {"country": ""}
    assert confidence(ASKED, [place(**country, **worse)]) <= confidence(ASKED, [place(**country, **better)])


PLACES = st.lists(
    st.fixed_dictionaries({p: st.integers(0, len(t) - 1) for p, t in WORSE.items()}), min_size=2, max_size=4
)


@given(PLACES, st.sampled_from(sorted(WORSE)))
def test_the_best_of_several_never_loses_by_agreeing_more(places, part):
    there = [place(47 + at, country="", **{p: WORSE[p][i] for p, i in one.items()}) for at, one in enumerate(places)]
    found = judge(ASKED, frozenset(), Kind.ANSWERED, "", there, Thresholds(100.0, 0.9))
    at = there.index(found.candidate) if found.candidate else 0
    assume(found.candidate and places[at][part])
    better = places[at] | {part: places[at][part] - 1}
    there[at] = place(47 + at, country="", **{p: WORSE[p][i] for p, i in better.items()})
    assert confidence(ASKED, there) >= found.confidence.value


CANDIDATES = st.lists(
    st.builds(
        place, st.sampled_from([47.5, 47.5004, 47.6, 48.0]), level=st.sampled_from([Level.BUILDING, Level.SEGMENT, Level.ADDRESS_AREA]),
        score=st.sampled_from([None, 0.3, 0.9]), number=st.sampled_from(["12", "14", ""]), town=st.sampled_from(["Holm", "Skelmere"]),
        street=st.sampled_from(["Wharf Lane", "Warf Lane", "Kelp Road"]),
    ),
    min_size=1, max_size=5,
)  # fmt: skip


@given(CANDIDATES, st.randoms(use_true_random=False), st.floats(1, 3000), st.floats(1, 3000))
def test_neither_order_nor_copies_matter_and_a_larger_tolerance_never_lowers_confidence(candidates, chance, one, other):
    value = confidence(ASKED, candidates)
    shuffled = random.Random(chance.random()).sample(candidates, len(candidates))
    assert confidence(ASKED, shuffled) == value
    assert confidence(ASKED, [*candidates, candidates[0]]) == value
    story = explain(ASKED, candidates, Thresholds(100.0, 0.9))
    assert story.judgement.confidence.value == value
    assert all(one.without >= value - 0.001 for one in story.evidence)
    small, large = sorted((one, other))
    assert confidence(ASKED, candidates[:1], small) <= confidence(ASKED, candidates[:1], large)


@pytest.mark.parametrize(
    ("street", "number", "answered"),
    [
        ("Flat 3, Rose Cottage, 12 High St", "12", "High Street"), ("Rose Cottage 12 High Street", "12", "High Street"),
        ("Résidence Vesk Bât A 12 rue du Port", "12", "Rue du Port"), ("Kelpstr.12", "12", "Kelpstraße"),
        ("123 1/2 Main St", "123 1/2", "Main Street"), ("4410 Co Rd 12", "4410", "County Road 12"),
        ("Via Roma, 12/A", "12", "Via Roma"), ("Kelpweg 12-2hg", "12", "Kelpweg"), ("Kelpgasse 12/3/14", "12", "Kelpgasse"),
        ("Kelpova 45", "123/45", "Kelpova"), ("P.zza G. Vesk 3", "3", "Piazza Giuseppe Vesk"), ("ul. Kelpa 5 m. 3", "5", "Kelpa"),
        ("12 bis, av. du Gal Kelp", "12 bis", "Avenue du Général Kelp"),
        ("Rua Vesk, 123 - Apto 4 - Centro", "123", "Rua Vesk"), ("Am Kelpbach 3-5", "3", "Am Kelpbach"),
    ],
)  # fmt: skip
def test_usual_ways_to_write_an_address_are_placed(street, number, answered):
    there = place(number=number, street=answered)
    label = Candidate(there.position, there.level, None, f"{number} {answered}, 00412 Holm, Germany")
    for town, candidate in (("Holm", there), ("00412 Holm", label)):
        assert confidence(Address(street=street, town=town), [candidate]) >= 0.9


@pytest.mark.parametrize(
    ("asked", "town", "region", "placed"),
    [
        ("Holm, IL", "Holm", "Illinois", True), ("St. Holm", "Saint Holm", "", True),
        ("City of Holm", "Holm", "", True), ("Holm, TX", "Holm", "Illinois", False),
        ("New Holm", "Holm", "", False), ("Holm", "Old Holm", "", False), ("Holmby", "Holm", "", False), ("Holm", "Holmville", "", False),
    ],
)  # fmt: skip
def test_a_name_of_a_place_is_placed_by_its_own_name_only(asked, town, region, placed):
    there = place(
        level=Level.ADDRESS_AREA,
        number="",
        street="",
        postcode="",
        town=town,
        region=region,
        country="",
        country_code="US",
    )
    for address in (Address(town=asked), Address(whole=asked)):
        assert (confidence(address, [there], 2000) >= 0.9) is placed


def test_a_name_of_several_places_stays_at_its_share_and_parts_of_the_best_are_no_rivals():
    asked = Address(town="Holm")
    towns = [place(47 + n, level=Level.ADDRESS_AREA, number="", street="", postcode="", region="") for n in range(4)]
    assert confidence(asked, towns[:1], 2000) >= 0.9
    assert [confidence(asked, towns[:n], 2000) <= 1 / n + 0.001 for n in (2, 3, 4)] == [True] * 3
    house = place()
    street = place(47.502, level=Level.SEGMENT, number="")
    assert confidence(ASKED, [house, street]) == confidence(ASKED, [house]) >= 0.9
    labels = [
        Candidate(Position(lat, 8.0), level, None, label)
        for lat, level, label in (
            (47.0, Level.ADDRESS_AREA, "Holm, Isles"), (47.1, Level.SEGMENT, "Kelp Road, 00412 Holm, Isles"),
            (48.0, Level.ADDRESS_AREA, "Holm, Elsewhere"),
        )
    ]  # fmt: skip
    assert confidence(asked, labels[:2], 2000) == confidence(asked, labels[:1], 2000) >= 0.9
    assert confidence(asked, labels, 2000) <= 0.5
