"""Opening a workbook with calamine, and saying clearly why one can't be opened or read."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import python_calamine as calamine

from yellowtor.errors import BadSource
from yellowtor.tables.package import check_package

OLE = bytes.fromhex("d0cf11e0a1b11ae1")  # the compound file that wraps an encrypted workbook


def lock_beside(path: Path) -> Path | None:
    """The lock file that an office program keeps beside an open workbook."""
    beside = (path.with_name(f"~${path.name}"), path.with_name(f".~lock.{path.name}#"))
    return next((p for p in beside if p.exists()), None)


def check_file(path: Path) -> None:
    """Raise BadSource where there is no such file, or none that a workbook can be in."""
    try:
        with path.open("rb") as file:
            start = file.read(8)
    except FileNotFoundError as error:
        raise BadSource(f"There is no file {path}. Nothing was sent.") from error
    except OSError as error:
        raise BadSource(f"{path} can't be read: {error.strerror}. It may be locked. Nothing was sent.") from error
    if not start:
        raise BadSource(f"{path} is an empty file, no workbook. Nothing was sent.")
    if start == OLE and path.suffix.lower() in {".xlsx", ".xlsm"}:
        raise BadSource(f"{path} is protected by a password. Save a copy without one. Nothing was sent.")


def open_book(path: Path) -> calamine.CalamineWorkbook:
    """The workbook. Raises BadSource."""
    with _readable(path):
        return calamine.CalamineWorkbook.from_path(path)


def sheet_of(path: Path, book: calamine.CalamineWorkbook, name: str) -> calamine.CalamineSheet:
    """A sheet of it, whole. Raises BadSource."""
    with _readable(path):
        return book.get_sheet_by_name(name)


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    """Raise BadSource for whatever calamine finds wrong with the file."""
    try:
        yield
    except calamine.PasswordError as error:
        raise BadSource(f"{path} is protected by a password. Save a copy without one. Nothing was sent.") from error
    except (calamine.CalamineError, OSError) as error:
        check_package(path)
        raise BadSource(f"{path} is no workbook that can be read, or damaged: {error}. Nothing was sent.") from error
