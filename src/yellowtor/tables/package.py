"""The package around a sheet (OPC, ECMA-376 part 2): finding a sheet's member, replacing just that one."""

import copy
import posixpath
import shutil
import zipfile
from collections.abc import Mapping
from pathlib import Path

from lxml import etree

from yellowtor.errors import BadSource
from yellowtor.files import written_aside

_RELATION = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_RELATION_STRICT = "{http://purl.oclc.org/ooxml/officeDocument/relationships}id"
LEVEL = 3  # of compression: half the time of the usual 6 for a tenth more bytes
_PARSER = etree.XMLParser(resolve_entities=False, no_network=True)


def sheet_member(package: zipfile.ZipFile, sheet: str) -> str:
    """The name of the member that holds this sheet's XML. Raises BadSource when it can't be found."""
    roots = _relations(package, "_rels/.rels", "")
    book = next((target for kind, target in roots.values() if kind.endswith("/officeDocument")), "")
    if book not in package.namelist():
        raise BadSource("The package names no workbook. Save it anew.")
    folder, name = posixpath.split(book)
    parts = _relations(package, f"{folder}/_rels/{name}.rels", folder)
    for entry in etree.fromstring(package.read(book), _PARSER).iter("{*}sheet"):
        relation = entry.get(_RELATION) or entry.get(_RELATION_STRICT)
        if entry.get("name") == sheet and relation in parts:
            return parts[relation][1]
    raise BadSource(f"The workbook's index does not name the sheet {sheet!r}. Save it anew.")


def parts_of(package: zipfile.ZipFile, member: str, kind: str) -> list[str]:
    """The members of this kind ("table") that a sheet's member refers to."""
    folder, name = posixpath.split(member)
    relations = f"{folder}/_rels/{name}.rels"
    if relations not in package.namelist():
        return []
    return [target for told, target in _relations(package, relations, folder).values() if told.endswith(f"/{kind}")]


def _relations(package: zipfile.ZipFile, member: str, folder: str) -> dict[str, tuple[str, str]]:
    """The kind and target of each relationship, by its id."""
    found = {}
    for relation in etree.fromstring(package.read(member), _PARSER):
        target = posixpath.normpath(posixpath.join("/" + folder, relation.get("Target", ""))).lstrip("/")
        found[relation.get("Id", "")] = (relation.get("Type", ""), target)
    return found


def replace_members(source: Path, to: Path, members: Mapping[str, bytes], backup: Path | None = None) -> None:
    """Write source to `to` with the content of some members replaced.

    Every other member keeps its bytes, and its place, name, date and flags.
    """
    with (
        zipfile.ZipFile(source) as old,
        written_aside(to, backup) as aside,
        zipfile.ZipFile(aside, "w", zipfile.ZIP_DEFLATED) as new,
    ):
        new.comment = old.comment
        for entry in old.infolist():
            kept = copy.copy(entry)  # writing fills an entry's sizes and place in
            if entry.filename in members:
                new.writestr(kept, members[entry.filename], compresslevel=LEVEL)
            else:
                with old.open(entry) as read, new.open(kept, "w") as write:
                    shutil.copyfileobj(read, write, 1 << 20)
