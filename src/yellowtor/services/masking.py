"""Secrets in texts and bytes that a service sends: found in every spelling it may echo them in, and masked.

A character of a secret may stand as it is, percent-encoded (once or twice), as an escape of JSON, or as a reference of
HTML; the whole may be in Base64, at any of its three alignments, or in hexadecimal. Letters may be of either case.
"""

import base64
import html.entities
import re
from collections.abc import Iterable
from urllib.parse import quote

from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reading import Read
from yellowtor.contracts.secret import MASK

SHORTEST = 6  # characters of a secret: a shorter one occurs in texts that have nothing to do with it
_BESIDE = rb"[a-z0-9+/_-]{0,3}=*"  # characters of Base64 that a secret shares with what is around it
_ENTITIES: dict[str, list[str]] = {}
_CONTROLS = dict.fromkeys(
    [*range(9), *range(11, 32), *range(0x7F, 0xA0), *range(0x202A, 0x202F), *range(0x2066, 0x206A)]
)


class Masker:
    """Masks these secrets. More may be added while requests are sent."""

    def __init__(self, secrets: Iterable[str] = ()) -> None:
        self._secrets: list[str] = []
        self._bytes: re.Pattern[bytes] | None = None
        self._whole: list[tuple[bytes, bytes]] = []  # in lower case, and what may stand beside it
        self._wide: list[tuple[bytes, bytes]] = []
        self.add(*secrets)

    def add(self, *secrets: str) -> None:
        """Mask these too. A secret that is too short is left out, because it occurs in other texts."""
        new = [secret for secret in secrets if len(secret) >= SHORTEST and secret not in self._secrets]
        if not new:
            return
        self._secrets = sorted([*self._secrets, *new], key=len, reverse=True)
        self._whole = [(secret.encode().lower(), b"") for secret in self._secrets]
        self._whole += [(form.encode().lower(), _BESIDE) for secret in self._secrets for form in _encoded(secret)]
        self._bytes = re.compile("|".join(map(_spelled, self._secrets)).encode().lower())
        self._wide = [
            (form.encode(code), MASK.encode(code))
            for secret in self._secrets
            for code in ("utf-16-le", "utf-16-be", "utf-32-le", "utf-32-be")
            for form in dict.fromkeys((secret, secret.lower(), secret.upper()))
        ]

    def in_bytes(self, body: bytes) -> bytes:
        """The bytes without the secrets, in any encoding of Unicode."""
        if self._bytes is None:
            return body
        if b"\0" in body:
            for form, mask in self._wide:
                body = body.replace(form, mask)
        places = self._places(body)
        if not places:
            return body
        kept = []
        end = 0
        for start, stop in places:
            if start >= end:
                kept.append(body[end:start])
            end = max(end, stop)
        return MASK.encode().join([*kept, body[end:]])

    def _places(self, body: bytes) -> list[tuple[int, int]]:
        """Where the secrets stand, in their order."""
        low = body.lower()
        found = list[tuple[int, int]]()  # of ASCII only: as long as before
        for form, beside in self._whole:
            if form in low:
                found += [at.span() for at in re.finditer(beside + re.escape(form) + beside, low)]
        if self._bytes and (b"%" in low or b"\\" in low or b"&" in low or b"+" in low):
            found += [at.span() for at in self._bytes.finditer(low)]
        return sorted(found)

    def in_text(self, text: str) -> str:
        """The text without the secrets. What can't be encoded (a header field that is not UTF-8) is replaced."""
        if self._bytes is None and text.isascii():
            return text
        try:
            raw = text.encode()
        except UnicodeEncodeError:
            raw = text.encode("utf-8", "surrogateescape" if _is_bytes(text) else "replace")
            return self.in_bytes(raw).decode("utf-8", "replace")
        masked = self.in_bytes(raw)
        return text if masked is raw else masked.decode("utf-8", "replace")

    def in_read(self, read: Read) -> Read:
        """What was read from a reply without the secrets, and without characters that control a terminal."""
        texts = [read.message, read.because, *read.remarks]
        for one in read.candidates:
            texts += [one.label, *one.parts.values(), *one.extra.values()]
        whole = " ".join(texts)
        if not (_has_controls(whole) or self._found(whole)):
            return read
        return read._replace(
            message=self._clean(read.message),
            because=self._clean(read.because),
            remarks=[self._clean(text) for text in read.remarks],
            candidates=[self._cleaned(one) for one in read.candidates],
        )

    def _found(self, text: str) -> bool:
        return self._bytes is not None and bool(self._places(text.encode("utf-8", "replace")))

    def _cleaned(self, one: Candidate) -> Candidate:
        parts = {name: self._clean(text) for name, text in one.parts.items()}
        extra = {name: self._clean(text) for name, text in one.extra.items()}
        return one._replace(label=self._clean(one.label), parts=parts, extra=extra)

    def _clean(self, text: str) -> str:
        return self.in_text(text).translate(_CONTROLS)


def _has_controls(text: str) -> bool:
    return not text.isprintable() and text.translate(_CONTROLS) != text


def _is_bytes(text: str) -> bool:
    """Whether all surrogates represent bytes that were not UTF-8 (PEP 383)."""
    return all("\udc80" <= c <= "\udcff" for c in text if "\ud800" <= c <= "\udfff")


def _spelled(secret: str) -> str:
    """A regular expression, over UTF-8, for a text whose characters may be escaped in any way."""
    return "".join(f"(?:{'|'.join(map(_quoted, _spellings(c)))})" for c in secret)


def _quoted(text: str) -> str:
    return text if text.startswith("(?") else re.escape(text)


def _spellings(character: str) -> list[str]:
    """How one character may be written; those that begin with (? are regular expressions."""
    percent = "".join(f"%{byte:02X}" for byte in character.encode())
    wide = character.encode("utf-16-be").hex()
    code = ord(character)
    escapes = "".join(f"\\u{wide[at : at + 4]}" for at in range(0, len(wide), 4))
    found = [character, percent, percent.replace("%", "%25"), escapes, f"\\{escapes}"]
    found += [f"(?:&#0*{code};)", f"(?:&#x0*{code:x};)"]
    found += [f"&{name}" for name in _named(character)]
    if character == " ":
        found.append("+")
    return [*found, f"\\{character}"] if not character.isalnum() else found


def _named(character: str) -> list[str]:
    if not _ENTITIES:
        for name, text in html.entities.html5.items():
            _ENTITIES.setdefault(text, []).append(name)
    return [name for name in _ENTITIES.get(character, []) if name.endswith(";")]


def _encoded(secret: str) -> list[str]:
    """The whole in Base64, as a part of any longer text, and in hexadecimal."""
    content = secret.encode()
    forms = [secret.encode().hex()]
    for before in range(3):
        text = base64.b64encode(b"\0" * before + content).decode().rstrip("=")
        sure = text[(0, 2, 3)[before] : len(text) - bool((before + len(content)) % 3)]
        if len(sure) >= SHORTEST:
            forms += [sure, sure.replace("+", "-").replace("/", "_"), sure.replace("/", "\\/"), quote(sure, safe="")]
    return list(dict.fromkeys(forms))
