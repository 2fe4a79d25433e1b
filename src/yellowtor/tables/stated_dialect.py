"""What a job states about the dialect of a text file."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class StatedDialect:
    """What the job says of a text file; None is to be found."""

    encoding: str | None = None
    delimiter: str | None = None
    quote: str | None = None
    decimal: str | None = None
