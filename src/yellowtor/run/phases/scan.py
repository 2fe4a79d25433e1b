"""Phase one: read the source to its end, put addresses together, note what each record has become.

Records whose raw cells and coordinates are as they were last time never come out of the ledger's join.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from yellowtor.addresses.keys import Asking, digest, raw_hashes, subject_key
from yellowtor.answers.geography.cell_coordinates import (
    NOTHING,
    CellCoordinates,
    Finding,
    read_coordinates,
    read_position,
)
from yellowtor.answers.geography.outliers import LEAST
from yellowtor.answers.ledger_rows import Known, Work, WorkState
from yellowtor.contracts.position import Position
from yellowtor.contracts.subject import Composer, Subject
from yellowtor.contracts.table import ColumnAccess, InTransactions, Row, Table
from yellowtor.errors import BadJob, BadSource
from yellowtor.run.jobs.job import Job
from yellowtor.run.ports import ScanBook, Watcher, WrittenBook

NAMED = 100  # records that are named for what is wrong with them
PARTED = "\x1f"  # between the parts of a key of several columns


@dataclass
class Findings:
    """Records with the same problem of their own coordinates: their number, and the first keys."""

    records: int = 0
    keys: list[str] = field(default_factory=list)

    def add(self, key: str) -> None:
        self.records += 1
        if self.records <= NAMED:
            self.keys.append(key)


@dataclass(frozen=True, slots=True)
class ScanResult:
    """Counts of the scan: records read, new, changed, vanished; and the problems of their own coordinates."""

    records: int
    new: int
    changed: int
    vanished: int
    findings: Mapping[Finding, Findings] = field(default_factory=dict)


class RowReader:
    """Where in a row the job's columns stand. Raises BadSource when one is missing."""

    def __init__(self, job: Job, table: Table) -> None:
        self.composing: Composer = job.composing(table.decimal)
        columns = list(self.composing.raw_columns())
        keys = job.records.keys() or table.keys
        wanted = [*keys, *columns, *([job.records.name] if job.records.name else [])]
        named = [*wanted, *filter(None, job.held_columns()), *job.write.columns.mapped().values()]
        if twice := [name for name in dict.fromkeys(named) if table.header.count(name) > 1]:
            raise BadSource(
                f"{table.name} has more than one column called {', '.join(map(repr, twice))}, which the job names. "
                "Give each a different name. Nothing was sent."
            )
        if missing := [name for name in dict.fromkeys(wanted) if name not in table.header]:
            have = ", ".join(filter(None, table.header))
            raise BadSource(
                f"{table.name} has no column {', '.join(map(repr, missing))}, which the job names "
                f"(it has: {have}). Nothing was sent."
            )
        at = {name: i for i, name in enumerate(table.header)}
        self._columns = columns
        self.key_columns = " and ".join(map(repr, keys))
        self._keys = [at[key] for key in keys]
        self._exact_keys = table.exact_keys
        self._name = at[job.records.name] if job.records.name else None
        self._raw = [at[name] for name in columns]
        lat, lon = job.held_columns()
        self._held = (at[lat], at[lon]) if lat in at and lon in at else None
        self._in_reverse = job.in_reverse
        self._decimal = table.decimal
        self._area = job.judge.thresholds().area

    def keys(self, batch: Sequence[Row]) -> list[str]:
        """The identity of each record; empty where a part of its key is."""
        first, *others = (identities(_column(batch, at), exact=self._exact_keys) for at in self._keys)
        if not others:
            return first
        return [PARTED.join(parts) if all(parts) else "" for parts in zip(first, *others, strict=True)]

    def raw_hashes(self, batch: Sequence[Row]) -> list[str]:
        """The fingerprint of each record's address cells."""
        return raw_hashes(zip(*(_column(batch, at) for at in self._raw), strict=True))

    def raw_hash_with(self, row: Row, texts: Mapping[str, str]) -> str:
        """The fingerprint of a record's address cells, some of which have other texts now."""
        cells = [texts.get(name, row[at]) for name, at in zip(self._columns, self._raw, strict=True)]
        return next(iter(raw_hashes([cells])))

    def name(self, row: Row) -> str:
        return row[self._name].strip() if self._name is not None else ""

    def cells(self, row: Row) -> dict[str, str]:
        return dict(zip(self._columns, (row[at] for at in self._raw), strict=True))

    def held_positions(self, batch: Sequence[Row]) -> tuple[Sequence[Position | None], Sequence[Finding | None]]:
        """The position that each record has already, and what is wrong with it.

        In reverse it is the subject of the question, and the record keeps none.
        """
        lats, lons = (_column(batch, at) for at in self._held) if self._held else ((), ())
        if not any(lats) and not any(lons):
            return [None] * len(batch), [None] * len(batch)
        read = [read_position(lat, lon, self._decimal, self._area) for lat, lon in zip(lats, lons, strict=True)]
        wrong = [finding for _, finding in read]
        return [None if self._in_reverse else position for position, _ in read], wrong

    def held_in(self, batch: Sequence[Row], places: Sequence[int]) -> list[CellCoordinates]:
        """The coordinates that the records in these places have already, and what is wrong with them."""
        if self._held is None or self._in_reverse or not places:
            return [NOTHING] * len(places)
        lats, lons = (_column(batch, at) for at in self._held)
        return [read_coordinates(lats[at], lons[at], self._decimal, self._area) for at in places]

    def held(self, row: Row) -> CellCoordinates:
        """The coordinates of one record, and what is wrong with them."""
        return self.held_in([row], [0])[0]


def find_record(job: Job, table: Table, key: str) -> tuple[str, Mapping[str, str], Subject, str]:
    """The name, the cells and the subject of the record with this key, and why it is not asked. Raises BadSource."""
    reader = RowReader(job, table)
    wanted = key_as_shown(key)
    for batch in table.batches():
        keys = reader.keys(batch)
        if wanted in keys:
            row = batch[keys.index(wanted)]
            cells = reader.cells(row)
            subject = reader.composing.compose(cells)
            return reader.name(row), cells, subject, reader.composing.why_not(cells, subject)
    raise BadSource(f"{table.name} has no record with the key {key!r}. Nothing was sent.")


def _column(batch: Sequence[Row], at: int) -> Sequence[str]:
    return batch.column(at) if isinstance(batch, ColumnAccess) else [row[at] for row in batch]


def shown_key(key: str) -> str:
    """An identity as people are shown it."""
    return key.replace(PARTED, " / ")


def key_as_shown(text: str) -> str:
    """The identity that people are shown so."""
    return PARTED.join(map(identity, text.split(" / ")))


def identity(key: str, *, exact: bool = False) -> str:
    """The identity of a key: 12, "12" and 12.0 are equal; 012 is different. U+0000 is ignored.

    Spaces around it are ignored too, unless exact: a database that distinguishes them.
    """
    text = key.replace("\0", "")
    text = text if exact and text.strip() else text.strip()
    return text.partition(".")[0] if "." in text and re.fullmatch(r"-?\d+\.0+", text) else text


def identities(keys: Iterable[str], *, exact: bool = False) -> list[str]:
    """The identity of each of many keys."""
    texts = list(keys)
    together = "".join(texts)
    stripped = list(map(str.strip, texts))
    if "." in together or "\0" in together or (exact and stripped != texts):
        return [identity(text, exact=exact) for text in texts]
    return stripped


def scan(
    job: Job,
    table: Table,
    askings: Sequence[Asking],
    book: ScanBook,
    ours: WrittenBook,
    watch: Watcher,
    fingerprint: str,
) -> ScanResult:
    """Scan the whole source, unless its fingerprint and the rules are those of the last scan.

    askings are the services' ways of asking; ours knows the positions that runs have written.

    Raises BadSource for an empty or repeated key, BadJob if all records are in the area only with swapped coordinates.
    """
    reader = RowReader(job, table)
    rules = digest(reader.composing.rules(), *map(repr, askings), str(job.records.keep))
    anew = book.composed_by() != rules
    source = digest(
        fingerprint, rules, job.records.model_dump_json(), repr(job.write.columns.mapped()), repr(job.judge.area)
    )
    watch.phase("Reading")
    if book.recall(source if fingerprint else "") and fingerprint:
        book.take_up_pins()
        return ScanResult(book.count(), 0, 0, 0)
    corrected = book.corrections()
    new = changed = coordinates = 0
    findings: dict[Finding, Findings] = {}
    for batch in table.batches():
        keys = reader.keys(batch)
        if not all(keys):
            raise no_key(reader, table, book.count() + keys.index("") + 1)
        held, wrong = reader.held_positions(batch)
        coordinates += sum(1 for position, finding in zip(held, wrong, strict=True) if position or finding)
        _add_findings(findings, keys, wrong)
        scanned = list(zip(keys, reader.raw_hashes(batch), held, strict=True))
        known, twice = book.note(scanned, all_of_them=anew)
        if twice is not None:
            raise key_twice(reader, table, twice)
        known, taken = _without_ours(known, ours)
        _add_findings(findings, taken, [Finding.OURS] * len(taken))
        rows = dict(zip(keys, batch, strict=True)) if known else {}
        keep = job.records.keep
        book.put_work([_work(reader, askings, rows[item.key], item, corrected, keep=keep) for item in known])
        new += sum(item.is_new for item in known)
        changed += sum(not item.is_new and item.raw_hash != item.known_hash for item in known)
        watch.advanced(len(batch))
    _check_order(job, findings, coordinates)
    if not book.count() and not isinstance(table, InTransactions):
        raise BadSource(f"{table.name} has no records below its header. Nothing was sent.")
    vanished = book.close()
    book.take_up_pins()
    if anew:
        book.put_composed_by(rules)
    if fingerprint and not findings and table.fingerprint() == fingerprint:
        book.keep(source)
    return ScanResult(book.count(), new, changed, vanished, findings)


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


def _work(
    reader: RowReader,
    askings: Sequence[Asking],
    row: Row,
    item: Known,
    corrected: Mapping[str, Subject],
    *,
    keep: bool,
) -> Work:
    """What a record becomes: kept, incomplete, or one to ask about."""
    cells = reader.cells(row)
    asked = reader.composing.compose(cells)
    key = subject_key(asked)
    if key in corrected:
        asked = corrected[key]
        key = subject_key(asked)
    held_hash = held_since(item)
    if keep and is_kept(item, held_hash):
        state = WorkState.KEPT
        reasons = ["has coordinates of its own"]
    elif why := reader.composing.why_not(cells, asked) or lacking(askings, asked):
        state = WorkState.INCOMPLETE
        reasons = [why]
    else:
        state = WorkState.ASK
        reasons = []
    able = [asking for asking in askings if not asking.lacks(asked)] if state is WorkState.ASK else []
    questions = {asking.service: asking.question_key(key) for asking in able}
    known = not item.is_new
    return Work(item.place, item.key, item.raw_hash, item.held, held_hash, state, reasons, asked, key, questions, known)


def lacking(askings: Sequence[Asking], asked: Subject) -> str:
    """Why no service can be asked about this; empty where one can."""
    why = [asking.lacks(asked) for asking in askings]
    return why[0] if all(why) else ""


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
