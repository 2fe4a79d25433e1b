"""Splits the reply to a batch into a reply for each question.

A result that can't be assigned to a question with certainty is ignored, and the question is asked alone.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from yellowtor.answers.replies.body_text import CantOpenError
from yellowtor.answers.replies.json_paths import Finder, Getter, TooDeepError
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.reading import read_kind
from yellowtor.answers.replies.reading_rules import Reading
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_kind import Kind

PART = "yellowtor-part"  # the note on a reply that was a result among many


@dataclass(frozen=True, slots=True)
class BatchSplit:
    """Where the results of a reply are, and where each says whose it is (None: they come in the questions' order).

    keyed: they are an object, whose names are the ids. missing_is_nothing: nothing was found for a question without a
    result. of_lines: several results with one id are one result.
    """

    results: Finder
    id: Getter | None = None
    keyed: bool = False
    missing_is_nothing: bool = False
    of_lines: bool = False


def split_batch(reading: Reading, apart: BatchSplit, reply: Reply, count: int) -> Sequence[Reply]:
    """The reply to each question of a batch; their ids are "0", "1" and so on.

    If the reply refuses the whole request, all questions get it. A question without a result is unreadable, unless the
    description says otherwise. Two results with the same id are both ignored.
    """
    found = _found(reading, apart, reply, count)
    if found is None or (not found and not apart.missing_is_nothing and not _is_answer(reading, reply)):
        return [reply] * count
    media = reply.headers.get("content-type", "").partition(";")[0]
    headers = {**reply.headers, "content-type": f"{media}; charset=utf-8", PART: "result"}
    missing = replace(reply, body=b"", kind=Kind.UNREADABLE, trouble="the reply has no result for this question")
    if apart.missing_is_nothing:
        missing = replace(reply, headers={**headers, PART: "missing"}, body=b"", kind=Kind.NOTHING_FOUND)
    twice = replace(reply, body=b"", kind=Kind.UNREADABLE, trouble="the reply has two results for this question")

    def one(at: int) -> Reply:
        results = found.get(str(at), [])
        if len(results) > 1 and not apart.of_lines:
            return replace(twice)
        return replace(reply, headers=headers, body=reading.format.part(results)) if results else replace(missing)

    return [one(at) for at in range(count)]


def _found(reading: Reading, apart: BatchSplit, reply: Reply, count: int) -> dict[str, list[Any]] | None:
    """The results by the id of their question; None where the reply is none about questions."""
    if reply.kind is not None or not 200 <= reply.status < 300:
        return None
    try:
        opened = reading.format.open(reply.body, reply.headers.get("content-type", ""))
    except CantOpenError:
        return None
    try:
        results = apart.results(opened)
    except TooDeepError:
        return None
    if apart.keyed:
        whole = results[0] if len(results) == 1 and isinstance(results[0], dict) else None
        if whole is None:
            return None
        found = {name: [value] for name, value in whole.items() if value is not None}
    elif apart.id:
        found = _by_id(apart.id, results)
    else:
        found = _in_order(results, count)
    asked = set(map(str, range(count)))
    return {key: results for key, results in found.items() if key in asked}


def _is_answer(reading: Reading, reply: Reply) -> bool:
    kind = read_kind(reading, reply.status, reply.body, reply.headers)
    return reply.kind is None and (kind.is_answer or kind is Kind.UNREADABLE)


def _by_id(get: Getter, results: Sequence[Any]) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = {}
    for result in results:
        found.setdefault(as_written(get(result)), []).append(result)
    return found


def _in_order(results: Sequence[Any], count: int) -> dict[str, list[Any]]:
    """The results in the order of the questions; none if their number differs, because any of them may be missing."""
    return {str(at): [result] for at, result in enumerate(results)} if len(results) == count else {}
