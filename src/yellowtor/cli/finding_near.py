"""The command `nearby`: what is near a place, what is nearest to each record, and what does not fit together."""

import csv
import io
import json
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import typer
from rich.table import Table
from rich.text import Text

from yellowtor.addresses.keys import subject_key
from yellowtor.cli.console import Progress, note, stderr, stdout, write_out
from yellowtor.cli.inputs import check_ending, position_of
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Position, length
from yellowtor.errors import BadJob
from yellowtor.files import check_regular, written_aside
from yellowtor.run.jobs.job import Job
from yellowtor.run.nearby import Neighbour, PlacedRecord, neighbour_of_each, neighbours, placed_records, suspicions
from yellowtor.run.phases.row_reader import identity
from yellowtor.run.try_address import try_one
from yellowtor.settings import read_settings
from yellowtor.spreadsheet_text import shielded
from yellowtor.wiring.ledgers import job_answers, ledger_of, service_book
from yellowtor.wiring.services import load_services
from yellowtor.wiring.tables import open_table

LENGTH = re.compile(r"(\d+(?:\.\d+)?)\s*(m|km)?", re.IGNORECASE)
SHOWN = 20  # groups of records that do not fit together
LIKE_A_POSITION = re.compile(r"\s*[-+\d]")


@dataclass(frozen=True)
class NearbyWish:
    """What is to be found. to is a key, an address or a position; within as people write a length."""

    to: str | None
    within: str | None
    count: int
    each: bool
    sites: Path | None
    suspicious: bool
    into: Path | None


def nearby_command(path: Path, wish: NearbyWish, *, as_json: bool) -> None:
    """Find it, and show it or write it."""
    if sum((wish.to is not None, wish.each or wish.sites is not None, wish.suspicious)) != 1:
        raise BadJob("Say what to find: --to PLACE, --each (perhaps with --sites JOB.toml), or --suspicious.")
    if wish.into is not None:
        check_ending(wish.into, "--into", ".csv", ".geojson")
        check_regular(wish.into)
    within = _metres(wish.within) if wish.within is not None else None
    job = read_settings(path, Job, "job")
    records = _records(path, job)
    if wish.suspicious:
        _show_suspicions(records, as_json=as_json)
    elif wish.to is not None:
        here, key = _place(path, job, records, wish.to)
        found = neighbours(records, here, wish.count, within, but=key)
        _show_near(found, here, wish.into, as_json=as_json)
    else:
        sites = _records(wish.sites, read_settings(wish.sites, Job, "job")) if wish.sites else None
        _show_each(list(neighbour_of_each(records, sites)), wish.into, as_json=as_json)


def _records(path: Path, job: Job) -> list[PlacedRecord]:
    table, _, _ = open_table(job, path.absolute().parent)
    with job_answers(job, path) as book:
        found = placed_records(job, table, book, Progress(stderr()))
    if not found:
        raise BadJob(f"No record of {path} has a position yet: `yellowtor run` first.")
    return found


def _metres(text: str) -> float:
    found = LENGTH.fullmatch(text.strip())
    if not found:
        raise typer.BadParameter(f"{text!r} is no length, such as 500m or 2km", param_hint="--within")
    return float(found[1]) * (1000 if (found[2] or "m").lower() == "km" else 1)


def _place(path: Path, job: Job, records: Sequence[PlacedRecord], text: str) -> tuple[Position, str | None]:
    """The position that a text means, and the key of the record that is there itself."""
    wanted = identity(text)
    for record in records:
        if identity(record.key) == wanted:
            return record.position, record.key
    if LIKE_A_POSITION.match(text) and "," in text:
        try:
            return position_of(text), None
        except typer.BadParameter:
            pass  # an address may begin with a number
    question = subject_key(Address(whole=text))
    for record in records:
        if subject_key(Address(whole=record.address)) == question:
            return record.position, record.key
    return _asked(path, job, text), None


def _asked(path: Path, job: Job, text: str) -> Position:
    """Where the job's first service says that an address is; from the ledger, or by one request."""
    folder = path.absolute().parent
    service = load_services(_with_one_service(job), folder, unset_is_shown=False)[0][0]
    ledger = ledger_of(job, folder)
    with service_book(service, folder / job.ask.all()[0], ledger, "nothing") as book:
        trial = try_one(Address(whole=text), service, book, book.clock, job.judge.thresholds(), anew=False)
    judgement = trial.judgement
    if judgement.candidate is None or judgement.confidence is None:
        raise BadJob(f"{text!r} is no key of a record and no position, and {service.name} does not know it.")
    said = f"{text!r} is at {judgement.candidate.position.lat}, {judgement.candidate.position.lon}"
    note(stderr(), f"{said} by {service.name}, with a confidence of {judgement.confidence.value:.2f}")
    return judgement.candidate.position


def _with_one_service(job: Job) -> Job:
    """The job with its first service alone."""
    first = job.ask.all()[0]
    return job.model_copy(update={"ask": job.ask.model_copy(update={"service": first, "services": []})})


def _row(record: PlacedRecord) -> dict[str, Any]:
    lat, lon = record.position
    said = {"key": record.key, "name": record.name, "outcome": record.outcome, "address": record.address}
    return {**said, "latitude": lat, "longitude": lon}


def _show_near(found: Sequence[Neighbour], here: Position, into: Path | None, *, as_json: bool) -> None:
    rows = [{**_row(one.record), "metres": round(one.metres, 2)} for one in found]
    if into:
        _write(into, rows)
    elif as_json:
        write_out(json.dumps({"latitude": here.lat, "longitude": here.lon, "near": rows}, ensure_ascii=False, indent=2))
    elif not found:
        stderr().print("No record is so near.")
    else:
        table = _table("distance", "record", "name", "address", "outcome")
        for one in found:
            record = one.record
            table.add_row(length(one.metres), *map(Text, (record.key, record.name, record.address, record.outcome)))
        stdout().print(table)


def _show_each(found: Sequence[tuple[PlacedRecord, Neighbour | None]], into: Path | None, *, as_json: bool) -> None:
    rows = [
        {
            **_row(record),
            "nearest": near.record.key if near else None,
            "nearest_name": near.record.name if near else None,
            "metres": round(near.metres, 2) if near else None,
        }
        for record, near in found
    ]
    if into:
        _write(into, rows)
    elif as_json:
        write_out(json.dumps(rows, ensure_ascii=False, indent=2))
    else:
        write_out(_csv(rows).rstrip("\n"))


def _show_suspicions(records: Sequence[PlacedRecord], *, as_json: bool) -> None:
    found = suspicions(records)
    if as_json:
        said = [
            {"why": one.why, "metres": round(one.metres, 1), "records": list(map(_row, one.records))} for one in found
        ]
        write_out(json.dumps(said, ensure_ascii=False, indent=2))
        return
    for why in dict.fromkeys(one.why for one in found):
        mine = [one for one in found if one.why == why]
        stdout().print(Text(f"{why[0].upper()}{why[1:]}: {len(mine):,}", "bold"))
        table = _table("", "record", "address", "position")
        for one in mine[:SHOWN]:
            for n, record in enumerate(one.records[:SHOWN]):
                first = (length(one.metres) if one.metres else f"{len(one.records)}") if n == 0 else ""
                lat, lon = record.position
                table.add_row(first, Text(record.key), Text(record.address), f"{lat:.6f}, {lon:.6f}")
        stdout().print(table)
        if len(mine) > SHOWN:
            stdout().print(f"… and {len(mine) - SHOWN:,} more (all of them: --json)", style="bright_black")
    if not found:
        stderr().print("All addresses and positions fit together.")


def _table(*columns: str) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in columns:
        table.add_column(name, overflow="fold", justify="right" if name == "distance" else "left")
    return table


def _write(into: Path, rows: Sequence[dict[str, Any]]) -> None:
    text = _csv(rows) if into.suffix.lower() == ".csv" else json.dumps(_geojson(rows), ensure_ascii=False)
    with written_aside(into) as aside:
        aside.write_text(text, encoding="utf-8", newline="")
    stderr().print(f"wrote {into}", soft_wrap=True, highlight=False)


def _csv(rows: Iterable[dict[str, Any]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    for n, row in enumerate(rows):
        if n == 0:
            writer.writerow(row)
        writer.writerow([shielded(cell) if isinstance(cell, str) else cell for cell in row.values()])
    return out.getvalue()


def _geojson(rows: Iterable[dict[str, Any]]) -> dict[str, Any]:
    features = [
        {
            "type": "Feature",
            "id": row["key"],
            "geometry": {"type": "Point", "coordinates": [row["longitude"], row["latitude"]]},
            "properties": {name: value for name, value in row.items() if name not in {"latitude", "longitude"}},
        }
        for row in rows
    ]
    return {"type": "FeatureCollection", "features": features}
