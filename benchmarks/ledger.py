"""The ledger: lookups among 1,000,000 replies, reserving and settling in groups, and opening it.

python benchmarks/ledger.py      takes about two minutes

Lookups are against plain sqlite3 on the same file and table; reserving and settling has a figure of its own, at
synchronous FULL, beside that of plain sqlite3 committing as many rows in groups as large.
"""

import random
import sqlite3
import time
import zlib
from pathlib import Path

from common import folder

from yellowtor.allowance.pace import Pace
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.ledger.accounts.orders import Reserve, SettleReply
from yellowtor.ledger.accounts.service_account import AccountTerms
from yellowtor.ledger.jobs.run_book import open_book
from yellowtor.run.clock import SystemClock

REPLIES, BATCH, BATCHES, GROUP, GROUPS = 1_000_000, 1_000, 200, 32, 400
TERMS = AccountTerms("service", "asking", "account", Pace(None))
BODY = b'{"results": [' + b'{"name": "1 Kelp Lane", "lat": 47.5, "lon": -28.5}, ' * 5 + b"{}]}"


def key(number):
    return f"{number:032x}"


def fill(path):
    with open_book(path, "job.toml", SystemClock(), [TERMS]) as book:
        book.requests["service"].left()
    with sqlite3.connect(path) as plain:
        packed = zlib.compress(BODY)
        plain.execute("INSERT INTO job VALUES (99, 'filled', '', '')")
        plain.execute("INSERT INTO run (id, job_id, started_at, ended_at) VALUES (99, 99, '2026', '2026')")
        rows = ((n, 99, key(n), "account", 1, 1, "answered", "answered", "2026", "2026") for n in range(1, REPLIES + 1))
        columns = "id, run_id, question_key, account, attempt, units, state, kind, reserved_at, settled_at"
        plain.executemany(f"INSERT INTO request ({columns}) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", rows)
        kept = ((n, key(n), "service", n, 99, "answered", 200, "", packed, "2026") for n in range(1, REPLIES + 1))
        columns = "id, question_key, service, request_id, run_id, kind, status, message, body, received_at"
        plain.executemany(f"INSERT INTO reply ({columns}) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", kept)


def lookups(path):
    chance = random.Random(1)
    batches = [[key(chance.randint(1, 2 * REPLIES)) for _ in range(BATCH)] for _ in range(BATCHES)]
    with open_book(path, "job.toml", SystemClock(), [TERMS]) as book:
        requests = book.requests["service"]
        orders = [[Reserve([key], 1) for key in batch] for batch in batches]
        plain, look_up = sqlite3.connect(path), requests._known  # noqa: SLF001 - what a reservation looks up
        text = f"SELECT question_key FROM reply WHERE question_key IN ({', '.join('?' * BATCH)})"
        took = {"plain": [], "ours": []}
        for batch, order in zip(batches, orders, strict=True):
            for who in ("ours", "plain"):
                before = time.perf_counter()
                found = look_up(order) if who == "ours" else set(plain.execute(text, batch).fetchall())
                took[who].append(time.perf_counter() - before)
                assert len(found) > BATCH / 3
        plain.close()
    ours, theirs = (sorted(took[who])[BATCHES // 2] for who in ("ours", "plain"))
    print(f"lookups in batches of {BATCH} among {REPLIES:,}: {ours / theirs:.2f} of plain sqlite3 (at most 2)")


def reserving(name):
    path, plain = Path(name) / "fresh.sqlite", sqlite3.connect(Path(name) / "plain.sqlite", isolation_level=None)
    with open_book(path, "job.toml", SystemClock(), [TERMS]) as book:
        requests, settled, reply = book.requests["service"], [], Reply(200, {}, BODY)
        before = time.perf_counter()
        for group in range(GROUPS):
            keys = [key(group * GROUP + at) for at in range(GROUP)]
            with requests.transaction():
                made = requests.carry_out([*settled, *(Reserve([one], 1) for one in keys)])[-GROUP:]
            settled = [
                SettleReply(r[0].request_id, one, reply, Read(Kind.ANSWERED)) for r, one in zip(made, keys, strict=True)
            ]
        ours = time.perf_counter() - before
    for pragma in ("journal_mode=WAL", "synchronous=FULL"):
        plain.execute(f"PRAGMA {pragma}")
    plain.execute("CREATE TABLE request (id INTEGER PRIMARY KEY, question_key TEXT, state TEXT)")
    plain.execute("CREATE TABLE reply (question_key TEXT PRIMARY KEY, body BLOB)")
    before = time.perf_counter()
    for group in range(GROUPS):
        plain.execute("BEGIN IMMEDIATE")
        keys = [key(group * GROUP + at) for at in range(GROUP)]
        plain.executemany("INSERT INTO request (question_key, state) VALUES (?, 'reserved')", [(one,) for one in keys])
        plain.executemany("INSERT INTO reply VALUES (?, ?)", [(one, zlib.compress(BODY, 1)) for one in keys])
        plain.execute("COMMIT")
    theirs = time.perf_counter() - before
    rate = GROUP * GROUPS / ours
    print(f"reserve and settle in groups of {GROUP} at synchronous FULL: {rate:,.0f} a second (10,000)")
    print(f"      that is {ours / theirs:.2f} of plain sqlite3, which does half as much")


def opening(path):
    took = []
    for _ in range(7):
        before = time.perf_counter()
        with open_book(path, "job.toml", SystemClock(), [TERMS]):
            took.append(time.perf_counter() - before)
    size, ms = path.stat().st_size / 2**20, sorted(took)[3] * 1000
    print(f"opening a ledger of {REPLIES:,} replies ({size:,.0f} MiB): {ms:.0f} ms (under 100)")


with folder() as name:
    ledger = Path(name) / "ledger.sqlite"
    fill(ledger)
    opening(ledger)
    lookups(ledger)
    reserving(name)
