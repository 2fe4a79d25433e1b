"""Values that the ledger stores as text, JSON or coordinates: only the ledger knows these texts."""

import json
from collections.abc import Mapping, Sequence
from functools import lru_cache
from itertools import chain
from typing import Any

from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.outcome import Reason
from yellowtor.contracts.position import Position

_encoded = json.JSONEncoder(ensure_ascii=False).encode  # json.dumps() makes such an encoder each time


def position_text(position: Position | None) -> str | None:
    """Latitude and longitude with six decimals: the precision of the coordinates that we write."""
    return None if position is None else f"{position[0]:.6f},{position[1]:.6f}"


def position_texts(positions: Sequence[Position | None]) -> Sequence[str | None]:
    """As position_text(), for many."""
    there = [position for position in positions if position is not None]
    if not there:
        return [None] * len(positions)
    texts = ("%.6f,%.6f\n" * len(there) % tuple(chain.from_iterable(there))).split()
    if len(texts) == len(positions):
        return texts
    some = iter(texts)
    return [None if position is None else next(some) for position in positions]


def read_position(text: str | None) -> Position | None:
    if not text:
        return None
    lat, lon = text.split(",")
    return Position(float(lat), float(lon))


def read_positions(texts: Sequence[str | None]) -> list[Position | None]:
    """As read_position(), for many; they are known to be on the globe. A parser of JSON reads numbers fastest."""
    import orjson

    if not any(texts):
        return [None] * len(texts)
    numbers = orjson.loads(f"[{','.join([text or 'null,null' for text in texts])}]")
    pairs = zip(numbers[::2], numbers[1::2], strict=True)
    make = Position._make
    return [None if pair[0] is None else make(pair) for pair in pairs]


@lru_cache(maxsize=10_000)  # many records have the same reasons
def read_reasons(text: str) -> tuple[Reason, ...]:
    return tuple(json.loads(text))


def reasons_text(reasons: Sequence[Reason]) -> str:
    return _encoded(reasons)


def read_candidates(text: str) -> list[Candidate]:
    import orjson

    return [Candidate.from_dict(data) for data in orjson.loads(text)]


def candidates_text(candidates: Sequence[Candidate]) -> str:
    return _encoded([candidate.as_dict() for candidate in candidates])


def mapping_text(values: Mapping[str, Any]) -> str:
    return _encoded(dict(values))


def read_mapping(text: str | None) -> dict[str, Any]:
    return dict(json.loads(text)) if text else {}
