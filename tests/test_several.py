"""Several services in order: whom a question goes to, whose answer wins, what is never asked twice."""

import gzip
import re
import shutil

import pytest
from conftest import DATA, real_addresses
from hypothesis import given
from hypothesis import strategies as st

from yellowtor.answers.geography.levels import Level
from yellowtor.answers.judging.confidence import Confidence
from yellowtor.answers.judging.judgement import Judgement
from yellowtor.answers.judging.service_choice import AskNext, settle
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Area, Position

SERVICES = 'services = ["stand-in.toml", "stand-in-xml.toml"]'
ROWS = real_addresses(12)


@pytest.fixture
def pair(small, serve, tmp_path):
    """A job on twelve records with two services: the first knows half of them, and has manners; the second knows all."""

    def make(first=None, second=None, rows=ROWS, known=ROWS[:6]):
        gazetteer = tmp_path / "half"
        gazetteer.mkdir()
        shutil.copy(DATA / "towns.csv", gazetteer)
        with gzip.open(DATA / "addresses.csv.gz", "rt", encoding="utf-8") as whole:
            header, *points = whole
        kept = [p for p in points if any(p.startswith(",".join([*r[1].split(" ", 1), *r[2:4]])) for r in known)]
        with gzip.open(gazetteer / "addresses.csv.gz", "wt", encoding="utf-8") as half:
            half.writelines([header, *kept])
        job = small(rows, gazetteer=gazetteer, **first or {})
        other = serve(**second or {})
        text = (DATA / "stand-in-xml.toml").read_text(encoding="utf-8").replace("per_second = 40\n", "")
        text = re.sub(r"\[forward\.many\].*?\n\n", "", text, flags=re.DOTALL)
        job.path("stand-in-xml.toml").write_text(text.replace("YELLOWTOR_STANDIN", "SECOND"), encoding="utf-8")
        job.env |= {"SECOND": other.address, "SECOND_KEY": other.key}
        job.edit(
            "job.toml", ('service = "stand-in.toml"', SERVICES), ('level = "Level"', 'service = "By"\nreasons = "Why"')
        )
        return job, job.service, other

    return make


def outcomes(summary):
    return {name: count for name, count in summary["outcomes"].items() if count}


def test_the_next_service_is_asked_only_about_what_the_one_before_did_not_answer_well_and_never_twice(pair):
    job, first, second = pair()
    plan = job.summary("--dry-run")["plan"]
    (later,) = plan["later"]
    assert (plan["open_questions"], later["service"], later["least"], later["most"]) == (12, "stand-in-xml", 0, 12)
    few = job.summary("--at-most", "3", code=6)
    assert (outcomes(few), first.requests, second.requests) == ({"placed": 3, "waiting": 9}, 3, 0)
    summary = job.summary()
    assert outcomes(summary) == {"placed": 12}
    assert (first.requests, second.requests) == (12, 6)
    assert summary["placed_by"] == {"stand-in": 6, "stand-in-xml": 6}
    assert [(s["name"], s["sent"]) for s in summary["services"]] == [("stand-in", 9), ("stand-in-xml", 6)]
    rows = job.rows("placed.csv")
    assert [rows[f"R{i}"]["By"] for i in range(12)] == ["stand-in"] * 6 + ["stand-in-xml"] * 6
    told = job.run("run", "job.toml").stderr
    assert "0 requests sent" in told
    assert [line.split() for line in told.splitlines() if line.startswith("  stand-in")] == [
        ["stand-in", "0", "0", "–", "–", "6"], ["stand-in-xml", "0", "0", "–", "–", "6"],
    ]  # fmt: skip
    job.edit(
        "job.toml",
        (SERVICES, 'services = ["stand-in-xml.toml", "stand-in.toml"]'),
        ("tolerance_m = 50", "tolerance_m = 60"),
    )
    assert job.summary()["requests"]["sent"] == 0, "in another order and by other thresholds: from kept replies"
    job.edit("job.toml", ('services = ["stand-in-xml.toml", "stand-in.toml"]', 'service = "stand-in.toml"'))
    alone = job.summary()
    assert (alone["requests"]["sent"], alone["outcomes"]["placed"]) == (0, 6), "the other's answers no longer count"


def test_a_service_that_refuses_the_key_is_set_aside_and_the_others_go_on(pair):
    job, first, second = pair()
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 1"))
    job.env["YELLOWTOR_STANDIN_KEY"] = "wrong-key"
    result = job.run("run", "job.toml", code=5)
    assert "stand-in was set aside for this run: key refused" in result.stderr
    assert (first.requests, second.requests) == (1, 12)
    job.env["YELLOWTOR_STANDIN_KEY"] = first.key
    assert job.summary()["requests"]["sent"] == 0, "all have an answer that is good enough"


@pytest.mark.parametrize("passed_on", [True, False])
def test_a_service_that_keeps_failing_is_left_alone_before_it_has_failed_at_everything(pair, passed_on):
    job, first, second = pair(first={"faults": {"error": 1}}, rows=real_addresses(60))
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 2\ntries = 1"))
    job.edit("job.toml", (SERVICES, SERVICES + f"\nnext = {{ failed = {str(passed_on).lower()} }}"))
    summary = job.summary(code=0 if passed_on else 6)
    assert summary["services"][0]["stopped_by"] == "unavailable"
    assert "requests in a row brought no answer" in summary["services"][0]["message"]
    assert 20 <= first.requests <= 21
    if passed_on:
        assert (outcomes(summary), second.requests) == ({"placed": 60}, 60)
        return
    failed = summary["outcomes"]["failed"]
    assert outcomes(summary) == {"failed": failed, "waiting": 60 - failed}
    assert (failed, second.requests) == (19, 0), "the twentieth on end is asked again another day"


@pytest.mark.parametrize("passed_on", [True, False])
def test_what_a_spent_allowance_leaves_over_waits_unless_the_job_says_that_the_next_is_to_be_asked(pair, passed_on):
    job, first, second = pair()
    job.edit("stand-in.toml", ("per_day = 2500", "per_day = 8"))
    job.edit("job.toml", (SERVICES, SERVICES + f"\nnext = {{ spent = {str(passed_on).lower()} }}"))
    plan = job.summary("--dry-run")["plan"]
    assert (plan["forecast"]["stretches"], plan["later"][0]["least"]) == ((1, 4) if passed_on else (2, 0))
    summary = job.summary(code=0 if passed_on else 6)
    assert (first.requests, second.requests) == (8, 6 if passed_on else 2)
    assert outcomes(summary) == ({"placed": 12} if passed_on else {"placed": 8, "waiting": 4})


def test_an_address_waits_as_long_as_a_service_that_may_know_it_has_not_been_asked(pair):
    """And has the best of what there is as soon as that is known; a failed one is asked again on request only."""
    street = ROWS[5][1].split(" ", 1)[1]
    rows = [ROWS[5], ["R6", f"999 {street}", *ROWS[5][2:]], ["N", "1 Nowhere Lane", "Xyphoria", ""]]
    job, first, second = pair(second={"faults": {"error": 1}}, rows=rows)
    job.edit("stand-in-xml.toml", ("parallel = 8", "parallel = 8\nper_day = 1\ntries = 1"))
    summary = job.summary(code=6)
    said = {key: row["Outcome"] for key, row in job.rows("placed.csv").items()}
    assert said == {"R5": "placed", "R6": "doubtful", "N": "waiting"}
    assert "stand-in-xml has not been asked yet" in job.rows("placed.csv")["N"]["Why"]
    job.edit("stand-in-xml.toml", ("per_day = 1\n", ""))
    assert outcomes(job.summary()) == {"placed": 1, "doubtful": 1, "failed": 1}
    assert "what the job fixed; stand-in-xml: unavailable" in job.rows("placed.csv")["N"]["Why"]
    assert (summary["requests"]["sent"], first.requests, second.requests) == (4, 3, 2)
    assert job.summary("--again", "failed")["requests"]["sent"] == 2
    assert (first.requests, second.requests) == (3, 4)


def test_two_services_of_one_name_and_conditions_that_are_none_are_told(pair):
    job, *_ = pair()
    job.edit("stand-in-xml.toml", ('name = "stand-in-xml"', 'name = "stand-in"'))
    assert "Two of the job's services have the name 'stand-in'" in job.run("run", "job.toml", code=3).stderr
    assert "Two of the job's services" in job.run("check", "job.toml", code=3).stdout
    job.edit("job.toml", (SERVICES, SERVICES + '\nnext = { coarser_than = "house" }'))
    assert "ask.next.coarser_than = 'house'" in job.run("run", "job.toml", code=3).stderr


AREA = Area(0, 0, 10, 10)


def judgement(outcome, confidence=0.9, level=Level.BUILDING, lat=5.0):
    if outcome not in {Outcome.PLACED, Outcome.DOUBTFUL}:
        return Judgement(outcome, ("why",))
    return Judgement(outcome, ("why",), Candidate(Position(lat, 5.0), level), Confidence(confidence, ()))


@pytest.mark.parametrize(
    ("answer", "told", "wanted"),
    [
        (judgement(Outcome.PLACED), {}, False),
        (judgement(Outcome.UNPLACED), {}, True),
        (judgement(Outcome.UNPLACED), {"nothing_found": False}, False),
        (judgement(Outcome.FAILED), {}, True),
        (judgement(Outcome.FAILED), {"failed": False}, False),
        (judgement(Outcome.DOUBTFUL, 0.79), {}, True),
        (judgement(Outcome.DOUBTFUL, 0.79), {"below": 0.79}, False),
        (judgement(Outcome.PLACED, level=Level.SEGMENT), {}, False),
        (judgement(Outcome.PLACED, level=Level.SEGMENT), {"coarser_than": Level.BUILDING}, True),
        (judgement(Outcome.PLACED, level=Level.ENTRANCE), {"coarser_than": Level.BUILDING}, False),
        (judgement(Outcome.PLACED, level=None), {"coarser_than": Level.BUILDING}, True),
        (judgement(Outcome.DOUBTFUL, lat=11.0), {}, True),
        (judgement(Outcome.DOUBTFUL, lat=11.0), {"outside_area": False}, False),
    ],
)
def test_when_the_next_is_asked_is_settable(answer, told, wanted):
    assert AskNext(**{"below": 0.8} | told).wants_more(answer, Thresholds(50, 0.8, AREA)) is wanted


ANSWERS = st.builds(
    judgement, st.sampled_from([Outcome.PLACED, Outcome.DOUBTFUL, Outcome.UNPLACED, Outcome.FAILED]), st.floats(0, 1)
)


@given(st.lists(ANSWERS, min_size=1, max_size=4), st.integers(0, 2))
def test_no_other_answer_is_better_than_the_one_that_wins(answers, silent):
    judged = {f"s{n}": answer for n, answer in enumerate(answers)}
    names = [f"t{n}" for n in range(silent)]
    won = settle(judged, names, AskNext(0.8), Thresholds(50, 0.8))
    points = [a for a in answers if a.candidate]
    if points:
        order = [(a.outcome is Outcome.PLACED, a.confidence.value) for a in points]
        best = judged[won.service]
        assert (best.outcome is Outcome.PLACED, best.confidence.value) == max(order)
        alone = settle({won.service: best}, names, AskNext(0.8), Thresholds(50, 0.8)).judgement
        assert won.judgement.confidence.value >= min(alone.confidence.value, 0.999) - 0.001, (
            "the others are at the same place"
        )
        elsewhere = judged | {"t9": judgement(Outcome.PLACED, 0.7, lat=6.0)}
        contradicted = settle(elsewhere, names, AskNext(0.8), Thresholds(50, 0.8)).judgement
        assert won.service == "t9" or contradicted.confidence.value <= max(won.judgement.confidence.value, 0.7) + 0.001
        assert won.enough is any(a.confidence.value >= 0.8 for a in points)
    elif silent:
        assert won.judgement.outcome is Outcome.WAITING
        assert all(any(name in reason for reason in won.judgement.reasons) for name in (*judged, *names))
    else:
        assert won.judgement.outcome is max((a.outcome for a in answers), key=[Outcome.UNPLACED, Outcome.FAILED].index)
