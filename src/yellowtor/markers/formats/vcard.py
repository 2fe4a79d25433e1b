"""A card for each marker: vCard 4.0 (RFC 6350) with its position as a geo: URI."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import BinaryIO

from yellowtor.contracts.marker import Marker
from yellowtor.files import written_aside
from yellowtor.markers.formats.geo_uris import geo_uri
from yellowtor.markers.target import MarkerTarget, said_of

OCTETS = 75  # of a line, without its end (section 3.2)
ESCAPES = str.maketrans({"\\": "\\\\", ",": "\\,", ";": "\\;", "\n": "\\n", "\r": None})
IN_PARAMETERS = str.maketrans({"^": "^^", '"': "^'", "\n": "^n", "\r": None})  # RFC 6868
CONTROL = {code: "\ufffd" for code in range(32) if chr(code) not in "\t\n\r"} | {127: "\ufffd"}


class VCards:
    """Takes markers one by one; the file is whole when the context that made it ends."""

    def __init__(self, file: BinaryIO, target: MarkerTarget) -> None:
        self._file = file
        self._decimals = target.decimals

    def add(self, marker: Marker) -> None:
        """Write the card of a marker; one without a position has no GEO, and is left out."""
        if marker.position is None:
            return
        notes = [text if name == "description" else f"{name}: {text}" for name, text in said_of(marker).items()]
        label = (marker.matched or marker.asked).translate(CONTROL).translate(IN_PARAMETERS)
        lines = [
            "BEGIN:VCARD",
            "VERSION:4.0",
            f"FN:{_escaped(marker.name)}",
            f"ORG:{_escaped(marker.name)}",
            "KIND:org",
            f"GEO:{geo_uri(marker, self._decimals)}",
            f'ADR;LABEL="{label}":;;;;;;',
            f"NOTE:{_escaped(chr(10).join(notes))}",
            f"CATEGORIES:{_escaped(marker.look.name)}",
            f"UID;VALUE=text:{_escaped(marker.key)}",
            "END:VCARD",
        ]
        self._file.write(b"".join(map(_folded, lines)))


def _escaped(text: str) -> str:
    return text.translate(CONTROL).translate(ESCAPES)


def _folded(line: str) -> bytes:
    """A line, continued on others where it is too long; no character is parted."""
    text = line.encode()
    made = b""
    room = OCTETS
    while len(text) > room:
        end = room
        while text[end] & 0xC0 == 0x80:  # in the middle of a character
            end -= 1
        made += text[:end] + b"\r\n "
        text = text[end:]
        room = OCTETS - 1
    return made + text + b"\r\n"


@contextmanager
def open_file(target: MarkerTarget) -> Iterator[VCards]:
    """Write the cards."""
    with written_aside(target.path, like=target.like) as aside, aside.open("wb") as file:
        yield VCards(file, target)
