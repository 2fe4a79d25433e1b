"""`explain --history`: every position that a record had, from when to when, by which reply, rules or person."""

import json
from pathlib import Path

from rich.text import Text

from yellowtor.answers.history import PastPosition
from yellowtor.cli.console import mark, stdout, write_out
from yellowtor.contracts.position import WRITTEN_DECIMALS, distance_m, length
from yellowtor.errors import BadSource
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.row_reader import key_as_shown
from yellowtor.settings import read_settings
from yellowtor.wiring.ledgers import job_history


def history_command(path: Path, key: str, *, as_json: bool) -> None:
    job = read_settings(path, Job, "job")
    with job_history(job, path) as book:
        found = book.past([key_as_shown(key)]).get(key_as_shown(key))
    if found is None:
        raise BadSource(f"The ledger knows no record {key} of {path}. Nothing was sent.")
    if as_json:
        write_out(json.dumps([_json(one) for one in found], ensure_ascii=False, indent=2))
        return
    console = stdout()
    before: PastPosition | None = None
    for one in found:
        since = f"{one.since[:19].replace('T', ' ')} UTC" if one.since else "at first"
        line = Text(f"{since:<24}").append_text(mark(one.outcome))
        if one.position:
            line.append(f"  {', '.join(f'{side:.{WRITTEN_DECIMALS}f}' for side in one.position)}")
            if before and before.position and before.position != one.position:
                line.append(f", {length(distance_m(before.position, one.position))} from there", "yellow")
            before = one
        if one.confidence is not None:
            line.append(f"  confidence {one.confidence:.2f}")
        console.print(line)
        for text in filter(None, (_by(one), one.address and f"asked: {one.address}", one.matched)):
            console.print(Text(f"{'':<24}{text}", "bright_black"))


def _by(one: PastPosition) -> str:
    """Who or what says so: a person, or a service with the day of its reply and the rules that judged it."""
    if one.said:
        return one.said
    if not one.service:
        return "its own coordinates" if one.position and not one.judged_by else ""
    return f"{one.service}, reply of {one.asked_at[:10]}, rules {one.judged_by[:8]}"


def _json(one: PastPosition) -> dict[str, object]:
    position = one.position
    return {
        "since": one.since or None,
        "until": one.until or None,
        "address": one.address,
        "outcome": one.outcome.value,
        "latitude": position and position.lat,
        "longitude": position and position.lon,
        "confidence": one.confidence,
        "basis": one.basis or None,
        "level": one.level or None,
        "matched": one.matched or None,
        "service": one.service or None,
        "asked_at": one.asked_at or None,
        "judged_by": one.judged_by or None,
        "decision": one.said or None,
    }
