"""JSON, JSON lines and GeoJSON bodies, read by JSONPath."""

import codecs
import re
from collections.abc import Mapping, Sequence
from typing import Any

from yellowtor.answers.replies.body_text import NUL_SHOWN, UTF_8, CantOpenError, charset, decoded, instead
from yellowtor.answers.replies.json_paths import (
    Fields,
    Finder,
    Getter,
    Holder,
    compile_fields,
    compile_first,
    compile_holder,
    compile_path,
)

_NULL = re.compile(rb"(?<!\\)((?:\\\\)*)\\u0000")


class JsonFormat:
    """JSON (RFC 8259), by JSONPath (RFC 9535)."""

    accept = "application/json"

    def __init__(self, encoding: str | None = None, *, lines: bool = False) -> None:
        self._encoding = encoding
        self._lines = lines
        if lines:
            self.accept = "application/jsonl, application/x-ndjson, application/json"

    def open(self, body: bytes, content_type: str) -> Any:
        import orjson

        if self._encoding or not body[:1].isascii() or b"\0" in body[:4]:
            body = decoded(body, content_type, self._encoding).encode(errors="replace")
        if b"\\u0000" in body:  # a character that says nothing, and that PostgreSQL keeps in no text
            body = _NULL.sub(rb"\1" + NUL_SHOWN.encode(), body)
        try:
            if self._lines:
                if not body.strip():
                    raise CantOpenError("the reply is empty")
                return [orjson.loads(line) for line in body.splitlines() if line.strip()]
            return orjson.loads(body)
        except ValueError as error:
            # RFC 8259 defines no charset for JSON: UTF-8 is tried first.
            if not self._encoding and charset(content_type).lower() not in UTF_8:
                return JsonFormat("utf-8", lines=self._lines).open(decoded(body, content_type, None).encode(), "")
            raise CantOpenError(instead(body, "JSON", (b"{", b"["))) from error

    def holder(self, path: str) -> Holder:
        return compile_holder(path)

    def finder(self, path: str) -> Finder:
        return compile_path(path)

    def getter(self, path: str) -> Getter:
        return compile_first(path)

    def fields(self, paths: Mapping[str, str]) -> Fields:
        return compile_fields(paths)

    def part(self, found: Sequence[Any]) -> bytes:
        import orjson

        return (codecs.BOM_UTF8 if self._encoding else b"") + orjson.dumps(found[0])
