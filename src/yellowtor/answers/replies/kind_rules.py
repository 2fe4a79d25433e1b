"""What a reply means: rules over its status, its header fields and its body, and what the standards say without any."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from yellowtor.answers.replies.json_paths import Finder
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.reply_kind import Kind

BY_STATUS: Mapping[int, Kind] = {  # RFC 9110 section 15, RFC 6585 section 4; what no rule says otherwise
    400: Kind.QUESTION_REFUSED,
    401: Kind.KEY_REFUSED,
    402: Kind.NOT_PERMITTED,
    403: Kind.NOT_PERMITTED,
    408: Kind.UNAVAILABLE,
    413: Kind.QUESTION_REFUSED,
    414: Kind.QUESTION_REFUSED,
    422: Kind.QUESTION_REFUSED,
    425: Kind.UNAVAILABLE,
    429: Kind.TOO_FAST,
}
UNOPENED: Any = object()  # the data of a body that can't be opened: null is one that can
MATCH_S = 0.1  # seconds that an expression may take
LOOKED_AT = 65_536  # bytes of a body that a rule's expression is searched in


def occurs(expression: str) -> Callable[[str], bool]:
    """Whether a regular expression occurs in a text; what takes too long does not. Raises ValueError for none."""
    import regex  # which has a timeout

    try:
        search = regex.compile(expression).search
    except regex.error as error:
        raise ValueError(f"is not a regular expression: {error}") from error

    def found(text: str) -> bool:
        try:
            return search(text, timeout=MATCH_S) is not None
        except TimeoutError:
            return False

    return found


@dataclass(frozen=True, slots=True)
class Rule:
    """If all of what it says holds, the reply is of this kind. `number` is its place in the description, from 1.

    find finds one that is a match (None: anything at all); absent finds nothing; body occurs in the text.
    """

    kind: Kind
    status: frozenset[int] = frozenset()
    find: Finder | None = None
    match: Callable[[str], bool] | None = None
    absent: Finder | None = None
    header: tuple[str, Callable[[str], bool]] | None = None
    body: Callable[[str], bool] | None = None
    number: int = 0

    def holds(self, reply: "SeenReply") -> bool:
        """Whether it does. What speaks of a path never holds for a body that could not be opened."""
        if self.status and reply.status not in self.status:
            return False
        if self.header and not self.header[1](reply.headers.get(self.header[0], "")):
            return False
        if self.body and not self.body(reply.body[:LOOKED_AT].decode(errors="replace")):
            return False
        if self.absent and (reply.data is UNOPENED or self.absent(reply.data)):
            return False
        if self.find is None:
            return True
        found = reply.found(self.find)
        if self.match is None:
            return bool(found)
        for value in found:  # noqa: SIM110 - a generator costs a tenth of the reading
            if self.match(value.strip() if type(value) is str else as_written(value)):
                return True
        return False


class SeenReply(NamedTuple):
    """A reply as rules look at it; data is its body opened, or UNOPENED."""

    status: int
    headers: Mapping[str, str]
    body: bytes
    data: Any
    known: dict[Finder, list[Any]]  # by what was looked with: rules mostly look at one place

    def found(self, find: Finder) -> list[Any]:
        """All that this finds; nothing in a body that could not be opened."""
        if self.data is UNOPENED:
            return []
        if find not in self.known:
            self.known[find] = find(self.data)
        return self.known[find]


def by_status(status: int) -> Kind:
    """The kind of a reply of which no rule speaks."""
    if 200 <= status < 300:
        return Kind.ANSWERED
    return BY_STATUS.get(status, Kind.UNAVAILABLE if status >= 500 else Kind.UNREADABLE)
