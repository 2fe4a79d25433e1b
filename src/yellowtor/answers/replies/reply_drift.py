"""Detects that a service changed its replies: a field that was in all answers is in none of the new ones.

A dozen new answers without the field are enough, so that few requests are wasted.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reply_kind import Kind

SAMPLE = 200  # earlier answers that are looked at
ENOUGH = 30  # of them, to know what is always there
WORDS = 10  # unknown words for levels that are named
NEW = 12  # new answers that lack it


class Drift:
    """Watches the replies of one service in one run. earlier are the candidates of answers that it gave before."""

    def __init__(self, service: str, earlier: Sequence[Sequence[Candidate]]) -> None:
        self._service = service
        self._known = len(earlier)
        counts = Counter(name for candidates in earlier for name in _fields(candidates))
        self._always = [name for name, count in counts.items() if count == self._known >= ENOUGH]
        self._found: Counter[str] = Counter()
        self._new = 0
        self._nothing = 0
        self._warned = set[str]()
        self._words = set[str]()

    def note(self, kind: Kind, candidates: Sequence[Candidate], levels: Sequence[str] = ()) -> Iterator[str]:
        """Take a new reply in, with its words for levels that are not known; what is to be said, each thing once."""
        for word in dict.fromkeys(levels):
            if word not in self._words and len(self._words) < WORDS:
                self._words.add(word)
                yield f"{self._service} says the level {word!r}, which [reply.levels] of its description does not have"
        if kind is Kind.NOTHING_FOUND:
            self._nothing += 1
            if self._nothing == NEW and not self._new and self._known >= ENOUGH:
                yield f"{self._service} found nothing for the first {NEW} questions, {_may_be()}"
        elif kind is Kind.ANSWERED:
            self._new += 1
            self._found.update(_fields(candidates))
            lost = [name for name in self._always if not self._found[name] and name not in self._warned]
            if self._new >= NEW and lost:
                self._warned.update(lost)
                there = f"{', '.join(lost)} stood in each of the last {self._known} answers"
                yield f"{self._service}: {there}, and in none of {self._new} new ones, {_may_be()}"


def _may_be() -> str:
    return "which may be because its replies have changed: `yellowtor try` shows what each path finds"


def _fields(candidates: Iterable[Candidate]) -> set[str]:
    """What the candidates of an answer hold."""
    found = set[str]()
    for one in candidates:
        found |= one.parts.keys() | {f"extra.{name}" for name in one.extra}
        own = {"level": one.level, "label": one.label, "box": one.box, "score": one.score, "radius": one.radius_m}
        found |= {name for name, value in own.items() if value not in (None, "")}
    return found
