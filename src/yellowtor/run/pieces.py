"""A source of many files: each is scanned, and written, as a part of the job's records.

The folder of the answers has a manifest: a file of JSON for each written file, with the state of the ledger that its
answers are from. A file that has all of these is not written again.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import nullcontext
from dataclasses import asdict
from typing import TypeVar

from yellowtor.contracts.table import InPieces, Piece
from yellowtor.errors import BadSource
from yellowtor.run.answer_files import answers_of, read_entry, write_entry
from yellowtor.run.crew import PieceOrder, PieceWritten
from yellowtor.run.parts import Parts
from yellowtor.run.phases.marker_drawing import Drawing
from yellowtor.run.phases.row_reader import RowReader, shown_key
from yellowtor.run.phases.scan import PartScan, scan
from yellowtor.run.phases.steady import scan_steadily
from yellowtor.run.phases.write_result import Changes, WriteResult
from yellowtor.run.phases.writeback import WriteBack
from yellowtor.run.ports import Watcher

T = TypeVar("T")
SHOWN = 16  # cells that a dry run names


def reported(files: Iterable[tuple[str, T]], watch: Watcher) -> Iterator[tuple[str, T]]:
    """Each of these files, by name; report it to the watcher afterwards."""
    there = list(files)
    for done, (name, one) in enumerate(there, 1):
        yield name, one
        watch.file_done(name, done, len(there))


def piece_of(parts: Parts, name: str) -> Piece:
    """A file of the job's source. Raises BadSource."""
    assert isinstance(parts.table, InPieces), "only a folder has pieces"
    return parts.table.piece(name)


def scan_piece(parts: Parts, name: str, number: int, watch: Watcher, *, writes: bool) -> PartScan:
    """Scan one file of the source. Raises BadSource.

    A run that writes does not want a file of answers that somebody has changed.
    """
    piece = piece_of(parts, name)
    answers = answers_of(piece, parts.book.written)
    if writes and parts.job.write.if_edited == "stop" and answers.is_edited():
        raise BadSource(
            f"{answers.name} is not as a run wrote it, and would be overwritten. Delete or rename it, or say "
            'if_edited = "backup" under [write]. Nothing was sent, nothing written.'
        )
    askings = [service.asking for service in parts.services]
    book = parts.book.scanning_of(number)

    ours = parts.book.written
    return scan_steadily(piece.table, lambda: scan(parts.job, piece.table, askings, book, ours, watch, whole=False))


def check_sizes(parts: Parts, pieces: Mapping[str, int], scans: Sequence[PartScan]) -> None:
    """Raise BadSource if a file has lost records to another: a key that is in both."""
    sizes = parts.book.sizes()
    for (name, number), found in zip(pieces.items(), scans, strict=True):
        if sizes.get(number, 0) < found.counts.records:
            raise BadSource(_key_twice(parts, name, number))


def _key_twice(parts: Parts, name: str, number: int) -> str:
    table = piece_of(parts, name).table
    reader = RowReader(parts.job, table)
    there = parts.book.scanning_of(number)
    for batch in table.batches():
        keys = reader.keys(batch)
        if strays := there.elsewhere(keys):
            key = next(key for key in keys if key in strays)
            return (
                f"{table.name}: the key {shown_key(key)!r} in column {reader.key_columns} is also in another file; a "
                "key must tell records apart. Nothing was sent."
            )
    return f"{table.name} was changed while it was read. Run the job again. Nothing was sent."


def write_piece(parts: Parts, order: PieceOrder, watch: Watcher) -> PieceWritten:
    """Write one file of the answers, whole or not at all, and its entry in the manifest."""
    piece = piece_of(parts, order.name)
    answers = answers_of(piece, parts.book.written)
    state = {"file": order.name, "source": order.source, "answers": order.answers, "records": order.records}
    before = read_entry(piece.entry)
    complete = order.source and {**before, **state} == before and answers.is_there()
    if complete and not answers.is_edited():
        watch.advanced(order.records)
        return PieceWritten(WriteResult(**before["result"]), untouched=True)
    book = parts.book.judging_of(order.number)
    back = WriteBack(parts.job, piece.table, book, watch, parts.leave, repair=order.repair)
    with answers.writing(parts.dated, watch.remark) as to:
        no_markers = lambda: nullcontext(Drawing(None, (), ()))  # noqa: E731
        result = back.write(to, no_markers, scanned=order.source, records=order.records)
    write_entry(piece.entry, state | {"sha256": answers.sha256(), "result": asdict(result)})
    return PieceWritten(result, untouched=False)


def changes_of(parts: Parts, pieces: Mapping[str, int], repair: bool, watch: Watcher) -> Changes:
    """What writing these files would change now."""
    whole = Changes()
    for name, number in reported(pieces.items(), watch):
        book = parts.book.judging_of(number)
        back = WriteBack(parts.job, piece_of(parts, name).table, book, watch, parts.leave, repair=repair)
        found = back.changes(SHOWN - len(whole.first))
        whole = Changes(whole.records + found.records, whole.cells + found.cells, [*whole.first, *found.first])
    return whole


def joined(results: Sequence[WriteResult]) -> WriteResult:
    """The results of all files, as one."""
    counts = [vars(result) for result in results]
    numbers = {name: sum(one[name] for one in counts) for name, value in vars(WriteResult()).items() if value == 0}
    refused = [pair for result in results for pair in result.first_refused]
    return WriteResult(**numbers, first_refused=refused)
