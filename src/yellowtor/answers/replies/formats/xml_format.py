"""XML bodies, read by XPath 1.0. A document that declares entities is refused."""

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from yellowtor.answers.replies.body_text import CantOpenError, instead
from yellowtor.answers.replies.json_paths import Fields, Finder, Getter, Holder, fields_by
from yellowtor.answers.replies.plain_values import plain

_ENTITY = re.compile(rb"<!\s*ENTITY", re.IGNORECASE)
_NAMES = re.compile(r"((?:(?:[A-Za-z_]\w*:)?[A-Za-z_]\w*(?:/(?!@)|(?=/@)|$))*)/?(?:@([A-Za-z_]\w*))?")
ENTITIES = "the reply declares XML entities, which are never expanded"


class XmlFormat:
    """XML, by XPath 1.0 with the namespaces that the description names."""

    accept = "application/xml, text/xml"

    def __init__(self, namespaces: Mapping[str, str], encoding: str | None = None) -> None:
        self._namespaces = dict(namespaces)
        self._encoding = encoding
        self._parser: Any = None

    def open(self, body: bytes, content_type: str) -> Any:
        from lxml import etree

        if self._parser is None:
            self._parser = etree.XMLParser(
                encoding=self._encoding,
                resolve_entities=False,
                no_network=True,
                load_dtd=False,
                dtd_validation=False,
                huge_tree=False,
            )
        if _ENTITY.search(body[:65_536].translate(None, b"\0")):
            raise CantOpenError(ENTITIES)
        try:
            root = etree.fromstring(body, self._parser)
        except (etree.XMLSyntaxError, ValueError, LookupError) as error:
            del content_type
            raise CantOpenError(instead(body, "XML", (b"<",))) from error
        dtd: Any = root.getroottree().docinfo.internalDTD
        if dtd is not None and any(dtd.iterentities()):  # in an encoding that hid them
            raise CantOpenError(ENTITIES)
        if etree.QName(root).localname.lower() == "html":  # a page may be well-formed
            raise CantOpenError("a web page came where XML was promised")
        return root

    def finder(self, path: str) -> Finder:
        find = self._compiled(path)

        def find_all(node: Any) -> list[Any]:
            found = find(node)
            return list(found) if isinstance(found, list) else [found]

        return find_all

    def getter(self, path: str) -> Getter:
        find = self._compiled(path)

        def get(node: Any) -> Any:
            found = find(node)
            first = next(iter(found), None) if isinstance(found, list) else found
            return plain(first)

        return self._quick(path, get) or get

    def fields(self, paths: Mapping[str, str]) -> Fields:
        return fields_by({name: self.getter(path) for name, path in paths.items()})

    def holder(self, path: str) -> Holder:
        parent, _, last = path.rpartition("/")
        if not parent or parent.endswith("/") or "]" in last.split("[")[0]:  # of //place nobody knows where the list is
            return lambda _: False
        find = self._compiled(parent)

        def holds(root: Any) -> bool:
            found = find(root)
            return isinstance(found, list) and any(hasattr(node, "tag") and not len(node) for node in found)

        return holds

    def part(self, found: Sequence[Any]) -> bytes:
        from lxml import etree

        made: Any = etree.tostring(found[0], encoding=self._encoding or "utf-8", with_tail=False)
        return bytes(made)

    def _quick(self, path: str, otherwise: Getter) -> Getter | None:
        """A getter for a path of names, a few times as fast: its last step may be an attribute."""
        plain_path = _NAMES.fullmatch(path)
        if not plain_path:
            return None
        steps = [name for name in plain_path[1].split("/") if name]
        clark = "/".join(f"{{{self._namespaces[p]}}}{n}" if p else n for p, _, n in (s.rpartition(":") for s in steps))
        attribute = plain_path[2]

        def get(node: Any) -> Any:
            found = node.find(clark) if clark else node
            if found is None:
                return None
            if not attribute:
                return plain(found) if len(found) else found.text or ""
            value = found.get(attribute)
            return otherwise(node) if value is None else value

        return get

    def _compiled(self, path: str) -> Callable[[Any], Any]:
        from lxml import etree

        try:
            found: Callable[[Any], Any] = etree.XPath(path, namespaces=self._namespaces, smart_strings=False)
            found(etree.Element("nothing"))  # an unknown prefix or function shows only here
        except etree.XPathError as error:
            raise ValueError(f"{path!r} is not an XPath: {error}") from error
        return found
