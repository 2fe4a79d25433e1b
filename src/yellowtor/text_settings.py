"""What a job or a reference states about the dialect of its text file."""

import codecs
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, field_validator

from yellowtor.settings import Settings

Character = Annotated[str, StringConstraints(min_length=1, max_length=1, strip_whitespace=False)]  # a tab is one


class TextFile(Settings):
    """Needed only if the detection is wrong; a run says what it detected."""

    encoding: str | None = Field(None, description="Encoding, such as `windows-1252`.")
    delimiter: Character | None = Field(None, description="The character between fields.")
    quote: Character | None = Field(None, description="The character that quotes fields.")
    decimal: Literal[".", ","] | None = Field(None, description="Decimal mark of its numbers.")

    @field_validator("encoding")
    @classmethod
    def _known(cls, encoding: str | None) -> str | None:
        if encoding is None:
            return None
        try:
            return codecs.lookup(encoding).name
        except LookupError as error:
            raise ValueError(f"there is no encoding {encoding!r}") from error
