"""Parquet files on file systems that fsspec reaches: object stores, SFTP, HDFS. A folder of them has a URL.

Who may read and write them is in the environment, as the package of the file system reads it; never in a job.
"""

import hashlib
import posixpath
import re
import shutil
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path, PurePosixPath
from secrets import token_hex
from typing import Any
from urllib.parse import urlsplit

from yellowtor.contracts.table import Row
from yellowtor.errors import BadJob, BadSource, YellowtorError
from yellowtor.files import State
from yellowtor.tables.folder import found_in
from yellowtor.tables.parquet import ParquetTable

# Where a file is there as soon as all of it has come, and can't be renamed.
OBJECT_STORES = frozenset({"s3", "s3a", "gs", "gcs", "abfs", "abfss", "az", "adl", "oss", "oci", "memory"})
FILE_SYSTEMS = OBJECT_STORES | {"file", "ftp", "hdfs", "http", "https", "sftp", "smb", "ssh", "webhdfs"}
NO_HOST = frozenset({"file", "local"})
STAMPS = ("ETag", "etag", "md5Hash", "generation", "mtime", "LastModified", "last_modified", "modify", "modified")
URL = re.compile(r"([a-z][a-z0-9+.-]+):/+(.+)")
SHOWN = 200  # characters of what another package says


def url_of(path: Path | str) -> str | None:
    """The URL that a setting names, if it is one; of a path, in which two slashes have become one.

    >>> url_of(Path("s3://store/register")), url_of(Path("register"))
    ('s3://store/register', None)
    """
    found = URL.fullmatch(path.as_posix() if isinstance(path, Path) else path)
    if not found:
        return None
    return f"{found[1]}:{'///' if found[1] in NO_HOST else '//'}{found[2]}"


def is_remote(url: str) -> bool:
    """Whether a text is the URL of files, and not of a database."""
    return "://" in url and url.partition(":")[0] in FILE_SYSTEMS


class RemoteFolder:
    """A folder at a URL. Raises BadJob if its kind of URL is not known, or a package is missing."""

    def __init__(self, url: str) -> None:
        self.name = url.rstrip("/")
        if urlsplit(url).password is not None:
            raise BadJob(
                f"{_without_user(url)} has a password in it. Put that into the environment, where the package of the "
                "file system looks for it. Nothing was sent."
            )
        try:
            import fsspec
        except ModuleNotFoundError as error:
            raise BadJob(f"{url} needs fsspec: pip install 'yellowtor[remote]'. Nothing was sent.") from error
        try:
            self._system, self._root = fsspec.url_to_fs(url)
        except ImportError as error:
            raise BadJob(f"{url} needs another package: {error}. Nothing was sent.") from error
        except ValueError as error:
            raise BadJob(f"{url}: {error}. Nothing was sent.") from error
        except Exception as error:
            raise BadSource(f"{url} can't be reached: {_said(error)}. Nothing was sent.") from error

    def names(self, pattern: str) -> Sequence[str]:
        with _explained(self.name, "read"):
            self._system.invalidate_cache()
            try:
                return found_in(self._listed, pattern)
            except FileNotFoundError:
                return []

    def _listed(self, name: str) -> list[tuple[str, bool]]:
        folder = f"{self._root}/{name}".rstrip("/")
        there = self._system.ls(folder, detail=True)
        names = [(posixpath.basename(one["name"].rstrip("/")), one) for one in there]
        # An object store may have an object with the name of the folder.
        return [(name, one["type"] == "directory") for name, one in names if one["name"].rstrip("/") != folder]

    def table(self, name: str, answers: Mapping[str, str]) -> ParquetTable:
        return RemoteParquet(self.file(name), answers)

    def file(self, name: str) -> "FileAtUrl":
        return FileAtUrl(self._system, f"{self._root}/{name}", f"{self.name}/{name}")

    def check_writable(self, name: str) -> list[str]:
        """Raise BadSource if no file can be written here."""
        del name
        probe = self.file(f"_manifest/.{token_hex(8)}")
        probe.put_bytes(b"")
        probe.remove()
        return []

    def location(self) -> tuple[str, PurePosixPath]:
        protocol = self._system.protocol
        return protocol if isinstance(protocol, str) else protocol[0], PurePosixPath(self._root)


class FileAtUrl:
    """A file on one of these file systems; path is its name there."""

    def __init__(self, system: Any, path: str, url: str) -> None:
        self.system = system
        self.path = path
        self.name = url

    def state(self) -> str:
        """Its size and its stamp; a digest of its bytes where the system has no stamp. Empty without a file."""
        with _explained(self.name, "read"):
            self.system.invalidate_cache()
            try:
                info = self.system.info(self.path)
            except FileNotFoundError:
                return ""
            stamp = next((str(info[name]) for name in STAMPS if info.get(name)), None)
            return f"{info.get('size')} {stamp or self._digest()}"

    def fingerprint(self) -> str:
        with _explained(self.name, "read"):
            return self._digest()

    def _digest(self) -> str:
        found = hashlib.blake2b()
        with self.system.open(self.path, "rb") as file:
            while block := file.read(2**20):
                found.update(block)
        return found.hexdigest()

    def read(self) -> bytes:
        with _explained(self.name, "read"):
            return bytes(self.system.cat_file(self.path))

    def open(self) -> Any:
        """The file, opened for reading at any place."""
        with _explained(self.name, "read"):
            return self.system.open(self.path, "rb")

    def put(self, local: Path) -> None:
        """Replace it by a local file. Where files can be renamed, nobody sees half of it under its name."""
        with _explained(self.name, "written"):
            folder, _, name = self.path.rpartition("/")
            if self._is_object():
                self.system.put_file(str(local), self.path)
            else:
                self.system.makedirs(folder, exist_ok=True)
                aside = f"{folder}/.{name}.{token_hex(8)}.new"
                try:
                    self.system.put_file(str(local), aside)
                    self._rename(aside)
                finally:
                    with suppress(Exception):
                        self.system.rm_file(aside)
            self.system.invalidate_cache()

    def _rename(self, aside: str) -> None:
        try:
            self.system.mv(aside, self.path)
        except Exception:  # a system that renames onto nothing only
            if not self.system.exists(aside) or not self.system.exists(self.path):
                raise
            self.system.rm_file(self.path)
            self.system.mv(aside, self.path)

    def _is_object(self) -> bool:
        protocols = self.system.protocol
        return not OBJECT_STORES.isdisjoint([protocols] if isinstance(protocols, str) else protocols)

    def put_bytes(self, content: bytes) -> None:
        """Replace a small file, which nobody looks at while it is written."""
        with _explained(self.name, "written"):
            if not self._is_object():
                self.system.makedirs(self.path.rpartition("/")[0], exist_ok=True)
            self.system.pipe_file(self.path, content)

    def remove(self) -> None:
        with _explained(self.name, "written"):
            self.system.rm_file(self.path)

    def keep(self, name: str) -> "FileAtUrl":
        """Copy it to a file beside itself, of this name or, if that is taken, of one that begins so."""
        stem, dot, ending = name.rpartition(".")
        names = (
            name,
            *(f"{stem}-{number}{dot}{ending}" for number in range(2, 100)),
            f"{stem}-{token_hex(8)}{dot}{ending}",
        )
        with _explained(self.name, "kept"):
            there = next(file for file in map(self._beside, names) if not self.system.exists(file.path))
            self.system.copy(self.path, there.path)
        return there

    def _beside(self, name: str) -> "FileAtUrl":
        folder, url = (one.rpartition("/")[0] for one in (self.path, self.name))
        return FileAtUrl(self.system, f"{folder}/{name}", f"{url}/{name}")


class RemoteParquet(ParquetTable):
    """A Parquet file at a URL, of which only the needed parts are fetched."""

    def __init__(self, file: FileAtUrl, answers: Mapping[str, str]) -> None:
        self._remote = file
        super().__init__(Path(file.name), None, dict(answers), file.name)

    def _state(self) -> State:
        return (self._remote.state(),)

    def _file(self) -> Any:
        return self._pq.ParquetFile(self._remote.open(), pre_buffer=True)

    def _open(self) -> None:
        with _explained(self.name, "read"):
            super()._open()

    def batches_of(self, columns: Collection[str]) -> Iterator[Sequence[Row]]:
        with _explained(self.name, "read"):
            yield from super().batches_of(columns)

    def fingerprint(self) -> str:
        return self._remote.state()

    def _copy(self, to: Path) -> None:
        with self._remote.open() as file, to.open("wb") as copy:
            shutil.copyfileobj(file, copy)

    def _check_unwritten(self, before: State) -> None:
        if self._state() != before:
            raise BadSource(f"{self.name} was changed while its answers were written. Run the job again.")


@contextmanager
def _explained(url: str, what: str) -> Iterator[None]:
    """Raise BadSource for whatever the package of a file system raises."""
    try:
        yield
    except YellowtorError:
        raise
    except FileNotFoundError as error:
        raise BadSource(f"There is no {url}. Nothing was written.") from error
    except Exception as error:
        raise BadSource(f"{url} can't be {what}: {_said(error)}. Nothing was written.") from error


def _said(error: Exception) -> str:
    """The beginning of what another package says, without the queries of URLs, which may have a key."""
    text = re.sub(r"\?\S+", "?…", str(error).strip().partition("\n")[0])
    return f"{text[:SHOWN].rstrip('.')}" if text else type(error).__name__


def _without_user(url: str) -> str:
    return re.sub(r"//.*@", "//…@", url)
