"""The formats by the name that a description gives them. A new format is a file here and an entry below."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from yellowtor.answers.replies.formats.json_format import JsonFormat
from yellowtor.answers.replies.formats.reply_format import FormatOptions, ReplyFormat
from yellowtor.answers.replies.formats.text_format import TextFormat
from yellowtor.answers.replies.formats.xml_format import XmlFormat


@dataclass(frozen=True)
class Registered:
    """A format, and what holds for it where a description says nothing.

    candidates is the path to the candidates; empty where each description must state one, None where every line is a
    candidate. position and box are paths to a candidate's position and box, order is the order of latitude and
    longitude. options are keys of the description that only this format knows.
    """

    make: Callable[[FormatOptions], ReplyFormat]
    candidates: str | None = ""
    position: str = ""
    box: Sequence[str] = ()
    order: str = "latitude longitude"
    options: frozenset[str] = frozenset()


FORMATS: dict[str, Registered] = {
    "json": Registered(lambda options: JsonFormat(options.encoding)),
    "geojson": Registered(
        lambda options: JsonFormat(options.encoding), "$.features[*]", "$.geometry", ["$.bbox"], "longitude latitude"
    ),
    "json lines": Registered(lambda options: JsonFormat(options.encoding, lines=True)),
    "xml": Registered(
        lambda options: XmlFormat(options.namespaces, options.encoding), options=frozenset({"namespaces"})
    ),
    "text": Registered(
        lambda options: TextFormat(
            options.delimiter, header=options.header, encoding=options.encoding, needs=options.needs
        ),
        candidates=None,
        options=frozenset({"delimiter", "header"}),
    ),
}
