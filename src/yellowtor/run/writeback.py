"""Phase three: re-open the source, write each answer by key, and draw the markers.

A record whose address is no longer the one that was asked about is left alone and counted. Only the
columns that the job names are touched.
"""

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from operator import itemgetter
from pathlib import Path
from typing import Any

from yellowtor.addresses.address import Address
from yellowtor.addresses.keys import raw_hash
from yellowtor.answers.outcome import Outcome
from yellowtor.answers.position import written
from yellowtor.answers.work import Answer
from yellowtor.run.job import Job
from yellowtor.run.ports import JudgeBook, MarkerFile, MarkerFiles, Row, Table, Watcher
from yellowtor.run.scan import RowReader, identity

FOR_MARKERS = frozenset(Answer._fields)


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
        self._rest = _taking([name for name in job.write.columns.mapped() if name not in {"latitude", "longitude"}])
        self._places = job.write.columns.latitude is not None
        self._texts = frozenset(job.write.columns.mapped())
        self._sure = {"placed", "doubtful"} if job.write.doubtful else {"placed"}
        self._position: int | None = None
        self._written: list[tuple[str, str | None]] = []
        self.result = WriteResult()

    def write(self, to: Path, markers: MarkerFiles, *, scanned: str) -> WriteResult:
        """Write the target and the marker files; each takes its place whole or not at all.

        scanned is the source's fingerprint as it was scanned: while it holds, the rows are the scan's own, in
        its order, and none need be compared with what was asked about.
        """
        self._watch.phase("Writing")
        self._position = 0 if self._table.fingerprint() == scanned else None
        columns = list(self._job.write.columns.mapped().values())
        with markers() as files:
            self._table.rewrite(to, columns, lambda batch: self._batch(batch, files))
        self._book.note_written(self._written, in_place=self._job.write.in_place)
        return self.result

    def _batch(self, batch: Sequence[Row], files: Sequence[MarkerFile]) -> list[Sequence[Any] | None]:
        answers = self._answers(batch, FOR_MARKERS if files else self._texts)
        cells = [None if answer is None else self._cells(answer) for answer in answers]
        for file in files:
            for row, answer in zip(batch, answers, strict=True):
                if answer is not None:
                    file.add(_marker(answer, self._reader.name(row)))
        edited = cells.count(None)
        self.result.edited += edited
        self.result.written += len(cells) - edited
        self._watch.advanced(len(batch))
        return cells

    def _answers(self, batch: Sequence[Row], wanted: frozenset[str]) -> Sequence[Answer | None]:
        """The answer for each row; None where its address is not the one that was asked about."""
        keys = [identity(self._reader.key(row)) for row in batch]
        if self._position is not None:
            in_order = self._book.answers_in_order(self._position, len(batch), wanted)
            self._position += len(batch)
            if [answer.key for answer in in_order] == keys:
                return in_order
        known = self._book.answers(keys, wanted)
        found = [known.get(key) for key in keys]
        return [
            answer if answer and answer.raw_hash == raw_hash(self._reader.raw(row)) else None
            for row, answer in zip(batch, found, strict=True)
        ]

    def _cells(self, answer: Answer) -> Sequence[Any]:
        """What goes into the job's columns, in their order."""
        return (*self._coordinates(answer), *self._rest(answer)) if self._places else self._rest(answer)

    def _coordinates(self, answer: Answer) -> tuple[Any, Any]:
        """What goes into the coordinate columns: a point of ours, nothing, or no change."""
        outcome, lat, lon = answer.outcome, answer.lat, answer.lon
        if outcome in self._sure and lat is not None and lon is not None:
            text = written(lat, lon)
            if text != answer.written:
                self._written.append((answer.key, text))
            return lat, lon
        if outcome == Outcome.KEPT.value:
            return self._leave, self._leave
        if answer.held is not None and answer.held != answer.written:
            self.result.stale += outcome == Outcome.UNPLACED.value
            return self._leave, self._leave
        return None, None


def _taking(names: Sequence[str]) -> Callable[[Answer], Sequence[Any]]:
    """How the cells of these parts are got from an answer."""
    places = [Answer._fields.index(name) for name in names]
    if len(places) > 1 and "reasons" not in names:
        return itemgetter(*places)
    reasons = Answer._fields.index("reasons")
    return lambda answer: [
        "; ".join(json.loads(answer.reasons)) if place == reasons else answer[place] for place in places
    ]


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
