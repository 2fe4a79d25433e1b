"""The verb `draft` for a table that knows positions: a description of it as a reference table."""

from collections.abc import Mapping
from dataclasses import dataclass

import tomlkit
from tomlkit.items import Table

from yellowtor.addresses.guess import Guess, guess_columns
from yellowtor.addresses.latin import latin
from yellowtor.answers.geography.cell_coordinates import read_coordinates
from yellowtor.contracts.address import Address
from yellowtor.run.draft import Draft, Sample

POSITIONED = 0.99  # of its rows have coordinates: it knows where addresses are, and needs no job
ADDRESS = ("number", "street", "town", "postcode", "region", "country")
PARTS = ("number", "street", "town", "postcode", "region", "country", "latitude", "longitude")
MORE = {
    "district": ("district", "suburb", "quarter", "neighbourhood", "stadtteil", "ortsteil", "quartier", "barrio"),
    "population": ("population", "inhabitants", "einwohner", "habitants", "poblacion", "abitanti"),
    "alternatives": ("alternative names", "alternate names", "other names", "aliases"),
    "valid_from": ("valid from", "gueltig ab", "date debut"),
    "valid_until": ("valid until", "valid to", "gueltig bis", "date fin"),
}


@dataclass(frozen=True)
class ReferenceDraft(Draft):
    """A description of a reference table, and how it came about."""


def is_reference(sample: Sample) -> bool:
    """Whether nearly all rows have coordinates, and parts of an address beside them."""
    guesses = _guessed(sample)
    if not {"latitude", "longitude"} <= guesses.keys() or not guesses.keys() & {"street", "town", "postcode"}:
        return False
    lat, lon = (sample.header.index(guesses[part].column) for part in ("latitude", "longitude"))
    held = [read_coordinates(row[lat], row[lon], "," if "," in row[lat] else ".").position for row in sample.rows]
    return bool(held) and sum(one is not None for one in held) >= POSITIONED * len(held)


def draft_reference(sample: Sample, name: str) -> ReferenceDraft:
    """A description of the sample's table, with the reason for each guess."""
    guesses = _guessed(sample)
    document = tomlkit.document()
    document.add(tomlkit.comment("Drafted by `yellowtor draft`: look it over, then `yellowtor index` it."))
    document.add("service", _about(name))
    document.add("reference", _reference(sample, guesses))
    lines = [(f"row {at + 1}", _line(sample, at, guesses)) for at in range(min(3, len(sample.rows)))]
    return ReferenceDraft(tomlkit.dumps(document), guesses, lines)


def _about(name: str) -> Table:
    table = tomlkit.table()
    table.add("name", name)
    table.add(tomlkit.comment('attribution = "…"   # the credit that the licence of the table requires'))
    table.add(tomlkit.nl())
    return table


def _reference(sample: Sample, guesses: Mapping[str, Guess]) -> Table:
    table = tomlkit.table()
    for key, value in sample.said.items():
        table.add(key, value)
    if "country" not in guesses:
        table.add(tomlkit.comment('fixed = { country = "…" }   # no column says it: an ISO 3166 code helps a lot'))
    table.add(tomlkit.nl())
    columns = tomlkit.table()
    for part in (*PARTS, *MORE):
        if part in guesses:
            item = tomlkit.item(guesses[part].column)
            item.comment(guesses[part].why)
            columns.add(part, item)
    table.add("columns", columns)
    return table


def _guessed(sample: Sample) -> dict[str, Guess]:
    """The column of each part: what only references have by its name; a table without streets has names of places."""
    more = {
        part: Guess(column, "its name")
        for part, names in MORE.items()
        for column in sample.header
        if latin(column.replace("_", " ")) in names
    }
    used = {guess.column for guess in more.values()}
    found = guess_columns([column if column not in used else "" for column in sample.header], sample.rows)
    guesses = {part: guess for part, guess in found.items() if part in PARTS}
    if "name" in found and not guesses.keys() & {"street", "town"}:
        guesses["town"] = Guess(found["name"].column, "its name; there is no street")
    return guesses | more


def _line(sample: Sample, at: int, guesses: Mapping[str, Guess]) -> str:
    row = dict(zip(sample.header, sample.rows[at], strict=False))
    return Address(**{part: row[guesses[part].column].strip() for part in ADDRESS if part in guesses}).line()
