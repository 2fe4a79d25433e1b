"""Makes docs/architecture.md: the packages drawn from their imports, the ledger's tables drawn from their schema."""

import ast
from collections import Counter
from pathlib import Path

from yellowtor.ledger.storage.schema import KEPT_TABLES

SRC = Path(__file__).parent.parent / "src" / "yellowtor"
ABOVE = ("wiring", "checking", "opening", "jobfiles", "api")  # single modules above the packages
TEXT = """\
# The architecture

Yellowtor scans records, asks services about what is not known yet, judges the replies and writes the answers back. A
ledger (SQLite, or PostgreSQL to share) is between these phases: every request, reply, candidate and judgement is in it,
so that a run can stop anywhere and the next one continues.

## Packages

Each arrow is an import; `import-linter` checks that all of them run downwards. The four packages at the edge never
import each other. `run` knows them by Protocols ([ports.py](../src/yellowtor/run/ports.py)); `wiring.py` puts the real
parts in, for the command line and for the Python API.

```mermaid
{packages}
```

| package | what is in it |
|---|---|
{contents}

## The life of a record

1. **Command.** `cli/main.py` parses the options, `cli/commands.py: run_command` calls the verb and picks the exit code.
2. **Wiring.** `wiring.py: job_parts` reads the job and the descriptions, opens table, services and ledger.
3. **Verb.** `run/run_job.py: conduct` goes through the phases: scan, plan, ask, judge, write back.
4. **Scan.** `run/phases/scan.py: scan` reads the source in batches (`Table.batches`).
5. **Address.** `addresses/composing.py: AddressComposer.compose` composes the cells; in reverse
   `answers/position_composer.py` makes the position that is asked about.
6. **Work.** `ledger/jobs/scanning.py: ScanBook.note` and `put_work` store what is new or changed, and which question
   each record has.
7. **Plan.** `run/plan.py: make_plan` counts the open questions and forecasts requests, time and cost.
8. **Reservation.** `run/asking/ask.py: Asker` takes a question; `ledger/accounts/requests.py: RequestBook.carry_out`
   reserves the request, with its place in the pace and its units of each window.
9. **Request.** `services/making.py: RequestMaker` makes it, `services/transport.py: Transport.send` sends it once,
   `services/masking.py: Masker` masks the reply, `services/follow_ups.py` says what follows (a token, a page, a poll).
10. **Reading.** `answers/replies/reading.py: read_reply` finds the kind of the reply and its candidates;
    `allowance/retry.py: decide` says whether to keep, repeat, leave open or stop.
11. **Judgement.** `run/phases/judging.py: Judging.judge_open` calls `answers/judging/judgement.py: judge`, which weighs the
    candidates: one outcome, a confidence, its reasons.
12. **Answer.** `run/phases/writeback.py: WriteBack.write` opens the source again, looks whether each address is as it was, and
    writes columns (`run/jobs/answer_columns.py`) and markers (`markers/`).

## The ledger

```mermaid
{ledger}
```

A **request** is reserved before it leaves; its **reply** is kept whole; **candidates** are read from a reply by rules
with a key; an **answer** is the judgement of an address by one job. A change of rules redoes only what depends on them.

## Where do I change what

| change | files |
|---|---|
| a reply format | `answers/replies/reply_formats.py` (a `Shape`), `services/replies.py` (its name) |
| a kind of reply | `answers/replies/kinds.py`, and `allowance/retry.py` where it is not simply kept |
| a source or target format | a module in `tables/` (the `Table` Protocol), `wiring.py` |
| a marker format | a module in `markers/`, `wiring.py` |
| a column of answers | `run/jobs/answer_columns.py`, `run/jobs/write_settings.py` |
| a limit of an account | `allowance/windows.py`, `ledger/accounts/`, `services/description.py` |
| what a confidence is made of | `answers/judging/evidence.py` and `confidence.py`; raise its `VERSION` |
| a table of the ledger | `ledger/storage/schema.py` and a migration in `ledger/storage/migrations/versions/` |
| a command | `cli/main.py` (options), `cli/` (its body), `run/` (the verb), `docs/commands.md` |
"""


def package_of(path: Path) -> str:
    """The package of a module: its folder below yellowtor, or the module itself above the packages."""
    parts = path.relative_to(SRC).parts
    return parts[0].removesuffix(".py")


def imports() -> Counter[tuple[str, str]]:
    """How many modules of one package import another."""
    found: Counter[tuple[str, str]] = Counter()
    for path in sorted(SRC.rglob("*.py")):
        here = package_of(path)
        there = set()
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            name = node.module if isinstance(node, ast.ImportFrom) else ""
            if name and name.startswith("yellowtor."):
                there.add(name.split(".")[1])
        found.update((here, other) for other in there if other != here)
    return found


def packages() -> str:
    """The packages and their imports, as a Mermaid flowchart."""
    folders = {path.name for path in SRC.iterdir() if (path / "__init__.py").exists()}
    shown = folders | set(ABOVE)
    edges = sorted((one, other) for one, other in imports() if one in shown and other in folders)
    return "\n".join(["flowchart TD", *(f"    {one} --> {other}" for one, other in edges)])


def contents() -> str:
    """Each package's own line about itself."""
    lines = []
    for path in sorted(SRC.rglob("__init__.py")):
        name = ".".join(path.parent.relative_to(SRC).parts)
        doc = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8")))
        if name and doc and "versions" not in name:
            lines.append(f"| `{name}` | {doc.splitlines()[0]} |")
    return "\n".join(lines)


def ledger() -> str:
    """The ledger's tables, as a Mermaid entity relationship diagram."""
    lines = ["erDiagram"]
    for table in KEPT_TABLES:
        lines.append(f"    {table.name} {{")
        for column in table.columns:
            key = " PK" if column.primary_key else " FK" if column.foreign_keys else ""
            lines.append(f"        {str(column.type).lower().split('(')[0]} {column.name}{key}")
        lines.append("    }")
    lines += [
        f"    {key.column.table.name} ||--o{{ {table.name} : {column.name}"
        for table in KEPT_TABLES
        for column in table.columns
        for key in column.foreign_keys
    ]
    return "\n".join(lines)


def architecture() -> str:
    """The whole page."""
    made = TEXT.replace("{packages}", packages()).replace("{contents}", contents()).replace("{ledger}", ledger())
    return f"<!-- Made by tools/architecture.py from the code: change it there. -->\n\n{made}"
