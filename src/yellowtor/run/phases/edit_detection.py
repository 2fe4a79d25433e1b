"""Detects changes by people in the files that a run overwrites, before the first request.

A file that is unchanged since a run wrote it may be overwritten. Any other is compared cell by cell with the answers.
"""

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yellowtor.contracts.table import HasFormulas, Row, Table
from yellowtor.errors import BadSource
from yellowtor.files import Announce, fingerprint, keep_copy, real_path, state_of
from yellowtor.run.phases.write_result import Change
from yellowtor.run.phases.writeback import WriteBack
from yellowtor.run.ports import WrittenBook

SHOWN = 8  # cells that a message names


@dataclass
class Edits:
    """Cells of a copy that are neither the source's nor answers: how many, and the first of them."""

    cells: int = 0
    first: list[Change] = field(default_factory=list)

    def add(self, change: Change) -> None:
        self.cells += 1
        if self.cells <= SHOWN:
            self.first.append(change)


def edited_files(files: Sequence[Path], ours: WrittenBook) -> list[Path]:
    """Those of these files that are there, and not as a run wrote them."""
    there = [file for file in files if file.is_file()]  # its writer refuses anything else
    return [f for f in there if not ours.is_ours(str(real_path(f)), repr(state_of(f)), lambda f=f: fingerprint(f))]  # type: ignore[misc]


def noting(ours: WrittenBook) -> Announce:
    """Store each file in the ledger before it replaces its target, because a run may be killed then."""
    return lambda real, new: ours.note(str(real), repr(state_of(new)), fingerprint(new))


def check_copy(
    copy: Path,
    back: WriteBack,
    source: Table,
    open_copy: Callable[[Path], Table],
    decided: Collection[str] = (),
) -> None:
    """Raise BadSource where a copy that somebody has saved since holds what neither the source nor an answer says.

    Of the records with these keys, the addresses and answers were taken as decisions.
    """
    try:
        edits = find_edits(back, source, open_copy(copy), decided)
    except BadSource as error:
        raise BadSource(
            f"{copy} is not as a run wrote it, and would be overwritten: {error} {_remedy(copy)}"
        ) from error
    if edits.cells:
        named = "; ".join(f"{key}, {column}: {new!r} (was {old!r})" for key, column, old, new in edits.first)
        more = f"; and {edits.cells - SHOWN:,} more" if edits.cells > SHOWN else ""
        cells = "1 cell" if edits.cells == 1 else f"{edits.cells:,} cells"
        raise BadSource(
            f"{copy} has {cells} that we did not write, and would be overwritten: {named}{more}. {_remedy(copy)}"
        )


def _remedy(copy: Path) -> str:
    return (
        'Put what is right into the source, then delete or rename this copy. Or say if_edited = "backup" under '
        f"[write]: then {copy.name} is kept beside itself, dated. Nothing was sent, nothing written."
    )


def find_edits(back: WriteBack, source: Table, copy: Table, decided: Collection[str] = ()) -> Edits:
    """Compare a copy with the source and with what the ledger would write, record by record.

    Columns with formulas are left out: they change by being opened.
    """
    ours = {*back.address_columns, *back.columns}
    edits = Edits()
    there = _Rows(back, copy)
    calculated = source.calculated if isinstance(source, HasFormulas) else ()
    for key, wanted, asked in _expected(back, source, copy.header):
        held = there.take(key)
        if held is None:
            continue  # a record that is new
        cells, raw_hash = held
        for name, cell, value in zip(copy.header, cells, wanted, strict=True):
            as_asked = name in back.address_columns and raw_hash == asked  # and the source has changed since
            if key in decided and name in ours:
                continue
            if value is not back.leave and name not in calculated and not as_asked and not back.is_same(cell, value):
                edits.add(Change(back.shown(key), name, "" if value is None else str(value), cell))
    for key, cells in there.rest():
        edits.add(Change(back.shown(key), "the whole record", "", ", ".join(filter(None, cells))[:60]))
    return edits


def _expected(back: WriteBack, source: Table, names: Sequence[str]) -> Iterator[tuple[str, Sequence[object], str]]:
    """For each record of the source its key, what its copy should hold in these columns, the address asked about.

    The mark for a cell that is left stands where neither the source nor the ledger knows what should be there. The
    address is given by its fingerprint.
    """
    places = _places(source.header, names)
    for batch in source.batches():
        written, asked = back.expected(batch)
        new = dict(zip(back.columns, written, strict=True))
        for n, (key, row) in enumerate(zip(back.keys(batch), batch, strict=True)):
            old = [row[place] if place is not None else back.leave for place in places]
            wanted = [
                cell if name not in new else new[name][n] if new[name][n] is not back.leave else cell or back.leave
                for name, cell in zip(names, old, strict=True)
            ]
            yield key, wanted, asked[n]


def _places(header: Sequence[str], names: Sequence[str]) -> list[int | None]:
    """The indexes of these columns in a header; a repeated name means its first column, then its second."""
    left: dict[str, list[int]] = {}
    for at, name in enumerate(header):
        left.setdefault(name, []).append(at)
    return [left[name].pop(0) if left.get(name) else None for name in names]


class _Rows:
    """The rows of a copy by their keys; as long as they are asked for in their order, none is kept."""

    def __init__(self, back: WriteBack, copy: Table) -> None:
        self._coming = self._all(back, copy)
        self._passed = dict[str, tuple[Row, str]]()

    def _all(self, back: WriteBack, copy: Table) -> Iterator[tuple[str, Row, str]]:
        reader = back.reader_of(copy)
        for batch in copy.batches():
            yield from zip(reader.keys(batch), batch, reader.raw_hashes(batch), strict=True)

    def take(self, key: str) -> tuple[Row, str] | None:
        """The row with this key, and the fingerprint of its address; None if there is none."""
        if key in self._passed:
            return self._passed.pop(key)
        for found, row, raw_hash in self._coming:
            if found == key:
                return row, raw_hash
            self._passed[found] = row, raw_hash
        return None

    def rest(self) -> Iterator[tuple[str, Row]]:
        """The rows that were not taken."""
        yield from ((key, row) for key, (row, _) in self._passed.items())
        yield from ((key, row) for key, row, _ in self._coming)


def keep_edited(files: Sequence[Path], dated: Callable[[Path], Path]) -> list[str]:
    """Keep each of these files beside itself, dated; remarks that say so."""
    remarks = []
    for file in files:
        backup = dated(file)
        keep_copy(file, backup)
        remarks.append(f"{file} was changed by somebody else since it was written: it is kept as {backup.name}")
    return remarks
