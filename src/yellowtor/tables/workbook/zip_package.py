"""The package around a sheet (OPC, ECMA-376 part 2): finding a sheet's member, replacing just that one."""

import copy
import posixpath
import sys
import zipfile
import zlib
from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from lxml import etree

from yellowtor.errors import BadSource
from yellowtor.files import check_unwritten, state_of, written_aside

_RELATION = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_RELATION_STRICT = "{http://purl.oclc.org/ooxml/officeDocument/relationships}id"
LEVEL = 3  # of compression: half the time of the usual 6 for a tenth more bytes
CHUNK = 1 << 20
COMPRESS_LEVEL = "compress_level" if sys.version_info >= (3, 13) else "_compresslevel"  # public from 3.13 on
MAY_PASS = 1 << 30  # bytes from which on a part may come to pass what the plain format holds
Piece = bytes | memoryview
_PARSER = etree.XMLParser(resolve_entities=False, no_network=True)
_UNPACKING = (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError)


@contextmanager
def readable(path: Path) -> Iterator[None]:
    """Turn errors of the package and of its XML into BadSource."""
    try:
        yield
    except (*_UNPACKING, etree.XMLSyntaxError, KeyError, ValueError) as error:
        raise BadSource(f"{path} is damaged: {error}. Open and save it anew. Nothing was sent.") from error


def check_package(path: Path) -> None:
    """Raise BadSource where a part of the package, if it is one, can't be unpacked."""
    with readable(path):
        with path.open("rb") as file:
            if file.read(2) != b"PK" and not zipfile.is_zipfile(path):
                return
        with zipfile.ZipFile(path) as package:
            for part in package.namelist():
                _unpack(path, package, part)


def read_whole(path: Path, package: zipfile.ZipFile, member: str) -> bytes:
    """The content of a member. Raises BadSource where it, or any other, can't be unpacked."""
    content = package.read(member)
    for part in package.namelist():
        if part != member:
            _unpack(path, package, part)
    return content


def _unpack(path: Path, package: zipfile.ZipFile, part: str) -> None:
    try:
        with package.open(part) as file:
            while file.read(CHUNK):
                pass
    except zipfile.BadZipFile as error:
        raise BadSource(f"{path} is damaged: its part {part} can't be unpacked. Nothing was sent.") from error


def xml_of(package: zipfile.ZipFile, member: str) -> "etree._Element":
    """The root of a part's XML."""
    return etree.fromstring(package.read(member), _PARSER)


def book_member(package: zipfile.ZipFile) -> str:
    """The name of the member that is the workbook's own. Raises BadSource when it can't be found."""
    roots = _relations(package, "_rels/.rels", "")
    book = next((target for kind, target in roots.values() if kind.endswith("/officeDocument")), "")
    if book not in package.namelist():
        raise BadSource(f"{package.filename} names no workbook in it. Save it anew. Nothing was written.")
    return book


def sheet_member(package: zipfile.ZipFile, sheet: str) -> str:
    """The name of the member that holds this sheet's XML. Raises BadSource when it can't be found."""
    book = book_member(package)
    folder, name = posixpath.split(book)
    parts = _relations(package, f"{folder}/_rels/{name}.rels", folder)
    for entry in xml_of(package, book).iter("{*}sheet"):
        relation = entry.get(_RELATION) or entry.get(_RELATION_STRICT)
        if entry.get("name") == sheet and relation in parts:
            return parts[relation][1]
    raise BadSource(
        f"{package.filename}: its index does not name the sheet {sheet!r}. Save it anew. Nothing was written."
    )


def parts_of(package: zipfile.ZipFile, member: str, kind: str) -> list[str]:
    """The members of this kind ("table") that a sheet's member refers to."""
    folder, name = posixpath.split(member)
    relations = f"{folder}/_rels/{name}.rels"
    if relations not in package.namelist():
        return []
    return [
        target for relation, target in _relations(package, relations, folder).values() if relation.endswith(f"/{kind}")
    ]


def _relations(package: zipfile.ZipFile, member: str, folder: str) -> dict[str, tuple[str, str]]:
    """The kind and target of each relationship, by its id."""
    found = {}
    for relation in xml_of(package, member):
        target = posixpath.normpath(posixpath.join("/" + folder, relation.get("Target", ""))).lstrip("/")
        found[relation.get("Id", "")] = (relation.get("Type", ""), target)
    return found


def replace_members(source: Path, to: Path, members: Mapping[str, Iterable[Piece]], backup: Path | None = None) -> None:
    """Write source to `to` with the content of some members replaced, which comes in pieces.

    Every other member is copied as it is packed, and keeps its place, name, date and flags. Raises BadSource where
    that can't be written, or somebody wrote to the source meanwhile.
    """
    before = state_of(source)
    with (
        written_aside(to, backup, source) as aside,
        source.open("rb") as packed,  # closed before it may be replaced, as some systems want it
        zipfile.ZipFile(packed) as old,
        zipfile.ZipFile(aside, "w", zipfile.ZIP_DEFLATED) as new,
    ):
        new.comment = old.comment
        ends = sorted([*(entry.header_offset for entry in old.infolist()), old.start_dir])
        for entry in old.infolist():
            kept = copy.copy(entry)  # writing fills an entry's sizes and place in
            if entry.filename in members:
                setattr(kept, COMPRESS_LEVEL, LEVEL)
                with new.open(kept, "w", force_zip64=kept.file_size > MAY_PASS) as write:
                    _write_ahead(write, members[entry.filename])
            else:
                packed.seek(entry.header_offset)
                end = ends[bisect_right(ends, entry.header_offset)]
                _carry_over(packed, end - entry.header_offset, new, kept)
        check_unwritten(source, before)


def _carry_over(packed: IO[bytes], size: int, to: zipfile.ZipFile, entry: zipfile.ZipInfo) -> None:
    """Append a member with its header, the next bytes of a package, to another one as it is."""
    assert to.fp is not None, "it is open"
    to.fp.seek(to.start_dir)
    entry.header_offset = to.start_dir
    while size > 0 and (some := packed.read(min(size, CHUNK))):
        to.fp.write(some)
        size -= len(some)
    to.start_dir = to.fp.tell()
    to.filelist.append(entry)
    to.NameToInfo[entry.filename] = entry


def _write_ahead(write: IO[bytes], pieces: Iterable[Piece]) -> None:
    """Write pieces some at a time: while those are compressed, the next ones are made."""
    with ThreadPoolExecutor(1) as aside:
        writing: Future[int] | None = None
        for chunk in _chunks(pieces):
            if writing:
                writing.result()
            writing = aside.submit(write.write, chunk)
        if writing:
            writing.result()


def _chunks(pieces: Iterable[Piece]) -> Iterator[Piece]:
    some = list[Piece]()
    size = 0
    for piece in pieces:
        some.append(piece)
        size += len(piece)
        if size > CHUNK:
            yield some[0] if len(some) == 1 else b"".join(some)
            some = []
            size = 0
    yield b"".join(some)
