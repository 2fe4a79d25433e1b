"""URLs of databases as people write them: read, and shown without their password, even where they are mistyped."""

import re
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from sqlalchemy.engine import URL

MASK = "•••"
_SCHEME = re.compile(r"[A-Za-z0-9+.-]*:?/*")
_IN_QUERY = re.compile(r"((?:password|passwd|pwd)=)[^&\s]*", re.IGNORECASE)


def read_url(text: str) -> "URL | None":
    """The URL that a text is; None where it is none. (What the library says of it may quote the password.)"""
    from sqlalchemy.engine import make_url
    from sqlalchemy.exc import ArgumentError

    try:
        return make_url(text)
    except (ArgumentError, ValueError):
        return None


def without_password(text: str) -> str:
    """A URL, or what was meant to be one, as it may be printed."""
    before, at, after = text.rpartition("@")
    if at:
        scheme = _SCHEME.match(before)
        start = scheme[0] if scheme and "/" in scheme[0] else ""
        user, colon, _ = before[len(start) :].partition(":")
        text = f"{start}{user}{colon and f':{MASK}'}@{after}"
    return _IN_QUERY.sub(rf"\g<1>{MASK}", text)
