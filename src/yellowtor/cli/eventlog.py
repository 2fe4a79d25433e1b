"""The log file of a run: a line for each request and what was decided about its reply; as JSON lines if it is so named.

Nothing secret comes here: replies are masked when they leave the services, and no request is written down.
"""

import json
import re
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import TextIO

from yellowtor.errors import BadJob

OURS = re.compile(rb'(?:\{"at": ")?\d{4}-\d\d-\d\dT|$')  # how a log begins, or an empty file
AS_JSON = {".jsonl", ".ndjson", ".json"}


class EventLog:
    """Writes events to an open file."""

    def __init__(self, file: TextIO, *, as_json: bool) -> None:
        self._file = file
        self._as_json = as_json

    def event(self, name: str, facts: Mapping[str, object]) -> None:
        """Write an event; facts without a value are left out."""
        known = {key: value for key, value in facts.items() if value not in (None, "")}
        at = datetime.now(UTC).isoformat(timespec="milliseconds")
        if self._as_json:
            line = json.dumps({"at": at, "event": name, **known}, ensure_ascii=False)
        else:
            line = f"{at} {name} " + " ".join(f"{key}={_quoted(value)}" for key, value in known.items())
        with suppress(OSError, ValueError):  # a disk that is full, or a pipe that is closed, ends no run
            self._file.write(f"{line}\n")


def _quoted(value: object) -> str:
    text = str(value)
    plain = text.isascii() and text.isprintable() and not set(text) & set(' ="\\')
    return text if plain else json.dumps(text, ensure_ascii=False)


@contextmanager
def open_log(path: Path | None) -> Iterator[EventLog | None]:
    """The log at this path, opened to append; None without a path. Raises BadJob."""
    if path is None:
        yield None
        return
    try:
        if path.is_file():
            with path.open("rb") as before:
                if not OURS.match(before.read(40)):
                    raise BadJob(f"{path} already exists, and is not a log. Name another file. Nothing was sent.")
        file = path.open("a", encoding="utf-8", buffering=1, errors="replace")
    except OSError as error:
        raise BadJob(f"The log {path} can't be written: {error.strerror or error}. Nothing was sent.") from error
    began = time.monotonic()
    log = EventLog(file, as_json=path.suffix.lower() in AS_JSON)
    log.event("begin", {})
    try:
        yield log
    finally:
        log.event("end", {"seconds": round(time.monotonic() - began, 3)})
        with suppress(OSError):
            file.close()
