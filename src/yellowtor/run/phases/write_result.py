"""The result of writing, the changes that it would make, and the record of a marker."""

from dataclasses import dataclass, field
from typing import Any, NamedTuple

from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.side_by_side import side_by_side
from yellowtor.answers.ledger_rows import EXTRA, Answer
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.subject import AskedPosition
from yellowtor.contracts.table import (
    AsStored,
    ReturnsStored,
    Table,
)
from yellowtor.run.phases.scan import shown_key


@dataclass
class WriteResult:
    """Counts of the writing: records written; edited since they were read; with stale foreign coordinates; repaired.

    changed are the rows of a database that are other than before, refused those that it did not take.
    """

    written: int = 0
    edited: int = 0
    stale: int = 0
    repaired: int = 0
    changed: int = 0
    refused: int = 0
    first_refused: list[tuple[str, str]] = field(default_factory=list)  # keys, and why


class Change(NamedTuple):
    """A cell that would change."""

    key: str
    column: str
    old: str
    new: str


@dataclass
class Changes:
    """What a run would write of the answers that are there already: how many records and cells, the first of them."""

    records: int = 0
    cells: int = 0
    first: list[Change] = field(default_factory=list)


def as_stored_by(table: Table) -> AsStored | None:
    """What a table returns for coordinates; None if exactly those."""
    return table.as_stored if isinstance(table, ReturnsStored) else None


def marker_record(answer: Answer, name: str) -> dict[str, Any]:
    """The record for a marker file. In reverse it is at the position of the question."""
    asked = answer.address
    lat = answer.lat
    lon = answer.lon
    if isinstance(asked, AskedPosition) and asked.lat:
        lat = asked.position.lat
        lon = asked.position.lon
    return {
        "key": shown_key(answer.key),
        "name": name,
        "outcome": answer.outcome,
        "lat": lat,
        "lon": lon,
        "asked": asked.line(),
        "matched": answer.matched,
        "level": answer.level,
        "confidence": answer.confidence,
        "basis": answer.basis,
        "reasons": list(answer.reasons),
        "aligned": _aligned(answer),
    }


def _aligned(answer: Answer) -> list[dict[str, Any]]:
    """The question beside the answer, part by part, of a doubtful record: each word with how far it is explained."""
    if answer.outcome is not Outcome.DOUBTFUL or not isinstance(answer.address, Address):
        return []
    answered = {name: text for name, text in answer.parts.items() if not name.startswith(EXTRA)}
    parts = side_by_side(parse(answer.address), {**answered, "label": answer.matched})
    return [
        {
            "part": part.name,
            "asked": [[word.text, round(word.explained, 2)] for word in part.asked],
            "answered": part.answered,
            "agreement": part.agreement,
        }
        for part in parts
    ]
