"""Phase one: read the source to its end, put addresses together, note what each record has become.

Records whose raw cells and coordinates are as they were last time never come out of the ledger's join.
"""

import sys
from collections.abc import Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import NamedTuple, Self

from yellowtor.addresses.keys import Asking, digest
from yellowtor.answers.geography.cell_coordinates import (
    Finding,
)
from yellowtor.answers.geography.outliers import LEAST
from yellowtor.answers.ledger_rows import Known, MetRecords, NewRecords, Work
from yellowtor.contracts.position import Position
from yellowtor.contracts.table import ByColumn, InTransactions, Row, Table
from yellowtor.errors import BadJob, BadSource
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.composing_helpers import SubjectComposer
from yellowtor.run.phases.new_records import NewRecordTaker, state_of
from yellowtor.run.phases.row_reader import RowReader, shown_key
from yellowtor.run.ports import ScanBook, Watcher, WrittenBook

SWITCH_S = 1e-4  # after so long, a thread that reads lets the one that writes go on: else it waits 5 ms at each step
MANY = 5_000  # new records
NAMED = 100  # records that are named for what is wrong with them


@dataclass
class Findings:
    """Records with the same problem of their own coordinates: their number, and the first keys."""

    records: int = 0
    keys: list[str] = field(default_factory=list)

    def add(self, key: str) -> None:
        self.records += 1
        if self.records <= NAMED:
            self.keys.append(key)

    def join(self, others: "Findings") -> None:
        """Add what was found in another part."""
        self.records += others.records
        self.keys += others.keys[: max(0, NAMED - len(self.keys))]


class ScanResult(NamedTuple):
    """Counts of the scan: records read, new, changed, vanished; and the problems of their own coordinates."""

    records: int
    new: int
    changed: int
    vanished: int
    findings: Mapping[Finding, Findings]


@dataclass(frozen=True, slots=True)
class PartScan:
    """The same of a part of the records, and its fingerprint; coordinates are the records with some of their own."""

    counts: ScanResult
    source: str
    coordinates: int = 0


def scan(
    job: Job,
    table: Table,
    askings: Sequence[Asking],
    book: ScanBook,
    ours: WrittenBook,
    watch: Watcher,
    *,
    whole: bool = True,
) -> PartScan:
    """Scan a table, unless its fingerprint and the rules are those of its last scan; end_scan() follows.

    whole: it is all of the records, not a part of them. askings are the services' ways of asking; ours knows the
    positions that runs have written.

    Raises BadSource for an empty or repeated key, BadJob if all records are in the area only with swapped coordinates.
    """
    fingerprint = table.fingerprint()
    reader = RowReader(job, table)
    rules = composing_rules(job, reader, askings)
    anew = book.composed_by() != rules
    source = digest(
        fingerprint, rules, job.records.model_dump_json(), repr(job.write.columns.mapped()), repr(job.judge.area)
    )
    if book.recall(source if fingerprint else "") and fingerprint:
        return PartScan(ScanResult(book.count(), 0, 0, 0, {}), fingerprint)
    taking = _Taking(job, reader, table, askings, book, ours, anew=anew)
    with taking:
        batches = table.batches_of(reader.columns) if isinstance(table, ByColumn) else table.batches()
        for batch in batches:
            taking.take(batch)
            watch.advanced(len(batch))
        taking.settle()
    if whole:
        _check_order(job, taking.findings, taking.coordinates)
        _check_any(table, book.count())
    vanished = book.close()
    if fingerprint and not taking.findings and table.fingerprint() == fingerprint:
        book.keep(source)
    counts = ScanResult(book.count(), taking.new, taking.changed, vanished, taking.findings)
    return PartScan(counts, fingerprint, taking.coordinates)


def composing_rules(job: Job, reader: RowReader, askings: Sequence[Asking]) -> str:
    """What decides how addresses are composed, as a digest."""
    return digest(reader.composing.rules(), *map(repr, askings), str(job.records.keep))


def end_scan(
    job: Job, table: Table, askings: Sequence[Asking], book: ScanBook, parts: Sequence[PartScan]
) -> ScanResult:
    """What the parts of a whole scan have found. Raises BadSource where there is no record at all."""
    counts = [part.counts for part in parts]
    records, new, changed, vanished = (sum(column) for column in zip(*(count[:4] for count in counts), strict=True))
    _check_any(table, records)
    findings: dict[Finding, Findings] = {}
    for count in counts:
        for finding, found in count.findings.items():
            findings.setdefault(finding, Findings()).join(found)
    _check_order(job, findings, sum(part.coordinates for part in parts))
    if new >= MANY:
        book.analyze()
    book.take_up_pins()
    if book.composed_by() != (rules := composing_rules(job, RowReader(job, table), askings)):
        book.put_composed_by(rules)
    return ScanResult(records, new, changed, vanished, findings)


def _check_any(table: Table, records: int) -> None:
    """Raise BadSource for a file without records."""
    if not records and not isinstance(table, InTransactions):
        raise BadSource(f"{table.name} has no records below its header. Nothing was sent.")


class _Batch(NamedTuple):
    """Rows of the source, their keys and their own positions."""

    rows: Sequence[Row]
    keys: Sequence[str]
    held: Sequence[Position | None]


class _Taking:
    """Takes the batches of a scan, and counts. anew: every record is composed again.

    New records are put into the ledger by a thread of its own, while the next ones are read and composed.
    """

    def __init__(
        self,
        job: Job,
        reader: RowReader,
        table: Table,
        askings: Sequence[Asking],
        book: ScanBook,
        ours: WrittenBook,
        *,
        anew: bool,
    ) -> None:
        self._keep = job.records.keep
        self._reader = reader
        self._table = table
        self._book = book
        self._ours = ours
        self._anew = anew
        self._composer = SubjectComposer(reader.composing, askings, book.corrections())
        self._taker = NewRecordTaker(self._composer, book, keep=self._keep)
        self._records = 0
        self._all_new = False
        self._put: tuple[Future[bool], _Batch, NewRecords] | None = None
        self._writer = ThreadPoolExecutor(1)
        self.new = self.changed = self.coordinates = 0
        self.findings: dict[Finding, Findings] = {}

    def __enter__(self) -> Self:
        self._often = sys.getswitchinterval()
        sys.setswitchinterval(SWITCH_S)
        return self

    def __exit__(self, *error: object) -> None:
        self._writer.shutdown()
        self._taker.close()
        sys.setswitchinterval(self._often)

    def take(self, batch: Sequence[Row]) -> None:
        """Note a batch, and store what its new and changed records have become. Raises BadSource for a bad key."""
        reader = self._reader
        keys = reader.keys(batch)
        if not all(keys):
            raise no_key(reader, self._table, self._records + keys.index("") + 1)
        self._records += len(keys)
        held, wrong = reader.held_positions(batch)
        self.coordinates += sum(1 for position, finding in zip(held, wrong, strict=True) if position or finding)
        _add_findings(self.findings, keys, wrong)
        read = _Batch(batch, keys, held)
        if not self._all_new:
            self._all_new = self._book.expects_new()
        if self._all_new:
            self._take_new(read)
        else:
            self._take_known(read)

    def _take_new(self, read: _Batch) -> None:
        """Prepare records that no scan has met while those of the batch before are put into the ledger."""
        held = read.held
        if any(held):
            self.settle()
            there = {position for position in held if position is not None}
            taken = self._ours.positions(sorted(there))
            held = [None if position in taken else position for position in held]
        records = self._taker.prepare(read.keys, self._reader.address_columns(read.rows), held)
        self.settle()
        if not self._all_new:
            self._take_known(read)
            return
        self._put = (self._writer.submit(self._taker.put, records), read, records)

    def settle(self) -> None:
        """Wait for the batch that is being put. Its records that are not new after all are compared with the known."""
        if self._put is None:
            return
        done, read, records = self._put
        self._put = None
        if not done.result():
            self._all_new = False
            self._take_known(read)
            return
        self.new += len(read.keys)
        pairs = zip(read.keys, read.held, records.held, strict=True)
        ours = [key for key, before, held in pairs if before is not None and held is None]
        _add_findings(self.findings, ours, [Finding.OURS] * len(ours))

    def _take_known(self, read: _Batch) -> None:
        """Take a batch in which records may be known."""
        reader = self._reader
        scanned = MetRecords(read.keys, reader.raw_hashes(read.rows), read.held)
        known, twice = self._book.note(scanned, all_of_them=self._anew)
        if twice is not None:
            raise key_twice(reader, self._table, twice)
        known, taken = _without_ours(known, self._ours)
        _add_findings(self.findings, taken, [Finding.OURS] * len(taken))
        columns = reader.address_columns(read.rows) if known else ()
        cells = dict(zip(read.keys, zip(*columns, strict=True), strict=True)) if known else {}
        self._book.put_work([self._work(cells[item.key], item) for item in known])
        self.new += sum(item.is_new for item in known)
        self.changed += sum(not item.is_new and item.raw_hash != item.known_hash for item in known)

    def _work(self, cells: Sequence[str], item: Known) -> Work:
        """What a record with this address becomes: kept, incomplete, or one to ask about."""
        held_hash = held_since(item)
        kept = self._keep and is_kept(item, held_hash)
        composed = self._composer.compose(self._reader.named(cells), kept=kept)
        reasons = (composed.why,) if composed.why else ()
        state = state_of(composed.why, kept=kept)
        known = not item.is_new
        return Work(item.place, item.key, item.raw_hash, item.held, held_hash, state, reasons, composed, known)


def _add_findings(findings: dict[Finding, Findings], keys: Sequence[str], wrong: Sequence[Finding | None]) -> None:
    """Note what is wrong with the coordinates of these records."""
    if any(wrong):
        for key, finding in zip(keys, wrong, strict=True):
            if finding:
                findings.setdefault(finding, Findings()).add(shown_key(key))


def _check_order(job: Job, findings: Mapping[Finding, Findings], coordinates: int) -> None:
    """Raise BadJob if all records with coordinates are in the job's area only with swapped coordinates."""
    swapped = findings.get(Finding.SWAPPED)
    if swapped and coordinates >= LEAST and swapped.records == coordinates:
        raise BadJob(
            f"All {coordinates:,} records with coordinates lie in judge.area = {job.judge.area} only if latitude and "
            "longitude are swapped. Is the area in its order (west, south, east, north)? Are the columns for latitude "
            "and longitude the right ones? Nothing was sent, nothing written."
        )


def _without_ours(known: Sequence[Known], ours: WrittenBook) -> tuple[list[Known], list[str]]:
    """The records without coordinates that were written for others (copied, or sorted apart); the keys of those."""
    held = {item.held for item in known if item.held is not None and item.held not in {item.written, item.answered}}
    taken = ours.positions(sorted(held)) if held else set[Position]()
    if not taken:
        return list(known), []
    keys = [item.key for item in known if item.held in taken and item.held not in {item.written, item.answered}]
    return [item._replace(held=None) if item.held in taken else item for item in known], keys


def held_since(item: Known) -> str:
    """The address that a record had when its present coordinates were first seen."""
    return item.held_hash if item.known_held == item.held and item.held_hash else item.raw_hash


def is_kept(item: Known, held_hash: str) -> bool:
    """Whether the coordinates are the record's own, and belong to its current address."""
    foreign = item.held is not None and item.held not in {item.written, item.answered}
    return foreign and held_hash == item.raw_hash


def no_key(reader: RowReader, table: Table, at: int) -> BadSource:
    """What to say of a record without a key."""
    return BadSource(
        f"{table.name}: record {at} has no key in column {reader.key_columns}; each record needs one. Nothing was sent."
    )


def key_twice(reader: RowReader, table: Table, key: str) -> BadSource:
    """What to say of a key that two records have."""
    return BadSource(
        f"{table.name}: the key {shown_key(key)!r} in column {reader.key_columns} occurs twice; a key must tell "
        "records apart. Nothing was sent."
    )
