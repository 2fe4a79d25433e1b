"""The command `calibrate`: what a person's decisions say of the services, for people, as JSON and as a picture."""

import json
from collections.abc import Sequence
from datetime import UTC
from functools import partial
from pathlib import Path

from rich.table import Table
from rich.text import Text

from yellowtor.answers.judging.calibrating import LEAST, bins
from yellowtor.cli.console import note, short, stderr, stdout, write_out
from yellowtor.cli.inputs import check_ending
from yellowtor.errors import BadJob
from yellowtor.filelocks import locked
from yellowtor.run.calibrate import ServiceCalibration, calibrate
from yellowtor.run.jobs.job import Job
from yellowtor.settings import read_settings
from yellowtor.wiring.calibrations import write_calibrations
from yellowtor.wiring.ledgers import job_records
from yellowtor.wiring.process import CLOCK
from yellowtor.wiring.services import load_services


def calibrate_command(path: Path, *, png: Path | None, dry_run: bool, as_json: bool) -> None:
    job = read_settings(path, Job, "job")
    if job.in_reverse:
        raise BadJob(f'{path} says direction = "reverse": its records have positions, and nothing is pinned.')
    folder = path.absolute().parent
    if png:
        check_ending(png, "--png", ".png")
    services, _ = load_services(job, folder, unset_is_shown=True)
    with job_records(job, path) as book:
        found = calibrate(job, services, book)
    learned = {one.service: one.calibration for one in found if one.calibration is not None}
    to = folder / (job.judge.calibration or f"{path.stem}-calibration.json")
    if learned and not dry_run:
        with locked([to], partial(note, stderr())):  # jobs may share the file
            write_calibrations(to, learned, CLOCK.now().astimezone(UTC).date().isoformat())
    if png:
        _draw(found, png)
    if as_json:
        write_out(json.dumps([_json(one) for one in found], ensure_ascii=False, indent=2))
        return
    stdout().print(_table(found))
    if not learned:
        stderr().print(
            f"Nothing was learned: a service needs {LEAST} decisions. Settle doubtful records with `yellowtor review`, "
            "pin some placed ones, and calibrate again.",
            soft_wrap=True,
        )
    elif not dry_run:
        stderr().print(f"wrote {short(to)}", soft_wrap=True)
        if job.judge.calibration is None:
            stderr().print(f'Add calibration = "{to.name}" to [judge]: the next run uses it.', soft_wrap=True)
    if png:
        stderr().print(f"drawn: {png}", soft_wrap=True)


def _table(found: Sequence[ServiceCalibration]) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    table.add_column("service", overflow="fold")
    for name in ("decisions", "right", "confidence", "error before", "error after", "basis"):
        table.add_column(name, justify="left" if name == "basis" else "right")
    for one in found:
        count = len(one.before)
        right = sum(decision.right for decision in one.before)
        mean = f"{sum(decision.value for decision in one.before) / count:.2f}" if count else "–"
        known = one.calibration
        after = f"{one.errors[1]:.3f}" if known else "–"
        basis = f"calibrated on {known.decisions:,}" if known else "estimate"
        before = f"{one.errors[0]:.3f}" if count else "–"
        share = f"{right / count:.2f}" if count else "–"
        table.add_row(Text(one.service), f"{count:,}", share, mean, before, after, basis)
    return table


def _draw(found: Sequence[ServiceCalibration], png: Path) -> None:
    from yellowtor.markers.reliability import Diagram, draw_reliability

    diagrams = [
        Diagram(f"{one.service}, {when}", decisions)
        for one in found
        for when, decisions in (("before", one.before), ("after", one.after))
        if decisions
    ]
    if not diagrams:
        raise BadJob("No pinned record has an answer: there is nothing to draw. Nothing was written.")
    draw_reliability(png, "How many of the answers were right", diagrams)


def _json(one: ServiceCalibration) -> dict[str, object]:
    known = one.calibration
    return {
        "service": one.service,
        "decisions": len(one.before),
        "right": sum(decision.right for decision in one.before),
        "error_before": round(one.errors[0], 4),
        "error_after": round(one.errors[1], 4) if known else None,
        "slope": known and known.slope,
        "shift": known and known.shift,
        "bins_before": [part._asdict() for part in bins(one.before)],
        "bins_after": [part._asdict() for part in bins(one.after)],
    }
