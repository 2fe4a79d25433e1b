"""The canonical form of a text: what two spellings of one address have in common.

It must never make one of two different addresses: punctuation that can carry meaning in a house number
is kept (12/1 is not 12-1, and neither is 121), and no digit changes its kind (12² is not 122), which is
why the text is composed with NFC and not with NFKC.
"""

import re
import unicodedata
from functools import lru_cache

# Invisible characters that copying adds: control characters, soft hyphens, directional marks.
_UNSEEN = re.compile("[\0-\x08\x0e-\x1b\x7f\xad\u200e\u200f\u2060\u202a-\u202e\u2066-\u2069]")
SEPARATOR = "\x1f"  # U+001F INFORMATION SEPARATOR ONE, which no address contains


def fold_blanks(text: str) -> str:
    """NFC, every run of blanks (no-break and zero-width ones too) as one space, none at the ends; nothing unseen."""
    if text.isascii() and text.isprintable():
        return " ".join(text.split()) if "  " in text or text[:1] == " " or text[-1:] == " " else text
    composed = unicodedata.normalize("NFC", _UNSEEN.sub("", text))
    return " ".join(composed.replace("\u200b", " ").replace("\ufeff", " ").split())


@lru_cache(maxsize=20_000)  # towns and streets come again and again
def canonical(text: str) -> str:
    """NFC, casefolded, blanks folded, punctuation dropped except where it touches a number.

    >>> canonical("  12/1  Kelp-Lane. ")
    '12/1 kelp lane'
    """
    folded = unicodedata.normalize("NFC", fold_blanks(text).casefold())
    if folded.isascii() and folded.replace(" ", "").isalnum():
        return folded
    kept = [_keep(folded, i) if _is_punctuation(c) else c for i, c in enumerate(folded)]
    return re.sub(r"(?<=\d) ?([^\w\s]) ?(?=\d)", r"\1", " ".join("".join(kept).split()))


def _is_punctuation(character: str) -> bool:
    return unicodedata.category(character).startswith("P")


def _keep(text: str, at: int) -> str:
    """The punctuation at this place when it belongs to a number, else a blank. Blanks stand alone in the text."""
    before = text[max(0, at - 2) : at].rstrip()
    after = text[at + 1 : at + 3].lstrip()
    if not before or not after or not before[-1].isalnum() or not after[0].isalnum():
        return " "
    digits = before[-1].isnumeric() + after[0].isnumeric()
    tight = text[at - 1] != " " and text[at + 1] != " "
    return text[at] if digits == 2 or (digits == 1 and tight) else " "
