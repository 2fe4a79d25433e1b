"""Records in the Parquet files of a folder or a pattern; the answers go into a folder, with the same names."""

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path, PurePath

from yellowtor.contracts.table import Answering, OnWritten, Piece, Row
from yellowtor.errors import BadJob, BadSource
from yellowtor.files import real_path
from yellowtor.tables.cells import ignore_written
from yellowtor.tables.parquet import ParquetTable

WILD = frozenset("*?[")


def is_folder(path: Path) -> bool:
    """Whether a source is a folder, or a pattern of file names."""
    return path.is_dir() or bool(WILD & set(str(path)) and not path.exists())


class FolderTable:
    """The files of a folder, at any depth, or those of a pattern. answers are the parts of the answer by column.

    Files and folders whose names begin with `_` or `.` are not records. All files have the columns of the first, which
    each piece checks when it is opened. Raises BadJob, BadSource.
    """

    keys: Sequence[str] = ()
    decimal = "."
    exact_keys = False

    def __init__(self, path: Path, to: Path, answers: Mapping[str, str]) -> None:
        self.name = str(path)
        self.remarks: list[str] = []
        self._answers = dict(answers)
        self._folder, self._pattern = _parted(path)
        self.to = to
        source, target = real_path(self._folder), real_path(to)
        if source == target or source in target.parents:
            raise BadJob(f"write.to = {str(to)!r} lies in the folder of the source. Name another. Nothing was sent.")
        if to.is_file():
            raise BadJob(f"write.to = {str(to)!r} is a file: for a folder it is a folder. Nothing was sent.")
        self._names: Sequence[str] = ()
        first = self.names()[0]
        self.header = self._open(first).header

    def names(self) -> Sequence[str]:
        if not self._names:
            try:
                found = [file.relative_to(self._folder) for file in self._folder.glob(self._pattern)]
            except OSError as error:
                raise BadSource(f"{self.name} can't be read: {error.strerror or error}. Nothing was sent.") from error
            self._names = sorted(name.as_posix() for name in found if self._is_records(name))
        if not self._names:
            raise BadSource(f"{self.name} has no Parquet file. Nothing was sent.")
        return self._names

    def _is_records(self, name: PurePath) -> bool:
        hidden = any(part.startswith(("_", ".")) for part in name.parts)
        return not hidden and name.suffix.lower() in ParquetTable.endings and (self._folder / name).is_file()

    def _open(self, name: str) -> ParquetTable:
        return ParquetTable(self._folder / name, None, self._answers)

    def piece(self, name: str) -> Piece:
        table = self._open(name)
        if table.header != self.header:
            other = sorted(set(table.header) ^ set(self.header)) or ["the same columns in another order"]
            raise BadSource(
                f"{table.name} has other columns than {self.names()[0]} ({', '.join(other)}). Nothing was written."
            )
        return Piece(name, table, self.to / name)

    def batches(self) -> Iterator[Sequence[Row]]:
        """The records of all files. Raises BadSource."""
        for name in self.names():
            yield from self.piece(name).table.batches()

    def rewrite(
        self, to: Path | None, columns: Sequence[str], answering: Answering, on_written: OnWritten = ignore_written
    ) -> None:
        """Never called: each piece is written alone."""
        raise NotImplementedError(to, columns, answering, on_written)

    def fingerprint(self) -> str:
        """Not known: each piece has its own."""
        return ""

    def refresh(self) -> bool:
        """Look for the files again; whether they are others."""
        before = self._names
        self._names = ()
        return self.names() != before

    def check_target(self, to: Path | None) -> list[str]:
        """Raise BadSource if the answers can't be written into the folder."""
        first = self.names()[0]
        remarks = self._open(first).check_target(self.to / first)
        there = [file.relative_to(self.to) for file in self.to.glob("**/*.parquet")]
        strays = sorted({name.as_posix() for name in there if not name.name.startswith(".")} - set(self.names()))
        if strays:
            remarks.append(
                f"{to} has {len(strays):,} files without a source any more, such as {strays[0]}: delete them"
            )
        return remarks


def _parted(path: Path) -> tuple[Path, str]:
    """The folder of a source, and the pattern of its files in it."""
    wild = next((at for at, part in enumerate(path.parts) if WILD & set(part)), None)
    if wild is None:
        return path, "**/*"
    return Path(*path.parts[:wild]), str(PurePath(*path.parts[wild:]))
