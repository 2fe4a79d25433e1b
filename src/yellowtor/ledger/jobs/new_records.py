"""Puts records that no scan has met into the ledger: in bulk, column by column, what they ask about once."""

import json
from collections.abc import Mapping, Sequence
from itertools import count, repeat
from operator import add

from sqlalchemy import Connection, func, select, update

from yellowtor.answers.ledger_rows import Composed, NewRecords
from yellowtor.ledger.storage.schema import address, job, question, work
from yellowtor.ledger.storage.store import ManyRows, NumbersOf, Store, TextsOf
from yellowtor.ledger.storage.stored_text import position_texts, reasons_text

PUT_ADDRESS = "INSERT INTO address (key, parts) VALUES (?, ?) ON CONFLICT DO NOTHING"
NEW_ADDRESS = ManyRows(address, ("key", "parts"), there="address.key = {}.key")
NEW_QUESTION = ManyRows(
    question,
    ("key", "asking_id", "address_id"),
    again=" ON CONFLICT (key) DO UPDATE SET asking_id = excluded.asking_id WHERE question.asking_id IS NULL",
    there="question.key = {}.key AND question.asking_id IS NOT NULL",
)
NEW_WORK = ManyRows(
    work, ("job_id", "place", "key", "held", "raw_hash", "held_hash", "state", "reasons", "address_id"), again=""
)


def put_subjects(store: Store, askings: Mapping[str, int], subjects: Sequence[Composed]) -> list[int]:
    """Put what records ask about, and its questions; the ledger's number of each. In a transaction."""
    if not subjects:
        return []
    texts = {one.address_key: one.subject for one in subjects}
    # Where several may put the same ones at this moment, all of them do it in one order; else they wait for each other.
    fresh = sorted(texts.items()) if store.shareable else texts.items()
    new = NEW_ADDRESS.inserted(store, list(fresh), "key, id")
    numbers = {row[0]: row[1] for row in new}
    if known := [key for key in texts if key not in numbers]:
        among = address.c.key.op("IN")(TextsOf(json.dumps(known)))
        numbers |= {
            row[0]: row[1] for row in store.connection.execute(select(address.c.key, address.c.id).where(among))
        }
    questions = [
        (key, askings[service], numbers[one.address_key]) for one in subjects for service, key in one.questions.items()
    ]
    NEW_QUESTION.insert_rows(store, sorted(set(questions)))  # their keys are random: in order, they share pages
    return [numbers[one.address_key] for one in subjects]


class Forgotten(Exception):
    """Raised if an address that was put is no longer in the ledger."""


def put_records(
    store: Store, job_id: int, askings: Mapping[str, int], before: int, records: NewRecords, *, others_wrote: bool
) -> None:
    """Put records behind `before` others, in a transaction. others_wrote: somebody else has, since the last one.

    Raises IntegrityError if the job has a record with one of the keys, Forgotten.
    """
    known = [cells.stored[-1] for cells in records.cells if cells.stored is not None] if others_wrote else []
    if known and _there(store, known) < len(set(known)):
        raise Forgotten
    fresh = [cells for cells in records.cells if cells.stored is None]
    numbers = put_subjects(store, askings, [cells.composed for cells in fresh if cells.composed])
    for cells, number in zip(fresh, numbers, strict=True):
        cells.stored = (cells.raw_hash, cells.raw_hash, cells.state.value, reasons_text(cells.reasons), number)
        cells.composed = None
    stored = [cells.stored for cells in records.cells]
    held = position_texts(records.held)
    heads = zip(repeat(job_id), count(before + 1), records.keys, held, strict=False)
    NEW_WORK.insert_rows(store, list(map(add, heads, map(stored.__getitem__, records.which))))
    to_be_judged(store.connection, job_id)


def to_be_judged(connection: Connection, job_id: int) -> None:
    """Note that not everything of a job is judged. Where that is known, others can write to the job meanwhile."""
    connection.execute(update(job).where(job.c.id == job_id, job.c.judged_by != "").values(judged_by=""))


def _there(store: Store, numbers: Sequence[int]) -> int:
    """How many of these addresses the ledger has."""
    among = address.c.id.op("IN")(NumbersOf(json.dumps(numbers)))
    return int(store.connection.execute(select(func.count()).select_from(address).where(among)).scalar_one())
