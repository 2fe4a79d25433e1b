"""The command `try`: which address, which services, which reply; and how all that came of it is shown."""

import json
import re
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import typer
from rich.console import Console
from rich.table import Table
from rich.text import Text

from yellowtor.addresses.canonical import fold_blanks
from yellowtor.addresses.keys import subject_key
from yellowtor.answers.judging.offers import matched
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.cli.alignment_view import LEGEND, alignment_table, needs_legend
from yellowtor.cli.console import mark, note, stderr, stdout
from yellowtor.cli.inputs import position_of
from yellowtor.contracts.address import PARTS, Address
from yellowtor.contracts.position import WRITTEN_DECIMALS, distance_m
from yellowtor.contracts.subject import AskedPosition, Subject
from yellowtor.errors import BadJob, Exit
from yellowtor.reference.field_names import HOW
from yellowtor.run.jobs.job import Job
from yellowtor.run.try_address import Trial, read_trial, record_asked, save_reply, saved_reply, try_one
from yellowtor.services.description import Direction
from yellowtor.services.http import NONE
from yellowtor.settings import read_settings
from yellowtor.wiring.calibrations import calibrations_of
from yellowtor.wiring.ledgers import ledger_of, service_book
from yellowtor.wiring.services import AnyService, load_service, wishes_of
from yellowtor.wiring.tables import open_table

SHOWN = {"request": {"request"}, "reply": {"reply"}, "reading": {"reading"}, "all": {"request", "reply", "reading"}}
DECIMALS = 5  # of a degree in a question about a position; a job may say others
LINES = 60  # of a reply that are shown


@dataclass(frozen=True)
class Wish:
    """What is to be tried: an address (in one line, or by parts), a position, or a job's record; or a file."""

    text: str
    parts: Sequence[str]
    at: str | None
    services: Sequence[Path]
    job: Path | None
    record: str | None
    reply: Path | None
    save: Path | None
    show: str
    tolerance_m: float
    anew: bool
    ledger: Path | None


def try_command(wish: Wish) -> None:
    job, folder = (read_settings(wish.job, Job, "job"), wish.job.absolute().parent) if wish.job else (None, Path())
    paths = list(wish.services) or ([folder / path for path in job.ask.all()] if job else [])
    if not paths:
        raise BadJob("Name a service: --service FILE.toml, or --job JOB.toml. Nothing was sent.")
    if len(paths) > 1 and (wish.reply or wish.save):
        raise BadJob("--reply and --save speak of one reply: name one service. Nothing was sent.")
    asked = _asked(wish, job, folder)
    sends = wish.reply is None and wish.show != "request"
    services = []
    for path in paths:
        wishes = replace(wishes_of(job) if job else NONE, direction=_direction(asked, job, wish))
        service, remarks = load_service(path, wishes, unset_is_shown=not sends)
        services.append((path, service))
        for remark in remarks:
            note(stderr(), remark)
    if wish.reply is None and not sends:
        for _, service in services:
            _title(stdout(), "Request", f"{service.name}; not sent")
            stdout().print(_highlighted(service.shown(asked)))
            if service.unset:
                stdout().print(f"without a value: {', '.join(service.unset)}", style="yellow")
        return
    thresholds = job.judge.thresholds() if job else Thresholds(wish.tolerance_m, 0.9)
    known = calibrations_of(job, folder) if job else {}
    trials = [
        _tried(asked, path, service, replace(thresholds, calibration=known.get(service.name)), wish, job, folder)
        for path, service in services
    ]
    for trial in trials:
        show_trial(stdout(), trial, SHOWN[wish.show], named=len(trials) > 1)
    if len(trials) > 1:
        _compare(stdout(), trials)
    _exit([trial.read.kind for trial in trials])


def _tried(
    asked: Subject,
    path: Path,
    service: AnyService,
    thresholds: Thresholds,
    wish: Wish,
    job: Job | None,
    folder: Path,
) -> Trial:
    if wish.reply:
        return read_trial(asked, service, saved_reply(wish.reply), thresholds, kept=f"read from {wish.reply}")
    ledger = wish.ledger or (ledger_of(job, folder) if job else None)
    with ExitStack() as stack:
        book = stack.enter_context(service_book(service, path, ledger, "everything" if wish.anew else "nothing"))
        trial = try_one(asked, service, book, book.clock, thresholds, anew=wish.anew)
    if wish.save:
        save_reply(trial.reply, wish.save)
        note(stderr(), f"the reply is in {wish.save}; --reply {wish.save} reads it again without asking")
    return trial


def _direction(asked: Subject, job: Job | None, wish: Wish) -> Direction:
    """Reverse if a position is given; a saved reply is read in the direction of the job, if there is one."""
    if isinstance(asked, AskedPosition) or (wish.reply and job and job.in_reverse):
        return "reverse"
    return "forward"


def _asked(wish: Wish, job: Job | None, folder: Path) -> Subject:
    if wish.record is not None:
        if job is None:
            raise BadJob("--record needs --job JOB.toml. Nothing was sent.")
        table, _, _ = open_table(job, folder)
        return record_asked(job, table, wish.record)
    if wish.at is not None:
        if wish.text or wish.parts:
            raise BadJob("Use either --at or an address. Nothing was sent.")
        return AskedPosition.rounded(position_of(wish.at), job.ask.decimals if job else DECIMALS)
    parts: dict[str, str] = {}
    for part in wish.parts:
        name, equals, text = part.partition("=")
        if not equals or name not in PARTS or name == "whole":
            known = ", ".join(part for part in PARTS if part != "whole")
            raise BadJob(f"--part {part!r}: write NAME=TEXT, with a NAME of {known}. Nothing was sent.")
        parts[name] = fold_blanks(text)
    address = Address(whole=fold_blanks(wish.text), **parts)
    if not subject_key(address).strip("\x1f") and wish.reply is None:
        raise BadJob("The address is empty. Nothing was sent.")
    return address


def _exit(kinds: Sequence[Kind]) -> None:
    if any(kind in {Kind.KEY_REFUSED, Kind.NOT_PERMITTED} for kind in kinds):
        raise typer.Exit(int(Exit.KEY_REFUSED))
    failed = [kind for kind in kinds if not kind.is_answer]
    if failed:
        waits = all(kind in {Kind.WINDOW_SPENT, Kind.TOO_FAST} for kind in failed)
        raise typer.Exit(int(Exit.WAITING if waits else Exit.FAULT))


def show_trial(console: Console, trial: Trial, wanted: set[str], *, named: bool) -> None:
    """The request, the reply, what was read, the confidence: in this order."""
    if named:
        console.rule(Text(trial.service, "bold"), style="bright_black")
    if "request" in wanted:
        _title(console, "Request", f"not sent: {trial.kept}" if trial.kept else "")
        console.print(_highlighted(trial.shown))
        if trial.empty:
            console.print(f"empty in what is asked: {', '.join(trial.empty)}", style="yellow")
    if "reply" in wanted:
        status = str(trial.reply.status) if trial.reply.status else trial.reply.trouble
        _title(console, "Reply", f"{status} · {trial.read.kind}")
        console.print(_body(trial.reply.body), soft_wrap=False)
    if "reading" in wanted:
        _show_reading(console, trial)


def _show_reading(console: Console, trial: Trial) -> None:
    read = trial.read
    judgement = trial.judgement
    why = f"{read.kind}: {read.because}" if read.because else str(read.kind)
    _title(console, "Read", f"candidates: {len(read.candidates)} · {why}")
    if read.message:
        console.print(f"{'What came' if read.kind is Kind.UNREADABLE else 'The service says'}: {read.message}")
    for remark in read.remarks:
        console.print(f"note: {remark}")
    if read.kind in {Kind.ANSWERED, Kind.UNREADABLE} and any(looked.found is not None for looked in trial.looked):
        console.print(_looked(trial))
    if read.candidates:
        console.print()
        console.print(_candidates(trial))
    if not trial.judged:
        return
    if trial.aligned:
        _title(console, "Aligned", "the question above the chosen candidate")
        console.print(alignment_table(trial.aligned))
        if needs_legend(trial.aligned):
            console.print(LEGEND, style="bright_black")
    if trial.credit and read.candidates:
        console.print(f"credit: {trial.credit}", style="bright_black")
    sure = judgement.confidence
    _title(console, "Confidence", f"{sure.value:.2f} ({sure.basis})" if sure else "none")
    console.print(mark(judgement.outcome))
    for reason in judgement.reasons:
        console.print(f"  · {reason}")


def _looked(trial: Trial) -> Table:
    """Which path gave each field of the first candidate; what finds nothing stands out."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("field", "path", "in the first candidate"):
        table.add_column(name, overflow="fold")
    for looked in trial.looked:
        nothing = not looked.found
        found = Text("finds nothing", "yellow") if nothing else Text(looked.found or "")
        table.add_row(looked.name, Text(looked.path, "bright_black"), found)
    return table


def _candidates(trial: Trial) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    found_by = [candidate.extra.get(HOW, "") for candidate in trial.read.candidates]
    names = ["", "latitude", "longitude", "level", "method", "matched address", *([HOW] if any(found_by) else [])]
    for name in names:
        table.add_column(name, justify="right" if name in {"latitude", "longitude"} else "left", overflow="fold")
    for candidate, how in zip(trial.read.candidates, found_by, strict=True):
        chosen = "→" if candidate is trial.judgement.candidate else ""
        lat, lon = (f"{side:.{WRITTEN_DECIMALS}f}" for side in candidate.position)
        words = str(candidate.level or "?"), str(candidate.method or "")
        table.add_row(chosen, lat, lon, *words, matched(candidate), *([how] if any(found_by) else []))
    return table


def _compare(console: Console, trials: Sequence[Trial]) -> None:
    """What the services say, one beside the other; how far from the first one's point."""
    console.rule(Text("side by side", "bold"), style="bright_black")
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("service", "reply", "latitude", "longitude", "apart", "level", "sure", ""):
        table.add_column(name, overflow="fold")
    first = next((t.judgement.candidate.position for t in trials if t.judgement.candidate), None)
    for trial in trials:
        best = trial.judgement.candidate
        sure = trial.judgement.confidence
        cells: list[Any] = ["", "", "", "", ""]
        if best and first:
            lat, lon = (f"{side:.{WRITTEN_DECIMALS}f}" for side in best.position)
            apart = f"{distance_m(first, best.position):,.0f} m"
            cells = [lat, lon, apart, str(best.level or "?"), f"{sure.value:.2f}" if sure else ""]
        table.add_row(trial.service, str(trial.read.kind), *cells, mark(trial.judgement.outcome))
    console.print(table)


def _title(console: Console, title: str, aside: str) -> None:
    console.print()
    console.print(Text(title, "bold").append(f"  {aside}" if aside else "", "bright_black"))


def _highlighted(request: str) -> Text:
    """A request with the names of variables without a value highlighted."""
    text = Text(request)
    text.highlight_regex(r"(?:<|%3C)[A-Z_][A-Z0-9_]*(?:>|%3E)", "bold yellow")
    return text


def _body(body: bytes) -> Any:
    from rich.syntax import Syntax

    try:
        indented = json.dumps(json.loads(body), indent=2, ensure_ascii=False).encode(errors="replace").decode()
        text = _folded(indented)
        kind = "json"
    except ValueError:
        text = body[:8000].decode(errors="replace")
        kind = "xml" if body.lstrip().startswith(b"<") else "text"
        if kind == "xml":
            text = re.sub(r">(?=<(?!/))", ">\n", text)
    lines = text.splitlines()
    if len(lines) > LINES:
        lines = [*lines[:LINES], f"… and {len(lines) - LINES} lines more"]
    if kind == "text":
        return Text("\n".join(lines), overflow="fold")
    return Syntax("\n".join(lines), kind, theme="ansi_dark", background_color="default", word_wrap=True)


def _folded(text: str) -> str:
    """Indented JSON with its innermost lists and objects on a line each, where they fit."""

    def fold(found: re.Match[str]) -> str:
        line = re.sub(r"\n\s*", " ", found[0])
        return line if len(line) <= 110 else found[0]

    return re.sub(r"[\[{]\n[^\[\]{}]*[\]}]", fold, text)
