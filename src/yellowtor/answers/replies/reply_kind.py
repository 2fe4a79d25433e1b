"""Kinds of reply: what a reply means for its question."""

from enum import StrEnum


class Kind(StrEnum):
    """The kind of a reply. Every reply has exactly one."""

    ANSWERED = "answered"
    NOTHING_FOUND = "nothing found"
    QUESTION_REFUSED = "question refused"
    KEY_REFUSED = "key refused"
    NOT_PERMITTED = "not permitted"
    TOO_FAST = "too fast"
    WINDOW_SPENT = "window spent"
    UNAVAILABLE = "unavailable"
    UNREADABLE = "unreadable"
    ACCEPTED = "accepted"

    @property
    def may_pass(self) -> bool:
        """Whether asking again a little later can help."""
        return self in {Kind.TOO_FAST, Kind.UNAVAILABLE, Kind.UNREADABLE}

    @property
    def is_answer(self) -> bool:
        """Whether the service has said all it knows."""
        return self in {Kind.ANSWERED, Kind.NOTHING_FOUND}

    @property
    def stops_service(self) -> bool:
        """Whether it is useless to ask this service more questions now."""
        return self in {Kind.KEY_REFUSED, Kind.NOT_PERMITTED, Kind.WINDOW_SPENT}
