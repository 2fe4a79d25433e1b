"""Delimited text from standard input. It is read twice, so it is kept in a temporary file as long as the table."""

import shutil
import tempfile
from pathlib import Path
from typing import BinaryIO

from yellowtor.errors import BadSource
from yellowtor.tables.stated_dialect import StatedDialect
from yellowtor.tables.text.delimited import DelimitedTable


class StandardInput(DelimitedTable):
    """The records of a stream. Raises BadSource."""

    def __init__(self, stream: BinaryIO, stated: StatedDialect) -> None:
        self._kept = tempfile.NamedTemporaryFile(prefix="yellowtor-", suffix=".csv")  # noqa: SIM115 - goes with us
        try:
            shutil.copyfileobj(stream, self._kept, 1 << 20)
            self._kept.flush()
        except OSError as error:
            raise BadSource(f"Standard input can't be kept for the run: {error.strerror}. Nothing was sent.") from error
        super().__init__(Path(self._kept.name), stated, name="Standard input")
