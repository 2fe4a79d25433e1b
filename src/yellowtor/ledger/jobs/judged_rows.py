"""Rows about judgements: from the ledger to values, and back."""

import zlib
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any

from yellowtor.answers.ledger_rows import Judged, KeptReply, ReadAs, WorkState, Written
from yellowtor.answers.record_answers import Reader
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import read_subject
from yellowtor.ledger.storage.schema import reply
from yellowtor.ledger.storage.stored_text import (
    candidates_text,
    mapping_text,
    position_text,
    read_candidates,
    read_mapping,
    read_position,
    read_positions,
    read_reasons,
    reasons_text,
)

OF_STATE = {
    WorkState.KEPT: Outcome.KEPT,
    WorkState.INCOMPLETE: Outcome.INCOMPLETE,
    WorkState.PINNED: Outcome.PLACED,
    WorkState.DISMISSED: Outcome.UNPLACED,
}  # the outcome of a record about which nothing is asked
OUTCOMES = {outcome.value: outcome for outcome in Outcome} | {WorkState.VANISHED.value: Outcome.WAITING}
READERS: Mapping[str, Reader] = {
    "held": read_positions,
    "written": read_positions,
    "sent": read_positions,
    "moved_from": read_positions,
    "address": lambda texts: list(map(read_subject, texts)),
    "outcome": lambda texts: [OUTCOMES[text] for text in texts],
    "parts": lambda texts: [read_mapping(text) for text in texts],
    "reasons": lambda texts: [read_reasons(text or "[]") for text in texts],
}
OF_REPLY = {"service": reply.c.service, "asked_at": reply.c.received_at}


@lru_cache(maxsize=50_000)  # many records have the same position
def _position_again(text: str | None) -> Position | None:
    return read_position(text)


def _positions_again(texts: Sequence[Any]) -> list[Position | None]:
    return list(map(_position_again, texts))


POOLED_READERS: Mapping[str, Reader] = dict.fromkeys(("written", "moved_from"), _positions_again)


def position_of(lat: float | str, lon: float | None = None) -> Position:
    """A position from two numbers, or from a stored text."""
    position = read_position(lat) if isinstance(lat, str) else Position(lat, lon or 0.0)
    assert position is not None, "only records with a position are selected"
    return position


def kept_reply(row: Sequence[Any]) -> KeptReply | None:
    number, kind, status, message, found, body, headers, read_kind, read_message = row
    if number is None:
        return None
    if found is not None:
        return KeptReply(number, Kind(read_kind or kind), status, read_message, read_candidates(found), b"", {})
    content = zlib.decompress(body) if body else b""
    return KeptReply(number, Kind(kind), status, message, None, content, read_mapping(headers))


def judged_row(row: Judged) -> tuple[Any, ...]:
    """A judgement as it is stored, from its address on."""
    stored = {
        "enough": int(row.enough),
        "outcome": row.outcome.value,
        "parts": mapping_text(row.parts),
        "reasons": reasons_text(row.reasons),
    }
    return tuple(stored.get(name, value) for name, value in zip(row._fields, row, strict=True))


def found_row(one: ReadAs) -> tuple[Any, ...]:
    return (one.reply, one.reading_key, candidates_text(one.candidates), one.kind.value, one.message)


def written_row(new: Written) -> tuple[Any, ...]:
    return (new.id, position_text(new.position), position_text(new.sent), new.raw_hash)
