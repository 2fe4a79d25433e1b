"""The verb `draft`: look at a source and write a job file that runs, each guess with its reason beside it."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import tomlkit
from tomlkit.items import Table

from yellowtor.addresses.guess import Guess, guess_columns
from yellowtor.answers.geography.cell_coordinates import read_coordinates
from yellowtor.answers.geography.outliers import area_of
from yellowtor.contracts.position import Area
from yellowtor.contracts.table import Row
from yellowtor.errors import BadSource
from yellowtor.run.jobs.job import Job

PARTS = ("whole", "number", "street", "town", "postcode", "region", "country")
ANSWERS = {"latitude": "Latitude", "longitude": "Longitude", "outcome": "Outcome", "confidence": "Confidence"}
LABELS = {
    "key": "tells records apart",
    "name": "name of a record",
    "latitude": "latitude, if it has one",
    "longitude": "longitude, if it has one",
}
Choose = Callable[[str, Sequence[str]], str]  # what is asked, the columns to choose from with the guess first


@dataclass(frozen=True)
class Sample:
    """What a draft is made from. `said` are the lines of [records] that lead to it; keys a table's primary key."""

    name: str
    said: Mapping[str, Any]
    header: Sequence[str]
    rows: Sequence[Row]
    keys: Sequence[str] = ()
    database: bool = False


@dataclass(frozen=True)
class Draft:
    """A job file and how it came about: for each part its guess; three addresses as the job puts them together."""

    text: str
    guesses: Mapping[str, Guess]
    addresses: Sequence[tuple[str, str]]


def draft_job(sample: Sample, service: str, target: str, choose: Choose) -> Draft:
    """Write a job from guesses; choose decides unsure ones. target is the file or table for the answers.

    Raises BadSource if nothing can be guessed.
    """
    if not sample.rows:
        raise BadSource(f"{sample.name} has no records: there is nothing to guess from. Nothing was written.")
    guesses = guess_columns(sample.header, sample.rows)
    for part, guess in guesses.items():
        if guess.others and part != "name" and not (part == "key" and sample.keys):
            question = f"Which column is the {part}?" if part in PARTS else f"Which column {LABELS[part]}?"
            column = choose(question, [guess.column, *guess.others])
            guesses[part] = Guess(column, "chosen" if column != guess.column else guess.why)
    if sample.keys:
        guesses["key"] = Guess(" and ".join(sample.keys), "its primary key")
    if not guesses.keys() & set(PARTS):
        raise BadSource(
            f"{sample.name} has no column that looks like a part of an address (it has: "
            f"{', '.join(filter(None, sample.header))}). Nothing was written."
        )
    if "key" not in guesses:
        raise BadSource(
            f"{sample.name} has no column that tells records apart: none is filled in every record and never the same "
            "twice. Add one, such as a running number. Nothing was written."
        )
    document = _document(sample, guesses, service, target)
    job = Job.model_validate(document.unwrap())
    composing = job.composing()
    rows = [dict(zip(sample.header, row, strict=False)) for row in sample.rows]
    keys = sample.keys or [guesses["key"].column]
    lines = [
        (" / ".join(row[key] for key in keys), composing.compose(row).line())
        for row in rows
        if not composing.says_nothing(row)
    ]
    return Draft(tomlkit.dumps(document), guesses, lines[:3])


def _document(sample: Sample, guesses: Mapping[str, Guess], service: str, target: str) -> tomlkit.TOMLDocument:
    document = tomlkit.document()
    document.add(tomlkit.comment("Drafted by `yellowtor draft`: look it over, then `yellowtor preview` it."))
    document.add(tomlkit.nl())
    document.add("records", _records(sample, guesses))
    document.add("address", _address(guesses))
    document.add("ask", _with("service", service, "the service description"))
    document.add("judge", _judge(sample, guesses))
    document.add("write", _write(sample, guesses, target))
    return document


def _judge(sample: Sample, guesses: Mapping[str, Guess]) -> Table:
    table = tomlkit.table()
    _add(table, "tolerance_m", 50, "a point further off than this is wrong")
    if "latitude" in guesses and (area := _area(sample, guesses)):
        ends = ", ".join(f"{end:.1f}" for end in area)
        table.add(tomlkit.comment(f"area = [{ends}]   # where the records that have coordinates lie, with some room"))
    table.add(tomlkit.nl())
    return table


def _area(sample: Sample, guesses: Mapping[str, Guess]) -> Area | None:
    """Where the records lie that have coordinates; None where too few have some."""
    lat, lon = (sample.header.index(guesses[part].column) for part in ("latitude", "longitude"))
    held = (read_coordinates(row[lat], row[lon], "," if "," in row[lat] else ".") for row in sample.rows)
    return area_of([one.position for one in held if one.position])


def _records(sample: Sample, guesses: Mapping[str, Guess]) -> Table:
    table = tomlkit.table()
    for name, value in sample.said.items():
        table.add(name, value)
    key: Any = list(sample.keys) if len(sample.keys) > 1 else guesses["key"].column
    _add(table, "key", key, guesses["key"].why)
    if "name" in guesses:
        _add(table, "name", guesses["name"].column, guesses["name"].why)
    table.add(tomlkit.nl())
    return table


def _address(guesses: Mapping[str, Guess]) -> Table:
    table = tomlkit.table()
    for part in PARTS:
        if part in guesses:
            _add(table, part, guesses[part].column, guesses[part].why)
    needed = [part for part in ("street", "town") if part in guesses] or [p for p in PARTS if p in guesses][:1]
    _add(table, "needed", needed, "a record without these is incomplete, and not asked about")
    if "country" not in guesses:
        table.add(tomlkit.comment('fixed = { country = "…" }   # no column says it: an ISO 3166 code helps a lot'))
    table.add(tomlkit.nl())
    return table


def _write(sample: Sample, guesses: Mapping[str, Guess], target: str) -> Table:
    table = tomlkit.table()
    there = "latitude" in guesses
    if not sample.database:
        _add(table, "to", target, "a copy; in_place = true writes into the source itself")
    elif there:
        _add(
            table,
            "in_place",
            True,
            f"it has columns for it; or a separate table: table = {target!r}".replace("'", '"'),
        )
    else:
        _add(table, "table", target, "a separate table; in_place = true adds columns to the records' table")
    if sample.database:
        _add(table, "create", True, "make what is missing")
    columns = tomlkit.table()
    for part, default in ANSWERS.items():
        own = part in guesses and (not sample.database or there)
        same = next((name for name in sample.header if name.casefold() == default.casefold()), "")
        columns.add(part, guesses[part].column if own else same or (default.lower() if sample.database else default))
    table.add("columns", columns)
    return table


def _with(name: str, value: Any, why: str) -> Table:
    table = tomlkit.table()
    _add(table, name, value, why)
    table.add(tomlkit.nl())
    return table


def _add(table: Table, name: str, value: Any, why: str) -> None:
    item = tomlkit.item(value)
    if why:
        item.comment(why)
    table.add(name, item)
