"""The files of an index: a folder with one NumPy array in each file (.npy, opened as memory maps) and `index.json`.

A folder is written under another name and renamed when it is whole: an index is there entirely or not at all. All
processes of a machine share the pages of the maps.
"""

import json
import os
import secrets
import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

from yellowtor.errors import BadSource

HEAD = "index.json"
FORMAT = 4
TRIES = 5  # of reading an index that is replaced at the same time


class TextList(Sequence[str]):
    """Texts in UTF-8, one after the other; those that were read are remembered."""

    MOST = 200_000

    def __init__(self, letters: NDArray[Any], starts: NDArray[Any]) -> None:
        self._letters = letters
        self._starts = starts
        self._read: dict[int, str] = {}

    def __len__(self) -> int:
        return len(self._starts) - 1

    @overload
    def __getitem__(self, at: int) -> str: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[str]: ...
    def __getitem__(self, at: int | slice) -> str | Sequence[str]:
        return [self.text(one) for one in range(*at.indices(len(self)))] if isinstance(at, slice) else self.text(at)

    def text(self, at: int) -> str:
        """One text."""
        text = self._read.get(at)
        if text is None:
            if len(self._read) >= self.MOST:
                self._read.clear()
            text = self._letters[self._starts[at] : self._starts[at + 1]].tobytes().decode()
            self._read[at] = text
        return text


def text_arrays(texts: Sequence[str]) -> tuple[NDArray[Any], NDArray[Any]]:
    """The letters of texts, and where each begins."""
    encoded = [text.encode("utf-8", "replace") for text in texts]
    starts = np.concatenate([[0], np.cumsum(np.fromiter(map(len, encoded), np.int64, len(encoded)))])
    return np.frombuffer(b"".join(encoded), np.uint8), starts


def write_index(
    folder: Path, arrays: Mapping[str, NDArray[Any]], head: Mapping[str, Any], *, private: bool = False
) -> None:
    """Write an index in place of any that is there; whole or not at all. Raises BadSource if it can't be written.

    private: other users can't read it.
    """
    aside = folder.with_name(f"{folder.name}.{os.getpid()}.part")
    try:
        aside.mkdir(0o700 if private else 0o777, parents=True)
        for name, values in arrays.items():
            _save(aside / f"{name}.npy", values)
        (aside / HEAD).write_text(
            json.dumps({"format": FORMAT, "made": secrets.token_hex(8), "arrays": sorted(arrays), **head}, indent=1)
        )
        if folder.exists():
            old = folder.with_name(f"{folder.name}.{os.getpid()}.old.part")
            folder.replace(old)
            aside.replace(folder)
            shutil.rmtree(old, ignore_errors=True)
        else:
            aside.replace(folder)
    except OSError as error:
        why = error.strerror or f"not everything was written ({error}): is the disk full?"
        raise BadSource(f"The index {folder} can't be written: {why}. Nothing was kept.") from error
    finally:
        shutil.rmtree(aside, ignore_errors=True)


def _save(path: Path, values: NDArray[Any]) -> None:
    """Write an array, whole and on the disk. Raises OSError if it is not: numpy.save() can miss a full disk."""
    with path.open("wb") as file:
        header = np.lib.format.header_data_from_array_1_0(np.ascontiguousarray(values))
        np.lib.format.write_array_header_1_0(file, header)
        file.write(np.ascontiguousarray(values).data.cast("B") if values.size else b"")
        file.flush()
        os.fsync(file.fileno())


def read_index(folder: Path) -> tuple[dict[str, NDArray[Any]], dict[str, Any]]:
    """The arrays of an index as memory maps, and its head. Raises BadSource if it is not whole.

    An index that is replaced meanwhile is read again: never some arrays of each.
    """
    for _ in range(TRIES):
        head, arrays = _read(folder)
        if which_building(folder) == head.get("made", ""):
            break
    else:
        raise BadSource(f"The index {folder} is being replaced: try again. Nothing was sent.")
    if head.get("format") != FORMAT:
        raise BadSource(f"The index {folder} was made by another version: delete this folder. Nothing was sent.")
    return arrays, head


def _read(folder: Path) -> tuple[dict[str, Any], dict[str, NDArray[Any]]]:
    try:
        head = json.loads((folder / HEAD).read_text())
        return head, {name: _opened(folder / f"{name}.npy") for name in head["arrays"]}
    except (OSError, ValueError, KeyError, EOFError) as error:
        raise BadSource(f"The index {folder} can't be read ({error}): delete this folder. Nothing was sent.") from error


def has_index(folder: Path) -> bool:
    """Whether there is one."""
    return (folder / HEAD).is_file()


def which_building(folder: Path) -> str:
    """What tells an index from another one of the same edition; empty if there is none."""
    try:
        return str(json.loads((folder / HEAD).read_text())["made"])
    except (OSError, ValueError, KeyError, TypeError):
        return ""


def _opened(path: Path) -> NDArray[Any]:
    """A memory map; an array without elements can't be mapped."""
    try:
        return np.asarray(np.load(path, mmap_mode="r", allow_pickle=False))
    except ValueError:
        return np.asarray(np.load(path, allow_pickle=False))
