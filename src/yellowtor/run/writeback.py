"""Phase three: re-open the source, write each answer by key, and draw the markers.

A record whose address is no longer the one that was asked about is left alone and counted. Only the
columns that the job names are touched.
"""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yellowtor.addresses.address import Address
from yellowtor.addresses.keys import raw_hash
from yellowtor.answers.outcome import Outcome
from yellowtor.answers.position import Position
from yellowtor.answers.work import Answer
from yellowtor.run.job import Job
from yellowtor.run.ports import JudgeBook, MarkerFile, MarkerFiles, Row, Table, Watcher
from yellowtor.run.scan import RowReader, identity

OUTCOMES = {outcome.value: outcome for outcome in Outcome}


@dataclass
class WriteResult:
    """Counts of the writing: records written; edited since they were read; with stale foreign coordinates."""

    written: int = 0
    edited: int = 0
    stale: int = 0


class WriteBack:
    """Writes one job's answers. leave is what a cell that is not to be touched is given as."""

    def __init__(self, job: Job, table: Table, book: JudgeBook, watch: Watcher, leave: object) -> None:
        self._job, self._table, self._book, self._watch, self._leave = job, table, book, watch, leave
        self._reader = RowReader(job, table)
        self._parts = list(job.write.columns.mapped())
        self._written: list[tuple[str, str | None]] = []
        self.result = WriteResult()

    def write(self, to: Path, markers: MarkerFiles) -> WriteResult:
        """Write the target and the marker files; each takes its place whole or not at all."""
        self._watch.phase("Writing")
        columns = list(self._job.write.columns.mapped().values())
        with markers() as files:
            self._table.rewrite(to, columns, lambda batch: self._batch(batch, files))
        self._note(0)
        return self.result

    def _note(self, least: int) -> None:
        """Remember the coordinates that were written, once there are so many."""
        if len(self._written) > least:
            self._book.note_written(self._written, in_place=self._job.write.in_place)
            self._written = []

    def _batch(self, batch: Sequence[Row], files: Sequence[MarkerFile]) -> list[list[Any] | None]:
        keys = [identity(self._reader.key(row)) for row in batch]
        answers = self._book.answers(keys)
        cells = [self._one(row, answers.get(key), files) for row, key in zip(batch, keys, strict=True)]
        self._watch.advanced(len(batch))
        return cells

    def _one(self, row: Row, answer: Answer | None, files: Sequence[MarkerFile]) -> list[Any] | None:
        if answer is None or answer.raw_hash != raw_hash(self._reader.raw(row)):
            self.result.edited += 1
            return None
        outcome = OUTCOMES[answer.outcome]
        ours = self._coordinates(answer, outcome)
        for file in files:
            file.add(_marker(answer, self._reader.name(row)))
        self.result.written += 1
        return [self._cell(part, answer, outcome, ours) for part in self._parts]

    def _coordinates(self, answer: Answer, outcome: Outcome) -> tuple[Any, Any]:
        """What goes into the coordinate columns: a point of ours, nothing, or no change."""
        if outcome is Outcome.KEPT:
            return self._leave, self._leave
        sure = outcome is Outcome.PLACED or (outcome is Outcome.DOUBTFUL and self._job.write.doubtful)
        if sure and answer.lat is not None and answer.lon is not None:
            text = Position(answer.lat, answer.lon).written()
            if text != answer.written:
                self._written.append((answer.key, text))
            return answer.lat, answer.lon
        if answer.held is not None and answer.held != answer.written:
            self.result.stale += outcome is Outcome.UNPLACED
            return self._leave, self._leave
        return None, None

    def _cell(self, part: str, answer: Answer, outcome: Outcome, ours: tuple[Any, Any]) -> Any:
        match part:
            case "latitude":
                return ours[0]
            case "longitude":
                return ours[1]
            case "outcome":
                return outcome.value
            case "confidence":
                return answer.confidence
            case "reasons":
                return "; ".join(json.loads(answer.reasons)) or None
        return getattr(answer, part) or None


def _marker(answer: Answer, name: str) -> dict[str, Any]:
    """What a marker file needs to know of a record."""
    return {
        "key": answer.key,
        "name": name,
        "outcome": answer.outcome,
        "lat": answer.lat,
        "lon": answer.lon,
        "asked": Address(**json.loads(answer.address)).line(),
        "matched": answer.matched,
        "level": answer.level,
        "confidence": answer.confidence,
        "basis": answer.basis,
        "reasons": json.loads(answer.reasons),
    }
