"""URLs of databases as people write them. A password in one is never shown, even if the URL is mistyped."""

import re
from typing import TYPE_CHECKING

from yellowtor.contracts.secret import MASK, Secret

if TYPE_CHECKING:
    from sqlalchemy.engine import URL

_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://|(?:postgres\w*|mysql|mariadb|sqlite)[\w+]*:?/{0,2}|//", re.IGNORECASE)
_IN_QUERY = re.compile(r"((?:password|passwd|pwd)=)[^&\s]*", re.IGNORECASE)


def read_url(text: str) -> "URL | None":
    """The URL that a text is; None where it is none. (What the library says of it may quote the password.)"""
    from sqlalchemy.engine import make_url
    from sqlalchemy.exc import ArgumentError

    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        return None
    place, _, query = text.partition("?")
    wrong = place.count("@") > 1 or ("@" in text and not url.username) or (not url.host and "@" in query)
    return None if wrong else url  # parted at a character of the password, which must be percent-encoded


def without_password(text: str) -> str:
    """A URL, or what was meant to be one, as it may be printed."""
    before, at, after = text.rpartition("@")
    if at:
        scheme = _SCHEME.match(before)
        start = scheme[0] if scheme else ""
        user, colon, _ = before[len(start) :].partition(":")
        text = f"{start}{user}{colon and f':{MASK}'}@{after}"
    return _IN_QUERY.sub(rf"\g<1>{MASK}", text)


def shown_url(text: str) -> str:
    """A URL without its password, driver and options; mistyped, as without_password() has it."""
    from sqlalchemy.engine import URL

    url = read_url(text)
    if url is None:
        return without_password(text)
    shown = URL.create(url.get_backend_name(), url.username, None, url.host, url.port, url.database)
    return shown.render_as_string()


class DatabaseUrl:
    """The URL of a database, and its password if that comes from elsewhere. str and repr show no password."""

    __slots__ = ("_password", "_text")

    def __init__(self, text: str, password: Secret | None = None) -> None:
        self._text = Secret(text)
        self._password = password

    def read(self) -> "URL | None":
        """The URL with its password; None if the text is none."""
        url = read_url(self._text.reveal())
        if url is None or self._password is None:
            return url
        return url.set(password=self._password.reveal())

    def as_written(self) -> str:
        """The text as a person wrote it, without the password."""
        return without_password(self._text.reveal())

    def __str__(self) -> str:
        return shown_url(self._text.reveal())

    def __repr__(self) -> str:
        return f"{type(self).__name__}({str(self)!r})"
