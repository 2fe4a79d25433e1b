"""The surface: help, docs, settings' messages, exit codes; and the page as a browser shows it."""

import ast
import doctest
import importlib
import json
import os
import re
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest
from conftest import KEY, PROGRAM, real_addresses

from yellowtor.cli.main import app
from yellowtor.errors import Exit, YellowtorError

ROOT = Path(__file__).parent.parent
COMMANDS = [command.name or command.callback.__name__ for command in app.registered_commands]
COMMANDS += [
    f"{group.name} {command.name or command.callback.__name__}"
    for group in app.registered_groups
    for command in group.typer_instance.registered_commands
]

# Phrases that have to be read twice, and what to write instead.
MANNERISMS = {
    r"shall": "a question such as Continue?, or will, must",
    r"(is|are|was|were) told": "is reported, is named; or say who reports what",
    r"(go|goes|went) by": "uses, depends on",
    r"(come|comes|came) to": "is, costs, reaches",
    r"so many": "the number",
    r"nobody'?s": "no, nobody else",
    r"let(s|ting)? go of": "releases",
    r"be it": "whether",
    r"(in|into) its place": "written, stored",
    r"in hand": "open, running",
    r"(take|takes|took|taken) up": "starts, reads",
    r"come home": "arrive",
    r"asked so": "asked in this way",
    r"passed over": "skipped",
    r"stands? (in|at|there|twice|for)": "is, occurs, means",
    r"of no use": "useless",
    r"(is|are) no (?!longer|more|such)\w+": "is not a",
    r"none but": "only",
    r"all the same": "anyway",
    r"for good": "permanently",
    r"heed\w*": "respect",
    r"whoever": "anyone who, a person who",
    r"what is there": "name it",
    r"(?<!for )its kind, be": "whether",
}


def test_every_command_has_help_and_a_place_in_the_docs():
    readme, docs = ((ROOT / name).read_text() for name in ("README.md", "docs/commands.md"))
    assert "geocoding" in readme[:200]
    assert all(name.name in readme for name in (ROOT / "docs" / "screenshots").iterdir())
    assert {"run", "cache find", "stand-in"} < set(COMMANDS)
    texts = {path.name: path.read_text() for path in [*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")]}
    for command in COMMANDS:
        command_line = [*PROGRAM, *command.split(), "--help"]
        shown = texts[command] = subprocess.run(command_line, capture_output=True, text=True, check=True).stdout
        assert shown.startswith(f"Usage: yellowtor {command} [OPTIONS]")
        assert re.search(r"^  [A-Z][a-z ]+.*[.,;:]", shown, re.MULTILINE), "a sentence that says what it does"
        assert re.search(rf"(yellowtor |`){command}\b", readme + docs)
        for option in re.findall(r"(--[a-z-]+)", shown):
            assert option == "--help" or re.search(rf"(?<![\w-]){option}(?![\w-])", readme + docs), option
    assert "yellowtor 0." in subprocess.run([*PROGRAM, "--version"], capture_output=True, text=True, check=True).stdout
    mannered = {phrase: re.compile(rf"(?<![\w-]){phrase}(?![\w-])", re.IGNORECASE) for phrase in MANNERISMS}
    found = [
        f"{name}: {hit[0]!r}: write {MANNERISMS[phrase]}"
        for name, text in texts.items()
        for phrase, pattern in mannered.items()
        for hit in pattern.finditer(re.sub(r"\s+", " ", text))
    ]
    assert not found, "\n".join(found)


@pytest.mark.parametrize(
    ("typed", "offered"),
    [
        (["ca"], {"cache"}),
        (["run", "j"], {"job.toml"}),
        (["try", "--service", "s"], {"stand-in.toml", "stand-in-text.toml"}),
        (["try", "--part", "str"], {"street="}),
        (["plan", "--what"], {"--what-if"}),
    ],
)
@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_shells_complete_commands_options_jobs_and_descriptions(tmp_path, shell, typed, offered):
    for name, text in (
        ("job.toml", "[records]"), ("stand-in.toml", "[service]"), ("stand-in-text.toml", "[service]"), ("s.toml", "["),
    ):  # fmt: skip
        (tmp_path / name).write_text(text)
    line = " ".join(["yellowtor", *typed])
    asked = {"COMP_WORDS": line, "COMP_CWORD": str(len(typed)), "_TYPER_COMPLETE_ARGS": line}
    asked |= {"_YELLOWTOR_COMPLETE": f"complete_{shell}", "_TYPER_COMPLETE_FISH_ACTION": "get-args"}
    environment = os.environ | asked
    shown = subprocess.run(PROGRAM, cwd=tmp_path, env=environment, capture_output=True, text=True, check=False)
    names = {"cache", "check", "job.toml", "stand-in.toml", "stand-in-text.toml", "s.toml", "street=", "town=", "--png"}
    assert (names | offered) & set(re.findall(r"[\w./=-]+", shown.stdout)) == offered


def test_files_and_bodies_are_short_and_a_class_name_stands_once():
    names = Counter[str]()
    for path in sorted((ROOT / "src").rglob("*.py")):
        text = path.read_text()
        assert text.count("\n") <= 350, path
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, ast.ClassDef):
                names[node.name] += 1
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                first = node.body[1 if ast.get_docstring(node) and len(node.body) > 1 else 0]
                assert node.end_lineno - first.lineno < 45, f"{path}: {node.name}"
    assert max(names.values()) == 1, names.most_common(3)


def test_help_loads_nothing_heavy():
    code = (
        "import sys, yellowtor.cli.main; print([m for m in ('pydantic', 'sqlalchemy', 'aiohttp') if m in sys.modules])"
    )
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout == "[]\n"


def test_the_docs_are_those_that_the_code_makes(tmp_path):
    subprocess.run([sys.executable, str(ROOT / "tools" / "make_docs.py"), str(tmp_path)], check=True)
    for made in tmp_path.iterdir():
        assert made.read_text() == (ROOT / "docs" / made.name).read_text(), f"docs/{made.name} is stale: make docs"


def test_every_error_has_an_exit_code_that_is_documented():
    documented = (ROOT / "docs" / "outcomes.md").read_text()
    kinds = [YellowtorError, *YellowtorError.__subclasses__()]
    assert len(kinds) > 5
    assert all(f"| {int(kind.exit_code)} | {kind.exit_code.meaning} |" in documented for kind in kinds)
    assert all(f"| {int(code)} | " in documented for code in Exit)


@pytest.mark.parametrize(
    ("file", "old", "new", "told"),
    [
        ("job.toml", 'key = "Id"', 'kee = "Id"', "job.toml, line 7: records.kee is not a key that is known here (known: file,"),
        ("job.toml", 'key = "Id"\n', "", "records: key is missing"),
        ("job.toml", "tolerance_m = 50", "tolerance_m = -5", "judge.tolerance_m = -5: input should be greater than 0"),
        ("job.toml", "tolerance_m = 50", 'tolerance_m = "wide"', "judge.tolerance_m = 'wide'"),
        ("job.toml", "area = [-29.6,", "area = [", "area takes four numbers"),
        ("job.toml", 'latitude = "Latitude"\n', "", "latitude and longitude belong together"),
        ("job.toml", 'level = "Level"', 'level = "Town"', "would overwrite 'Town'"),
        ("job.toml", 'to = "cabinets-placed.xlsx"', "", "needs one of to"),
        ("job.toml", "[judge]", "[judge", "is not valid TOML"),
        ("job.toml", "[judge]", f"{'judge.' * 3_000}area = 1", "is nested too deep"),
        ("job.toml", 'service = "stand-in.toml"', 'service = "other.toml"', "There is no service description at"),
        ("job.toml", '"coast.geojson"', '"stand-in.toml"', "can't be read"),
        ("job.toml", 'town = "Town"', 'town = "City"', "no column 'City', which the job names (it has: Id, Cabinet,"),
        ("job.toml", 'sheet = "Cabinets"', 'sheet = "Cabins"', "no sheet 'Cabins' (there are: Cabinets, Summary, Lists)"),
        ("stand-in.toml", "{?q,limit,key}", "{?q,limit,kye}", "{kye} is not a variable"),
        ("stand-in.toml", "{?q,limit,key}", "{?limit,key}", "no variable for the address"),
        ("stand-in.toml", '"$.places[*]"', '"places[*"', "is not a JSONPath of RFC 9535"),
        ("stand-in.toml", "per_second = 40", "per_second = 0", "allowance.per_second = 0"),
        ("stand-in.toml", 'zone = "UTC"', 'zone = "Mars/Base"', "is not an IANA time zone"),
        (
            "stand-in.toml",
            'zone = "UTC"\n',
            'zone = "UTC"\n[[allowance.prices]]\ncurrency = "EUX"\ntiers = [{ per_thousand = 1 }]\n',
            "'EUX' is not the code of a currency (ISO 4217)",
        ),
        ("stand-in.toml", 'kind = "key refused"', 'kind = "no"', "reply.rules.1.kind = 'no'"),
        ("stand-in.toml", 'equals = "nothing"\n', "", "the 2. can never hold"),
    ],
)  # fmt: skip
def test_a_mistake_in_a_file_is_told_with_its_place_and_rule_and_nothing_is_sent(example, file, old, new, told):
    job = example(paced=True)
    job.edit(file, (old, new))
    result = job.run("run", "job.toml", code=None)
    assert told in result.stderr
    assert "Nothing was sent" in result.stderr or "draws under" in result.stderr
    assert job.service.requests == 0
    assert not job.path("cabinets-placed.xlsx").exists()
    assert job.run("run", "job.toml", code=None).stdout == "", "standard output is for data"


BROKEN = """
import sys
from yellowtor.cli.main import main
from yellowtor.tables.text import delimited
def broken(*_):
    raise RuntimeError("a fault that nobody foresaw \\x1b[31m")
delimited.DelimitedTable.batches = broken
main()
"""


def test_an_unexpected_fault_is_one_line_with_code_1_and_its_place_is_shown_on_request(small):
    job, program = small(real_addresses(1)), [sys.executable, "-c", BROKEN]
    process = job.start("run", "job.toml", program=program)
    told = process.communicate()[1]
    assert process.returncode == 1
    assert "an unexpected fault: RuntimeError: a fault that nobody foresaw \ufffd[31m. --debug shows where" in told
    assert "Traceback" not in told
    process = job.start("--debug", "run", "job.toml", program=program)
    assert "Traceback" in process.communicate()[1]
    assert process.returncode == 1


def test_a_ledger_that_is_damaged_says_what_to_do(small):
    job = small(real_addresses(1))
    job.path("ledger.sqlite").mkdir()
    assert "can't be opened" in job.run("run", "job.toml", code=8).stderr
    job.path("ledger.sqlite").rmdir()
    job.path("ledger.sqlite").write_bytes(b"no database at all" * 500)
    assert "is damaged" in (told := job.run("run", "job.toml", code=8).stderr)
    assert ".recover" in told
    process = job.start("--debug", "run", "job.toml")
    assert "Traceback" in process.communicate()[1]
    assert process.returncode == 8, "with --debug as without"


def test_what_would_control_a_terminal_does_not(small):
    job = small([["\x1b[2JX", "\x1b]0;owned\x071 Zwark Prospect", "Xyphoria"]])
    told = [
        job.run("preview", "job.toml"),
        job.run("run", "job.toml"),
        job.run("cache", "show", "1", "--job", "job.toml"),
    ]
    assert "\u241b[2JX" in told[0].stdout, "it is shown as a picture of itself"
    assert all("\x1b" not in one.stdout + one.stderr for one in told)


def test_a_log_has_a_line_for_each_request_and_decision_and_no_key(small):
    job = small(real_addresses(4), faults={"busy": 3})
    job.run("run", "job.toml", "--log", "log.jsonl")
    lines = [json.loads(line) for line in job.path("log.jsonl").read_text().splitlines()]
    asked = [line for line in lines if line["event"] == "request"]
    assert len(asked) == job.service.requests
    assert [line["decision"] for line in asked].count("ask again") == len(asked) - 4
    assert {line["kind"] for line in asked} == {"answered", "unavailable"}
    assert all(line["took_ms"] >= 0 and line["address"] for line in asked)
    assert (lines[0]["event"], lines[-1]["event"]) == ("begin", "end")
    job.run("run", "job.toml", "--log", "run.log")
    assert re.search(r"^\S+Z? end seconds=", job.path("run.log").read_text(), re.MULTILINE)
    assert KEY not in job.path("log.jsonl").read_text()
    assert "can't be written" in job.run("run", "job.toml", "--log", "no/such/folder", code=3).stderr
    assert "is not a log" in job.run("run", "job.toml", "--log", "records.csv", code=3).stderr
    job.run("run", "job.toml", "--log", "run.log")
    job.run("run", "job.toml", "--log", "/dev/full")


def test_the_examples_in_docstrings_hold():
    source = ROOT / "src"
    found = [path for path in source.rglob("*.py") if ">>> " in path.read_text(encoding="utf-8")]
    names = [".".join(path.relative_to(source).with_suffix("").parts) for path in found]
    results = {name: doctest.testmod(importlib.import_module(name)) for name in names}
    assert len(results) >= 5
    assert {name: result for name, result in results.items() if result.failed} == {}
