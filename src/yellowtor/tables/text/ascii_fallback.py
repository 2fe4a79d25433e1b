"""Writes characters that an encoding lacks as the nearest ASCII; `main` registers this for the whole process."""

import codecs

NEAREST = "yellowtor.nearest"


def register() -> None:
    """Make the error handler known to Python's encoders."""
    codecs.register_error(NEAREST, _nearest)


def _nearest(error: UnicodeError) -> tuple[str, int]:
    from anyascii import anyascii

    assert isinstance(error, UnicodeEncodeError), "it is only used to write"
    return anyascii(error.object[error.start : error.end]), error.end
