"""Names in plain Latin letters, to compare scripts and spellings."""

from functools import lru_cache

from anyascii import anyascii

from yellowtor.addresses.canonical import canonical


@lru_cache(maxsize=20_000)  # towns and streets come again and again
def latin(text: str) -> str:
    """The canonical form in plain Latin letters: Ørlvík and Orlvik are one."""
    plain = canonical(text)
    if plain.isascii():
        return plain
    kept = (c if c.isnumeric() and not c.isdecimal() else anyascii(c) for c in plain)  # 12² stays no 122
    return canonical("".join(kept))
