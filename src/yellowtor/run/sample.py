"""A sample of a job's records for a cheap test: drawn by a seed, in proportion to strata, the same in every order."""

import hashlib
import heapq
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yellowtor.answers.record_answers import Answer
from yellowtor.contracts.subject import Subject
from yellowtor.contracts.table import Answering, OnWritten, Row, Table
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.row_reader import RowReader
from yellowtor.run.ports import JudgeBook

BEGINNING = 2  # characters of a postcode, or of a town, that are a stratum


@dataclass
class Stratum:
    """Records that are alike: how many there are, and the drawn ones by their keys."""

    records: int = 0
    drawn: dict[str, Row] = field(default_factory=dict)


@dataclass
class DrawnSample:
    """The strata of a job's records by their names, and how many records have nothing to ask about."""

    strata: dict[str, Stratum]
    header: Sequence[str]
    left_out: int

    @property
    def keys(self) -> set[str]:
        return {key for stratum in self.strata.values() for key in stratum.drawn}

    @property
    def rows(self) -> list[Row]:
        return [row for stratum in self.strata.values() for row in stratum.drawn.values()]


def draw(job: Job, table: Table, book: JudgeBook, size: int, seed: int) -> DrawnSample:
    """Draw about this many records: of each stratum in proportion, of small ones at least one."""
    reader = RowReader(job, table)
    counts: dict[str, int] = {}
    best: dict[str, list[tuple[int, str, Row]]] = {}
    left_out = 0
    for key, row, name in _named(reader, table, book):
        if not name:
            left_out += 1
            continue
        counts[name] = counts.get(name, 0) + 1
        heap = best.setdefault(name, [])
        entry = (-_place(seed, key), key, row)
        if len(heap) < size:
            heapq.heappush(heap, entry)
        else:
            heapq.heappushpop(heap, entry)
    shares = allocate(counts, size)
    strata = {}
    for name, count in counts.items():
        chosen = sorted(best[name], reverse=True)[: shares[name]]
        strata[name] = Stratum(count, {key: row for _, key, row in chosen})
    return DrawnSample(strata, table.header, left_out)


def _named(reader: RowReader, table: Table, book: JudgeBook) -> Iterator[tuple[str, Row, str]]:
    """Each record with its key, its row and the name of its stratum; empty if nothing is asked about it."""
    for batch in table.batches():
        keys = reader.keys(batch)
        known = book.answers(keys, {"level"})
        for key, row in zip(keys, batch, strict=True):
            cells = reader.cells(row)
            subject = reader.composing.compose(cells)
            asked = not reader.composing.why_not(cells, subject)
            yield key, row, _stratum(subject, known.get(key)) if asked else ""


def _stratum(subject: Subject, answer: Answer | None) -> str:
    """What records have in common: how they stand, if that is known, and where they are."""
    parts = subject.as_dict()
    where = parts.get("postcode") or parts.get("town") or parts.get("whole") or ""
    stands = f"{answer.outcome} {answer.level}" if answer and answer.outcome else "not known"
    return f"{stands} {parts.get('country', '')} {where[:BEGINNING].casefold()}"


def _place(seed: int, key: str) -> int:
    """The place of a record in the order of this seed."""
    return int.from_bytes(hashlib.blake2b(f"{seed} {key}".encode(), digest_size=8).digest(), "big")


def allocate(counts: Mapping[str, int], size: int) -> dict[str, int]:
    """How many to draw of each stratum: in proportion, by largest remainders; at least one each while there is room.

    >>> allocate({"a": 90, "b": 9, "c": 1}, 10)
    {'a': 7, 'b': 2, 'c': 1}
    """
    total = sum(counts.values())
    size = min(size, total)
    if not total:
        return {}
    least = {name: 1 if len(counts) <= size else 0 for name in counts}
    rest = size - sum(least.values())
    exact = {name: rest * count / total for name, count in counts.items()}
    shares = {name: min(counts[name], least[name] + int(exact[name])) for name in counts}
    order = sorted(counts, key=lambda name: (-(exact[name] % 1), -counts[name], name))
    while sum(shares.values()) < size:
        for name in order:
            if sum(shares.values()) < size and shares[name] < counts[name]:
                shares[name] += 1
    return shares


class SampleTable:
    """The drawn rows as a table, for a scan of them alone."""

    remarks: Sequence[str] = ()

    def __init__(self, table: Table, rows: Sequence[Row]) -> None:
        self.name = table.name
        self.header = table.header
        self.keys = table.keys
        self.exact_keys = table.exact_keys
        self.decimal = table.decimal
        self._rows = rows

    def batches(self) -> Iterator[Sequence[Row]]:
        if self._rows:
            yield self._rows

    def fingerprint(self) -> str:
        return ""

    def refresh(self) -> bool:
        return False

    def check_target(self, to: Path | None) -> Sequence[str]:
        raise NotImplementedError(f"a sample is not written, not even to {to}")

    def rewrite(self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten) -> None:
        raise NotImplementedError(f"a sample is not written: {to, columns, answering, on_written}")
