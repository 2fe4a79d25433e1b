"""Tables of records: what a run needs of each, and what only some of them can do."""

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Any, NamedTuple, Protocol, overload, runtime_checkable

Row = Sequence[str]
Cell = str | float | bytes | None  # None empties a cell


class Leave:
    """The type of LEAVE."""

    def __repr__(self) -> str:
        return "LEAVE"


LEAVE = Leave()  # in place of a new cell: the old cell stays as it is
NewCells = Sequence[Cell | Leave]


class Repeated(Sequence[Any]):
    """New cells of which many are the same: `which` is the index in `values` of each row's cell.

    `values` may serve many batches of rows; then it only grows.
    """

    def __init__(self, values: Sequence[Any], which: Sequence[int]) -> None:
        self.values = values
        self.which = which

    def __len__(self) -> int:
        return len(self.which)

    def __iter__(self) -> Iterator[Any]:
        return map(self.values.__getitem__, self.which)

    @overload
    def __getitem__(self, at: int) -> Any: ...
    @overload
    def __getitem__(self, at: slice) -> list[Any]: ...
    def __getitem__(self, at: int | slice) -> Any:
        return [self.values[n] for n in self.which[at]] if isinstance(at, slice) else self.values[self.which[at]]


Answering = Callable[[Sequence[Row]], Sequence[NewCells]]  # for a batch of rows, the new cells of each column
AsStored = Callable[[float, float], tuple[float, float]]  # what a table returns for a latitude and longitude


class PageWritten(NamedTuple):
    """What became of a page's rows, by their index in the page, where a row does not hold exactly the answer.

    left: the row was edited or deleted after it was read, and stays as it is. refused: not written, and why.
    returned: the texts that the table returns for a row, by column, if they are not those that it was given.
    changed is the number of rows that are different now.
    """

    left: Sequence[int] = ()
    refused: Mapping[int, str] = MappingProxyType({})
    returned: Mapping[int, Mapping[str, str]] = MappingProxyType({})
    changed: int = 0


ALL_WRITTEN = PageWritten()


class OnWritten(Protocol):
    """Called after rows are written: once for a file, after each page for a database."""

    def __call__(self, page: PageWritten = ALL_WRITTEN) -> None: ...


@runtime_checkable
class ColumnAccess(Protocol):
    """Rows that can return one column without making the texts of the others."""

    def column(self, at: int) -> Sequence[str]:
        """The texts of one column."""


class Table(Protocol):
    """A source of records that answers can be written to."""

    name: str
    header: list[str]

    @property
    def keys(self) -> Sequence[str]:
        """The columns that identify a record, if the table knows them."""

    @property
    def decimal(self) -> str:
        """The decimal mark of its numbers."""

    @property
    def remarks(self) -> Sequence[str]:
        """How it was understood, in sentences."""

    @property
    def exact_keys(self) -> bool:
        """Whether spaces around a key belong to it."""

    def batches(self) -> Iterator[Sequence[Row]]:
        """The records as rows of texts. Raises BadSource."""

    def rewrite(self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten) -> None:
        """Write a copy to `to` (None: the table itself) in which these columns contain the answers."""

    def fingerprint(self) -> str:
        """Equal for equal content; empty if the table can't tell."""

    def refresh(self) -> bool:
        """Read the header again if the table was changed since; whether it was."""

    def check_target(self, to: Path | None) -> Sequence[str]:
        """Remarks about the target. Raises BadSource if it can't be written."""


@runtime_checkable
class InTransactions(Protocol):
    """A table whose rows are updated in place, a page in each transaction, if they are still as they were read."""

    @property
    def destination(self) -> str:
        """The table that gets the answers, as messages name it."""


@runtime_checkable
class KeepsBackup(Protocol):
    """A file that is kept as it was before it is rewritten."""

    @property
    def backup(self) -> Path | None:
        """Where the copy is; None if the job wants none."""


@runtime_checkable
class ReturnsStored(Protocol):
    """A table whose columns may store fewer digits than it is given."""

    @property
    def as_stored(self) -> AsStored | None:
        """What it returns for a latitude and longitude; None: exactly those."""


@runtime_checkable
class ExpectsRecords(Protocol):
    """A table that need not read its records again if it knows that they are unchanged, and how many there are."""

    def expect(self, records: int) -> None: ...


@runtime_checkable
class WritesInOrder(Protocol):
    """A file whose rows are answered in the order in which they are read, all of them."""

    writes_in_order: bool


@runtime_checkable
class ByColumn(Protocol):
    """A table that need not read the columns that nobody wants."""

    def batches_of(self, columns: Collection[str]) -> Iterator[Sequence[Row]]:
        """As batches(), of which only these columns are asked for. Raises BadSource."""


class RemoteFile(Protocol):
    """A file that other machines keep, such as an object of an object store. Its methods raise BadSource."""

    name: str  # its URL

    def state(self) -> str:
        """What changes when somebody writes it; empty without a file."""

    def fingerprint(self) -> str:
        """A digest of its bytes."""

    def read(self) -> bytes: ...
    def put(self, local: Path) -> None:
        """Replace it by a file of this machine: whole or not at all."""

    def keep(self, name: str) -> "RemoteFile":
        """Copy it to a file beside itself."""


AnyFile = Path | RemoteFile


@dataclass(frozen=True)
class Piece:
    """A file of a table in many files: its name in the source's folder, itself, and where its answers go.

    entry is the file with its entry in the manifest.
    """

    name: str
    table: Table
    to: AnyFile
    entry: AnyFile


@runtime_checkable
class InPieces(Protocol):
    """A table in many files, each of which is read and written alone.

    target is the folder of the answers, or its URL.
    """

    target: str

    def names(self) -> Sequence[str]:
        """The names of the files, in order. Raises BadSource."""

    def piece(self, name: str) -> Piece:
        """One of them. Raises BadSource."""


@runtime_checkable
class HasFormulas(Protocol):
    """A file with cells that belong to another program."""

    @property
    def calculated(self) -> Collection[str]:
        """Columns that other programs calculate."""

    @property
    def left(self) -> Sequence[str]:
        """Cells that were not overwritten at the last writing, because they contain formulas."""
