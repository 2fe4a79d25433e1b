"""Writes characters that an encoding lacks as the nearest ASCII: an error handler that `main` registers."""

NEAREST = "yellowtor.nearest"


def nearest_ascii(error: UnicodeError) -> tuple[str | bytes, int]:
    """The replacement for what cannot be encoded, and where to go on."""
    from anyascii import anyascii  # when it is used: commands start sooner

    assert isinstance(error, UnicodeEncodeError), "it is only used to write"
    return anyascii(error.object[error.start : error.end]), error.end
