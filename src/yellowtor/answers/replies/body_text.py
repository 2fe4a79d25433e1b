"""The text of a reply: its encoding, and a description of a body in the wrong format."""

import codecs
import re

_CHARSET = re.compile(r"""charset\s*=\s*["']?([\w.:-]+)""", re.IGNORECASE)
_MARKS = (  # byte order marks (Unicode standard, section 23.8); the longer one first
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
NOT_FOR_BODIES = {"idna", "punycode", "undefined", "unicode_escape", "raw_unicode_escape", "mbcs", "oem"}
NUL_SHOWN = "\ufffd"  # replaces a NUL, so that the text around it is not joined
UTF_8 = {"", "utf-8", "utf8"}  # what a charset may be where UTF-8 is meant
QUOTED = 100  # characters of a body in a message


class CantOpenError(Exception):
    """Raised for a body in another format than the description says; says what it is instead."""


def is_encoding(name: str) -> bool:
    """Whether Python knows it as an encoding of text that bodies may be in."""
    try:
        found = codecs.lookup(name)
        "".encode(name)
    except (LookupError, ValueError):
        return False
    return found.name.replace("-", "_") not in NOT_FOR_BODIES


def charset(content_type: str) -> str:
    """The charset parameter of a Content-Type field (RFC 9110 section 8.3); empty where there is none."""
    found = _CHARSET.search(content_type)
    return found[1] if found else ""


def decoded(body: bytes, content_type: str, encoding: str | None) -> str:
    """The text of a body: its byte order mark says how it is encoded, else the description, the charset, or UTF-8.

    Raises CantOpenError.
    """
    by_mark = next((name for mark, name in _MARKS if body.startswith(mark)), None)
    name = by_mark or encoding or charset(content_type) or "utf-8"
    if not is_encoding(name):
        raise CantOpenError(f"the reply says that its text is in {name[:40]!r}, which is not an encoding")
    try:
        return body.decode(name).removeprefix("\ufeff").replace("\0", NUL_SHOWN)
    except UnicodeError as error:
        raise CantOpenError(f"the reply is not text in {name}: {_place(error)}") from error


def _place(error: UnicodeError) -> str:
    return f"{error.reason} at byte {error.start}" if isinstance(error, UnicodeDecodeError) else str(error)


def looks_like_page(body: bytes) -> bool:
    """Whether the body is a web page."""
    return body[:200].lstrip().lower().startswith((b"<!doctype html", b"<html"))


def instead(body: bytes, promised: str, starts: tuple[bytes, ...]) -> str:
    """What a body is that is not what was promised."""
    if not body.strip():
        return "the reply is empty"
    if looks_like_page(body):
        return f"a web page came where {promised} was promised"
    if starts and body.lstrip().startswith(starts):
        return f"the reply is cut short or damaged after {len(body)} bytes"
    return f"the reply is not {promised}: {quoted(body)}"


def quoted(body: bytes) -> str:
    """The beginning of a body, on one line."""
    text = " ".join(body[: 4 * QUOTED].decode(errors="replace").split())
    return f"{text[:QUOTED]}…" if len(text) > QUOTED else text
