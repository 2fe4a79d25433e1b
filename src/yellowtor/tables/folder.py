"""Records in the Parquet files of a folder or a pattern; the answers go into a folder, with the same names."""

import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import partial
from pathlib import Path, PurePosixPath
from typing import Protocol

from yellowtor.contracts.table import Answering, AnyFile, OnWritten, Piece, Row
from yellowtor.errors import BadJob, BadSource
from yellowtor.files import check_writable, real_path
from yellowtor.tables.cells import ignore_written
from yellowtor.tables.parquet import ParquetTable

WILD = frozenset("*?[")
ALL = "**/*"
MANIFEST = "_manifest"
HIDDEN = ("_", ".", "lost+found")


def is_folder(path: Path) -> bool:
    """Whether a source is a folder, or a pattern of file names."""
    return path.is_dir() or bool(WILD & set(str(path)) and not path.exists())


class Folder(Protocol):
    """A folder with files of records, or for their answers. Its methods raise BadSource."""

    name: str

    def names(self, pattern: str) -> Sequence[str]:
        """The names of the files of this pattern, with those of their folders."""

    def table(self, name: str, answers: Mapping[str, str]) -> ParquetTable: ...
    def file(self, name: str) -> AnyFile: ...
    def check_writable(self, name: str) -> list[str]:
        """Remarks on a file that will be written."""

    def location(self) -> tuple[str, PurePosixPath]:
        """The file system, and the path there."""


class LocalFolder:
    """A folder of this machine."""

    def __init__(self, path: Path) -> None:
        self.name = str(path)
        self._path = path

    def names(self, pattern: str) -> Sequence[str]:
        try:
            return found_in(partial(self._listed, links="**" not in pattern), pattern)
        except FileNotFoundError:
            return []
        except OSError as error:
            name = error.filename or self.name
            raise BadSource(f"{name} can't be read: {error.strerror or error}. Nothing was sent.") from error

    def _listed(self, name: str, *, links: bool) -> list[tuple[str, bool]]:
        """The entries of a folder; links to folders, which may lead back, only if they are wanted."""
        with os.scandir(self._path / name) as entries:
            return [
                (entry.name, not entry.is_file())
                for entry in entries
                if entry.is_file() or entry.is_dir(follow_symlinks=links)
            ]

    def table(self, name: str, answers: Mapping[str, str]) -> ParquetTable:
        return ParquetTable(self._path / name, None, dict(answers))

    def file(self, name: str) -> Path:
        return self._path / name

    def check_writable(self, name: str) -> list[str]:
        if self._path.is_file():
            raise BadJob(f"write.to = {self.name!r} is a file: for a folder it is a folder. Nothing was sent.")
        return check_writable(self._path / name)

    def location(self) -> tuple[str, PurePosixPath]:
        return "", PurePosixPath(real_path(self._path).as_posix())


class FolderTable:
    """The files of a folder, at any depth, or those of a pattern. answers are the parts of the answer by column.

    Files and folders whose names begin with `_` or `.` are not records. All files have the columns of the first, which
    each piece checks when it is opened. Raises BadJob, BadSource.
    """

    keys: Sequence[str] = ()
    decimal = "."
    exact_keys = False

    def __init__(self, source: Folder, pattern: str, to: Folder, answers: Mapping[str, str]) -> None:
        self.name = source.name if pattern == ALL else f"{source.name}/{pattern}"
        self.target = to.name
        self.remarks: list[str] = []
        self._source = source
        self._pattern = pattern
        self._to = to
        self._answers = dict(answers)
        self._names: Sequence[str] = ()
        self.header = source.table(self.names()[0], answers).header
        (system, folder), (other, target) = source.location(), to.location()
        first = target / self.names()[0]
        inside = first.relative_to(folder).parts if folder in first.parents else ()
        if system == other and inside and is_match(inside, PurePosixPath(pattern).parts):
            raise BadJob(f"write.to = {to.name!r} lies in the folder of the source. Name another. Nothing was sent.")

    def names(self) -> Sequence[str]:
        if not self._names:
            self._names = sorted(name for name in self._source.names(self._pattern) if is_records(name))
        if not self._names:
            raise BadSource(f"{self.name} has no Parquet file. Nothing was sent.")
        return self._names

    def piece(self, name: str) -> Piece:
        table = self._source.table(name, self._answers)
        if table.header != self.header:
            other = sorted(set(table.header) ^ set(self.header)) or ["the same columns in another order"]
            raise BadSource(
                f"{table.name} has other columns than {self.names()[0]} ({', '.join(other)}). Nothing was written."
            )
        return Piece(name, table, self._to.file(name), self._to.file(f"{MANIFEST}/{name}.json"))

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
        del to  # it is the folder of this table
        first = self.names()[0]
        self._source.table(first, self._answers).check_columns()
        remarks = self._to.check_writable(first)
        strays = sorted(set(filter(is_records, self._to.names(ALL))) - set(self.names()))
        if strays:
            files = "a file" if len(strays) == 1 else f"{len(strays):,} files"
            remarks.append(f"{self._to.name} has {files} without a source any more, such as {strays[0]}: delete it")
        return remarks


def is_records(name: str) -> bool:
    """Whether a file of a folder has records, by its name."""
    path = PurePosixPath(name)
    hidden = any(part.startswith(HIDDEN) for part in path.parts)
    return not hidden and path.suffix.lower() in ParquetTable.endings


def found_in(listed: Callable[[str], Iterable[tuple[str, bool]]], pattern: str) -> list[str]:
    """The names of the files of a pattern; hidden folders are passed over, and a folder that can't be read is an error.

    listed returns the entries of a folder, by its name in the whole (empty: the whole): names, and whether each is a
    folder.
    """
    wanted = PurePosixPath(pattern).parts
    deep = "**" in wanted
    files = list[str]()
    folders: list[tuple[str, ...]] = [()]
    while folders:
        above = folders.pop()
        for name, is_dir in listed("/".join(above)):
            parts = (*above, name)
            if not is_dir:
                files += ["/".join(parts)] * is_match(parts, wanted)
            elif not name.startswith(HIDDEN) and (deep or is_match(parts, wanted[: len(parts)])):
                folders.append(parts)
    return files


def is_match(parts: Sequence[str], pattern: Sequence[str]) -> bool:
    """Whether the parts of a name are of a pattern, in which `**` stands for any folders.

    >>> is_match(["north", "1.parquet"], ["**", "*.parquet"]), is_match(["north", "1.parquet"], ["*.parquet"])
    (True, False)
    """
    if not pattern or not parts:
        return not parts and all(part == "**" for part in pattern)
    if pattern[0] == "**":
        return is_match(parts, pattern[1:]) or is_match(parts[1:], pattern)
    return fnmatchcase(parts[0], pattern[0]) and is_match(parts[1:], pattern[1:])


def parted(path: PurePosixPath | Path) -> tuple[str, str]:
    """The folder of a source, and the pattern of its files in it.

    >>> parted(PurePosixPath("/data/register")), parted(PurePosixPath("/data/year=*/part-?.parquet"))
    (('/data/register', '**/*'), ('/data', 'year=*/part-?.parquet'))
    """
    wild = next((at for at, part in enumerate(path.parts) if WILD & set(part)), None)
    if wild is None:
        return str(path), ALL
    return str(type(path)(*path.parts[:wild])), str(PurePosixPath(*path.parts[wild:]))
