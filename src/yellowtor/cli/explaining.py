"""The command `explain`: one record's whole story, for people and as JSON."""

import json
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from yellowtor.answers.judging.causes import CAUSES, COARSE, OF_FEATURE, UNCONFIRMED
from yellowtor.answers.judging.explaining import Explanation, Weighed
from yellowtor.answers.judging.offers import matched
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.cli.alignment_view import LEGEND, alignment_table, needs_legend
from yellowtor.cli.console import mark, stdout, write_out
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import WRITTEN_DECIMALS, length
from yellowtor.run.explain import FromService, Story, explain_record
from yellowtor.run.jobs.job import Job
from yellowtor.settings import read_settings
from yellowtor.wiring.calibrations import calibrations_of
from yellowtor.wiring.ledgers import job_records
from yellowtor.wiring.services import load_services
from yellowtor.wiring.tables import open_table


def explain_command(path: Path, key: str, *, as_json: bool) -> None:
    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    table, _, _ = open_table(job, folder)
    services, _ = load_services(job, folder, unset_is_shown=True)
    with job_records(job, path) as book:
        story = explain_record(job, table, services, book, key, calibrations_of(job, folder))
    if as_json:
        write_out(json.dumps(story_json(story), ensure_ascii=False, indent=2))
    else:
        show_story(stdout(), story, job.judge.thresholds())


def show_story(console: Console, story: Story, thresholds: Thresholds) -> None:
    """Columns, question, then each service's requests, candidates and evidence; at the end the outcome."""
    console.print(Text(story.key, "bold").append(f"  {story.name}" if story.name else "", "default"))
    console.print(_pairs([(name, cell.replace("\n", "⏎")) for name, cell in story.cells.items()]))
    _title(console, "Question", "" if not story.why_not else f"none: {story.why_not}")
    console.print(f"  {story.subject.line()}")
    if story.correction:
        console.print(Text(f"  {story.correction.said}; the source has: {story.correction.asked.line()}", "yellow"))
    for found in story.services:
        _title(console, found.service, _requests(found))
        _show_service(console, found)
        if found.explanation and story.answer and story.answer.outcome is Outcome.DOUBTFUL:
            for line in changes(found.explanation, thresholds):
                console.print(f"→ {line}", soft_wrap=True)
    _title(console, "Outcome", "")
    answer = story.answer
    if answer is None or answer.outcome is None:
        console.print("  No run has read this record yet.")
        return
    said = mark(answer.outcome)
    if answer.confidence is not None:
        said.append(f"  confidence {answer.confidence:.2f} ({answer.basis}); placed from {thresholds.place_at:g}", "")
    if answer.lat is not None and answer.lon is not None:
        said.append(f"  {answer.lat:.{WRITTEN_DECIMALS}f}, {answer.lon:.{WRITTEN_DECIMALS}f}", "")
    console.print(Text("  ").append_text(said))
    for reason in answer.reasons:
        console.print(f"  · {reason}")


def _requests(found: FromService) -> str:
    if not found.requests and found.read is None:
        return "not asked"
    first = f"{len(found.requests)} request" + ("s" if len(found.requests) != 1 else "")
    if found.read is None:
        last = found.requests[-1]
        return f"{first}; the last one: {last.kind or last.state}, {_instant(last.reserved_at)}"
    return f"{first}; reply of {_instant(found.received_at)}: {found.read.kind}"


def _instant(text: str) -> str:
    return f"{text[:19].replace('T', ' ')} UTC"


def _show_service(console: Console, found: FromService) -> None:
    if found.read and found.read.message:
        console.print(f"  The service says: {found.read.message}")
    if found.explanation is None:
        return
    explanation = found.explanation
    console.print(_candidates(explanation))
    console.print()
    console.print(alignment_table(explanation.aligned))
    if needs_legend(explanation.aligned):
        console.print(f"  {LEGEND}", style="bright_black")
    console.print()
    console.print(_evidence(explanation))


def _candidates(explanation: Explanation) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("", "latitude", "longitude", "level", "alone", "matched address"):
        table.add_column(name, overflow="fold")
    for offered in explanation.offered:
        candidate = offered.candidate
        chosen = "→" if candidate is explanation.judgement.candidate else ""
        lat, lon = (f"{side:.{WRITTEN_DECIMALS}f}" for side in candidate.position)
        table.add_row(
            chosen, lat, lon, str(candidate.level or "?"), f"{offered.confidence:.2f}", Text(matched(candidate))
        )
    return table


def _evidence(explanation: Explanation) -> Table:
    """What lowers the confidence, heaviest first, with the confidence that the record would have without it."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("evidence", "log-odds", "without it"):
        table.add_column(name, overflow="fold", justify="left" if name == "evidence" else "right")
    for one in explanation.evidence:
        table.add_row(Text(said_of(one)), f"{one.log_odds:.2f}", f"{one.without:.2f}")
    for reason in explanation.agreeing:
        table.add_row(Text(reason, "bright_black"), "0", "")
    return table


def said_of(one: Weighed) -> str:
    """A cause with its reasons."""
    return "; ".join(one.reasons) or CAUSES[one.cause].what


def changes(explanation: Explanation, thresholds: Thresholds) -> list[str]:
    """What would make a doubtful record placed, each in a sentence."""
    causes = {one.cause for one in explanation.evidence}
    of_coarse = {OF_FEATURE[name] for name in UNCONFIRMED}
    mine = [one for one in explanation.evidence if one.cause != COARSE or not causes & of_coarse]
    enough = [one for one in mine if one.without >= thresholds.place_at]
    if enough:
        lines = [f"Without this it would be placed: {said_of(enough[0])}. To do: {CAUSES[enough[0].cause].remedy}."]
    else:
        remedies = "; ".join(CAUSES[one.cause].remedy for one in mine[:2])
        lines = [f"No single change would place it. To do first: {remedies}."] if remedies else []
    if explanation.tolerance_m is not None:
        lines.append(f"With a tolerance of {length(explanation.tolerance_m)} it would be placed.")
    return lines


def _pairs(pairs: list[tuple[str, str]]) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    table.add_column(style="bright_black")
    table.add_column(overflow="fold")
    for name, text in pairs:
        table.add_row(f"  {name}", Text(text))
    return table


def _title(console: Console, title: str, aside: str) -> None:
    console.print()
    console.print(Text(title, "bold").append(f"  {aside}" if aside else "", "bright_black"))


def story_json(story: Story) -> dict[str, Any]:
    """The story for machines."""
    answer = story.answer
    return {
        "key": story.key,
        "name": story.name,
        "cells": dict(story.cells),
        "question": story.subject.as_dict(),
        "not_asked": story.why_not or None,
        "corrected": story.correction and story.correction.said,
        "outcome": answer and answer.outcome and answer.outcome.value,
        "confidence": answer and answer.confidence,
        "basis": answer and (answer.basis or None),
        "reasons": list(answer.reasons) if answer else [],
        "services": [_service_json(found) for found in story.services],
    }


def _service_json(found: FromService) -> dict[str, Any]:
    explanation = found.explanation
    return {
        "name": found.service,
        "requests": [made._asdict() for made in found.requests],
        "received_at": found.received_at or None,
        "kind": found.read and found.read.kind.value,
        "candidates": [
            {
                "latitude": offered.candidate.position.lat,
                "longitude": offered.candidate.position.lon,
                "level": offered.candidate.level and offered.candidate.level.value,
                "matched": matched(offered.candidate),
                "alone": offered.confidence,
                "chosen": offered.candidate is explanation.judgement.candidate,
            }
            for offered in explanation.offered
        ]
        if explanation
        else [],
        "alignment": [
            {"part": part.name, "question": part.question, "answer": part.answered, "agreement": part.agreement}
            | {"words": [{"text": word.text, "explained": round(word.explained, 3)} for word in part.asked]}
            for part in explanation.aligned
        ]
        if explanation
        else [],
        "evidence": [one._asdict() for one in explanation.evidence] if explanation else [],
        "agreeing": list(explanation.agreeing) if explanation else [],
        "placed_with_tolerance_m": explanation.tolerance_m if explanation else None,
    }
