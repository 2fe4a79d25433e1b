"""What every format of a reply body can do: open a body, and find things in it by paths."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from yellowtor.answers.replies.json_paths import Fields, Finder, Getter, Holder


@dataclass(frozen=True)
class FormatOptions:
    """What a description says about the body of its replies; each format uses what concerns it.

    needs are the paths that every reply must be able to answer.
    """

    encoding: str | None = None
    namespaces: Mapping[str, str] = field(default_factory=dict)
    delimiter: str = ","
    header: bool = False
    needs: Sequence[str] = ()


class ReplyFormat(Protocol):
    """Opens bodies and finds things in them by paths. Nothing in a body is run, expanded or fetched."""

    accept: str  # the media types that are asked for (RFC 9110 section 12.5.1)

    def open(self, body: bytes, content_type: str) -> Any:
        """What paths look at. Raises CantOpenError."""

    def finder(self, path: str) -> Finder:
        """All that a path finds. Raises ValueError for a path that does not parse."""

    def getter(self, path: str) -> Getter:
        """The first thing that a path finds, as a plain value; None for nothing."""

    def fields(self, paths: Mapping[str, str]) -> Fields:
        """The first thing that each of these finds, as a text by its name; none for nothing. Raises ValueError."""

    def holder(self, path: str) -> Holder:
        """Whether the list of candidates that a path runs through is in a body, for only then it may be empty."""

    def part(self, found: Sequence[Any]) -> bytes:
        """A body, in UTF-8, that holds only what a path found: of JSON and XML the first, of text all lines."""
