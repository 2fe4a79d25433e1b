"""Judging kept replies by new rules, all of them at once: the time a question takes, against a fourth of the questions.

python benchmarks/judging.py [QUESTIONS]      default 1000000; takes about ten minutes
"""

import json
import sqlite3
import sys
import time
import tomllib
import zlib
from itertools import islice
from pathlib import Path

from common import DATA, folder

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.judging.service_choice import AskNext
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.ledger_rows import Work, WorkState
from yellowtor.contracts.address import Address
from yellowtor.ledger.accounts.service_account import AccountTerms
from yellowtor.ledger.jobs.run_book import open_book
from yellowtor.run.clock import SystemClock
from yellowtor.run.phases.judging import Judging, JudgingRules
from yellowtor.services.description import Description
from yellowtor.services.http import HttpService
from yellowtor.services.variables import Values
from yellowtor.settings import check_settings

BATCH = 5_000
PLACE = {
    "precision": "door", "spot": {"north": 47.5, "east": -28.5},
    "bits": {"way": "Kelp Lane", "settlement": "Torvik", "post": "00412", "nation_code": "XT"},
}  # fmt: skip


def service():
    data = tomllib.loads((DATA / "stand-in.toml").read_text())
    description = check_settings(data, Description, "service description")
    return HttpService(description, Values({"base": "http://service.invalid", "key": "no-key-is-needed"}))


def fill(path, made, terms, count):
    with open_book(path, "job.toml", SystemClock(), [terms]) as book:
        for first in range(0, count, BATCH):
            rows = []
            for n in range(first, min(count, first + BATCH)):
                asked = Address(street=f"{n} Kelp Lane", town="Torvik", postcode="00412", country="XT")
                question = {made.name: made.asking.question_key(subject_key(asked))}
                rows.append(Work(n + 1, str(n), "", None, "", WorkState.ASK, (), asked, subject_key(asked), question))
            book.scanning.put_work(rows)
    with sqlite3.connect(path) as plain:
        plain.execute("INSERT INTO run (id, job_id, started_at, ended_at) VALUES (99, 1, '2026', '2026')")
        plain.execute(
            "INSERT INTO request (id, run_id, question_key, account, attempt, units, state, kind, reserved_at)"
            "VALUES (1, 99, '', 'a', 1, 1, 'answered', '', '2026')"
        )
        questions = plain.execute("SELECT id, key FROM question").fetchall()
        places = (PLACE | {"words": f"{n} Kelp Lane"} for n in range(count))
        bodies = (json.dumps({"verdict": "found", "places": [place]}).encode() for place in places)
        kept = (
            (key, "stand-in", 1, 99, "answered", 200, "", zlib.compress(b), "2026")
            for (_, key), b in zip(questions, bodies, strict=True)
        )
        columns = "question_key, service, request_id, run_id, kind, status, message, body, received_at"
        plain.executemany(f"INSERT INTO reply ({columns}) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", kept)


def measure(count):
    made = service()
    terms = AccountTerms(made.name, made.asking.key, made.account, made.pace)
    with folder() as name:
        path = Path(name) / "ledger.sqlite"
        fill(path, made, terms, count)
        with open_book(path, "job.toml", SystemClock(), [terms]) as book:
            done = []
            judging = Judging(
                [made], JudgingRules(Thresholds(50, 0.8), AskNext(0.8), frozenset({"country"})), advanced=done.append
            )
            before = time.perf_counter()
            judging.judge_open(book.judging)
            took = time.perf_counter() - before
            assert sum(done) == count
            again = Judging([made], JudgingRules(Thresholds(60, 0.8), AskNext(0.8), frozenset({"country"})))
            before = time.perf_counter()
            again.judge_open(book.judging)
            anew = time.perf_counter() - before
    print(f"{count:>9,} questions: {took:6.1f} s to read and judge, {anew:6.1f} s to judge by another tolerance")
    return took / count, anew / count


most = int(next(islice(sys.argv, 1, None), "1000000"))
few, many = measure(most // 4), measure(most)
for what, one, other in zip(("reading and judging", "judging anew"), few, many, strict=True):
    print(f"{what}: a question of {most:,} takes {other / one:.2f} of one of {most // 4:,} (wanted: 1.3)")
