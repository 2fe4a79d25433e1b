"""Many questions in one request: each gets its own answer, failures are asked about alone, and all of it is counted."""

import json

import pytest
from conftest import DATA, real_addresses
from hypothesis import given
from hypothesis import strategies as st

from yellowtor.answers.replies.batch_split import BatchSplit, split_batch
from yellowtor.answers.replies.formats.json_format import JsonFormat
from yellowtor.answers.replies.formats.text_format import TextFormat
from yellowtor.answers.replies.formats.xml_format import XmlFormat
from yellowtor.answers.replies.reading_rules import Reading
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind

MANY = ["stand-in-many", "stand-in-xml", "stand-in-text", "stand-in-geojson"]
ROWS = [*real_addresses(250), ["N", "1 Nowhere Lane", "Xyphoria", ""]]
COUNTED = {
    "stand-in-many": "questions",
    "stand-in-xml": "requests",
    "stand-in-text": "questions",
    "stand-in-geojson": "requests",
}


@pytest.fixture
def batches(small):
    def make(shape, rows=ROWS, more="", **manners):
        job = small(rows, **manners)
        text = (DATA / f"{shape}.toml").read_text(encoding="utf-8").replace("per_second = 40\n", "")
        if "per_day" not in text:
            text = text.replace("[allowance]", "[allowance]\nper_day = 2500")
        job.path("stand-in.toml").write_text(text, encoding="utf-8")
        job.edit("job.toml", ('level = "Level"', 'reasons = "Why"'))
        if more:
            job.edit("stand-in.toml", ("per_day = 2500", more))
        return job

    return make


def outcomes(summary):
    return {name: count for name, count in summary["outcomes"].items() if count}


@pytest.mark.parametrize("shape", MANY)
def test_each_question_gets_its_own_answer_and_failures_inside_a_good_reply_are_asked_about_alone(batches, shape):
    job = batches(shape, faults={"item": 30})
    plan = job.summary("--dry-run")["plan"]
    assert plan["requests"] == 3
    summary = job.summary()
    assert outcomes(summary) == {"placed": 250, "unplaced": 1}
    asked = job.service.counters()
    assert asked["by_kind"] == {"many": 3, "found": 8}
    assert sorted(set(asked["by_question"].values())) == [1, 2]
    assert (summary["requests"]["sent"], summary["requests"]["again"]) == (11, 8)
    for row in job.rows("placed.csv").values():
        assert row["Outcome"] == "unplaced" or row["Matched address"].startswith(
            f"{row['Street']}, {row['Postcode']} {row['Town']}"
        )
    assert job.summary()["requests"]["sent"] == 0
    left = 2500 - (251 + 8 if COUNTED[shape] == "questions" else 11)
    assert job.summary("--dry-run")["plan"]["left"][0]["left"] == left


@pytest.mark.parametrize(("shape", "served"), [("stand-in-many", 120), ("stand-in-xml", 251)])
def test_the_allowance_is_counted_as_the_service_counts(batches, shape, served):
    """By the question: a request is cut to what is left. By the request: as long as one is."""
    limit = 120 if COUNTED[shape] == "questions" else 3
    job = batches(shape, more=f"per_day = {limit}", per_day=limit)
    summary = job.summary(code=0 if served == 251 else 6)
    assert sum(summary["outcomes"].values()) - summary["outcomes"]["waiting"] == served
    counted = job.service.counters()
    assert "spent" not in counted["by_kind"], "the service never had to say so"
    assert sum(counted["by_question"].values()) == served


def test_a_request_that_is_refused_as_a_whole_is_asked_again_as_a_whole_or_ends_the_asking(batches):
    job = batches("stand-in-many", faults={"busy": 2})
    assert outcomes(job.summary()) == {"placed": 250, "unplaced": 1}
    assert job.service.counters()["by_kind"] == {"many": 3, "busy": 2}
    job.env["YELLOWTOR_STANDIN_KEY"] = "wrong-key"
    job.edit("job.toml", ('"ledger.sqlite"', '"other.sqlite"'))
    job.edit("stand-in.toml", ("parallel = 8", "parallel = 1"))
    job.path("placed.csv").unlink()
    assert "key refused" in job.run("run", "job.toml", code=5).stderr
    assert job.service.counters()["by_kind"] == {"many": 3, "busy": 2, "key": 1}


RESULTS = st.lists(st.tuples(st.integers(0, 6), st.text("abc", max_size=2)), max_size=8)


@given(RESULTS.filter(bool), st.integers(1, 6), st.sampled_from(["json", "xml", "text"]))
def test_whatever_comes_back_nobody_gets_the_answer_of_another(results, count, shape):
    if shape == "json":
        shape, apart = JsonFormat(), BatchSplit(JsonFormat().finder("$.r[*]"), JsonFormat().getter("$.id"))
        body = json.dumps({"r": [{"id": at, "said": said} for at, said in results]}).encode()
    elif shape == "xml":
        shape = XmlFormat({})
        apart = BatchSplit(shape.finder("/r/a"), shape.getter("@id"))
        body = ("<r>" + "".join(f'<a id="{at}"><said>{said}</said></a>' for at, said in results) + "</r>").encode()
    else:
        shape = TextFormat(";", header=False)
        apart = BatchSplit(list, shape.getter("2"), of_lines=True)
        body = "".join(f"{said};{at}\r\n" for at, said in results).encode()
    whole = Reply(200, {"content-type": "x/y"}, body)
    replies = split_batch(Reading([], list, format=shape), apart, whole, count)
    assert len(replies) == count
    for at, reply in enumerate(replies):
        mine = [said for number, said in results if number == at]
        if not mine or (len(mine) > 1 and not apart.of_lines):
            assert (reply.kind, reply.body) == (Kind.UNREADABLE, b"")
            continue
        opened = shape.open(reply.body, "x/y; charset=utf-8")
        if isinstance(shape, JsonFormat):
            assert opened == {"id": at, "said": mine[0]}
        elif isinstance(shape, XmlFormat):
            assert (opened.get("id"), opened.findtext("said")) == (str(at), mine[0])
        else:
            assert [list(line.cells) for line in opened] == [[said, str(at)] for said in mine]


@given(st.lists(st.text("abc", max_size=2), min_size=1, max_size=5), st.integers(1, 5))
def test_without_ids_only_as_many_results_as_questions_are_anybodys(results, count):
    shape = JsonFormat()
    whole = Reply(200, {}, json.dumps([{"said": said} for said in results]).encode())
    replies = split_batch(Reading([], list, format=shape), BatchSplit(shape.finder("$[*]")), whole, count)
    if len(results) == count:
        assert [json.loads(reply.body)["said"] for reply in replies] == results
    else:
        assert {reply.kind for reply in replies} == {Kind.UNREADABLE}
