"""Taking a reply to many questions apart, into a reply for each of them.

Whatever can't be put back to its question for certain is nobody's answer: those questions are asked alone.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from yellowtor.answers.kinds import Kind
from yellowtor.answers.paths import Finder, Getter
from yellowtor.answers.reading import Reading, read_kind
from yellowtor.answers.reply import Reply
from yellowtor.answers.shapes import CantOpenError
from yellowtor.answers.values import as_written


@dataclass(frozen=True, slots=True)
class Apart:
    """Where the results of a reply are, and where each says whose it is (None: they come in the questions' order)."""

    results: Finder
    id: Getter | None = None


def take_apart(reading: Reading, apart: Apart, reply: Reply, count: int) -> Sequence[Reply]:
    """The reply to each of so many questions, whose ids are "0", "1" and so on.

    One and the same for all of them where it refuses the request as a whole. An answer without a result for a question
    is no answer to it, nor to any other.
    """
    found = _found(reading, apart, reply, count)
    if not found and not _is_answer(reading, reply):
        return [reply] * count
    media = reply.headers.get("content-type", "").partition(";")[0]
    headers = {**reply.headers, "content-type": f"{media}; charset=utf-8"}
    missing = replace(reply, body=b"", kind=Kind.UNREADABLE, trouble="the reply has no result for this question")
    part = reading.shape.part
    return [
        replace(reply, headers=headers, body=part(result)) if (result := found.get(str(at))) else replace(missing)
        for at in range(count)
    ]


def _found(reading: Reading, apart: Apart, reply: Reply, count: int) -> dict[str, list[Any]]:
    """The results by the id of their question; nothing that is not one of the questions'."""
    if reply.kind is not None or not 200 <= reply.status < 300:
        return {}
    try:
        opened = reading.shape.open(reply.body, reply.headers.get("content-type", ""))
    except CantOpenError:
        return {}
    results = apart.results(opened)
    found = _by_id(apart.id, results) if apart.id else _in_order(results, count)
    asked = set(map(str, range(count)))
    return {key: results for key, results in found.items() if key in asked}


def _is_answer(reading: Reading, reply: Reply) -> bool:
    return reply.kind is None and read_kind(reading, reply.status, reply.body, reply.headers).is_answer


def _by_id(get: Getter, results: Sequence[Any]) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = {}
    for result in results:
        found.setdefault(as_written(get(result)), []).append(result)
    return found


def _in_order(results: Sequence[Any], count: int) -> dict[str, list[Any]]:
    """By their places; none at all where there are more or fewer than questions, for nobody knows which is missing."""
    return {str(at): [result] for at, result in enumerate(results)} if len(results) == count else {}
