"""The verb `markers`: writes marker files from what the ledger knows. Nothing is sent, and no table is written."""

from dataclasses import dataclass

from yellowtor.answers.record_answers import UNKNOWN
from yellowtor.contracts.table import Table
from yellowtor.errors import BadJob
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.marker_drawing import drawing
from yellowtor.run.phases.marking import FOR_MARKERS, MarkerParts
from yellowtor.run.phases.row_reader import RowReader
from yellowtor.run.ports import JudgeBook, MarkerFiles, Watcher


@dataclass(frozen=True)
class MarkersWritten:
    """Counts: markers; records without a position, that no run has read, and that were edited since the last one."""

    markers: int
    without_position: int
    unknown: int
    edited: int


def write_markers(
    job: Job,
    table: Table,
    book: JudgeBook,
    parts: MarkerParts,
    files: MarkerFiles,
    watch: Watcher,
) -> MarkersWritten:
    """Write the marker files of a job whose records are in this table. Raises YellowtorError; nothing is half written.

    A record that was edited since it was judged has no marker: a run judges it first.
    """
    records = unknown = edited = 0
    with drawing(job, table, parts, files, watch) as drawn:
        reader = RowReader(job, table)
        for batch in table.batches():
            keys = reader.keys(batch)
            known = book.answers(keys, FOR_MARKERS)
            answers = []
            for key, raw_hash in zip(keys, reader.raw_hashes(batch), strict=True):
                answer = known.get(key, UNKNOWN)
                unknown += not answer.id
                if answer.id and answer.raw_hash != raw_hash:
                    edited += 1
                    answer = UNKNOWN
                answers.append(answer)
            drawn.draw(batch, answers)
            watch.advanced(len(batch))
            records += len(batch)
        if unknown == records:
            raise BadJob("The ledger has no answer for these records: `yellowtor run` first. Nothing was written.")
    return MarkersWritten(drawn.count, drawn.without_position, unknown, edited)
