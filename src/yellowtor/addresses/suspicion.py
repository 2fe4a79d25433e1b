"""What makes an address look as if it were none: a person should look before it is paid for."""

import re
from collections.abc import Iterator

from yellowtor.addresses.canonical import canonical

_MAIL = re.compile(r"\S@[^\s@]{1,255}\.[^\s@.]")  # as much of it as tells: time is linear in the text
_WEB = re.compile(r"\bhttps?://|\bwww\.", re.IGNORECASE)
_FILLERS = frozenset(["asdf", "dummy", "foo", "lorem", "n a", "none", "null", "qwerty", "tba", "tbc", "test", "xxx"])
_ERROR = re.compile(r"#(?:N/A|REF!|VALUE!|NAME\?|DIV/0!|NULL!|NUM!)")


def suspicions(text: str) -> Iterator[str]:
    """Why this text, a record's own part of its address, may be no address."""
    letters = [character for character in text if character.isalpha()]
    if _MAIL.search(text):
        yield "an e-mail address"
    if _WEB.search(text):
        yield "a web address"
    if _ERROR.search(text):
        yield "the error of a formula"
    if not letters:
        yield "only digits" if any(map(str.isdigit, text)) else "no letters"
    elif len(letters) == 1:
        yield "one letter"
    elif len(letters) > 3 and len({*map(str.casefold, letters)}) == 1:
        yield "one letter again and again"
    if not _ERROR.search(text) and _FILLERS.intersection([canonical(text), *canonical(text).split()]):
        yield "test data"
