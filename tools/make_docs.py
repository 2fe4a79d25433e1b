"""Makes the job file, service description, outcomes and architecture pages in docs/ from the code they describe.

python tools/make_docs.py [FOLDER]      default docs/
"""

import sys
from datetime import date
from decimal import Decimal
from enum import StrEnum
from pathlib import Path
from types import UnionType
from typing import Any, Literal, get_args, get_origin

from architecture import architecture
from pydantic import BaseModel
from pydantic.fields import FieldInfo

from yellowtor.answers.geography.levels import Level
from yellowtor.answers.replies.kinds import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import Exit
from yellowtor.run.jobs.job import Job
from yellowtor.services.description import Description

DATA = Path(__file__).parent.parent / "src" / "yellowtor" / "demo" / "data"
HEAD = "<!-- Made by tools/make_docs.py from the code: change it there. -->\n"
EXAMPLES = {
    "JSON, the key in the URL": "stand-in.toml",
    "XML, asked part by part, the key in a header": "stand-in-xml.toml",
    "Delimited text, the URL signed": "stand-in-text.toml",
    "GeoJSON, asked by POST with a token": "stand-in-geojson.toml",
    "Many questions in one request, in JSON": "stand-in-many.toml",
    "An access token that is fetched": "stand-in-token.toml",
    "A reply that comes later": "stand-in-later.toml",
    "Pages of candidates": "stand-in-pages.toml",
    "Many at once by id, each result of its own shape; a redirect": "stand-in-keyed.toml",
    "JSON lines": "stand-in-lines.toml",
    "Text in another encoding, parts taken from one line, one level for all": "stand-in-plain.toml",
    "Outlines instead of points": "stand-in-outlines.toml",
}
AGAIN = {
    "reverse.reply": "It is as `[reply]` below, whole.",
    "reverse.many": "It is as `[forward.many]`.",
    "reverse.poll": "It is as `[forward.poll]`.",
    "forward.many.reply": "It is as `[reply]` below, whole.",
}
WORDS = {
    str: "text",
    int: "whole number",
    float: "number",
    Decimal: "number",
    date: "date",
    bool: "true or false",
    Path: "file",
    Any: "any value",
}


RULES = """\
## What holds for every service

**Nothing found needs a sign.** It is an empty list where `candidates` points to (`{"places": []}` for `$.places[*]`), a
rule of the kind `nothing found`, or a status that such a rule names. Every other reply without a list is *unreadable*:
`{}`, `null`, `{"error": …}`, 202, 404. When five replies in a row can't be read and no place was read so far, the run
stops and shows what came. Correct the description and run again: kept replies are read again, and not paid again.

**A position is read whole or not at all.** A text may be two decimals (`54.1, −8.2`), degrees with minutes and seconds
(`54°6′30″N 8°12′W`, `54:06:30 -8:12:00`, `54 06 30 N, 8 12 00 W`), a WKT point with Z, M and SRID, a `geo:` URI
(RFC 5870), or ISO 6709 (`+54.10-008.20/`). Whole numbers are divided by `scale`. Everything else is passed over, and
quoted in the reason.

**JSONPath** is RFC 9535, with filters: `$.parts[?@.type=='town'].text` is the text of the part that is a town,
`$.results[?@.score > 0.5]` are the results with a score above a half.

**Redirects** are followed within the origin (scheme, host and port), three at most, and each is a request that counts.
One to another origin is not followed, for a key must not go there: the message says where it points.

**Keys** are looked for in the environment, then in `.env` in the current folder, then in `.env` in the folder of the
description, then in `file`, `keyring` and `default`. A secret has six characters or more. It is masked in all that is
printed, logged, kept or written, in every spelling in which a service may echo it: percent-encoded, as an escape of
JSON, a reference of HTML, in Base64 or hexadecimal. When a service refuses a key that is in a `file` (401), the file is
read once more.

**A description or a job of a stranger is like a program of a stranger.** It can send any file that you may read to any
URL (`variables.NAME.file`). Read it before you run it.

**Proxies and certificates.** `[connection]` names a proxy and certificates of your own. Without it, `HTTPS_PROXY`,
`HTTP_PROXY`, `NO_PROXY` and `SSL_CERT_FILE` of the environment hold. With `pip install 'yellowtor[brotli]'`, replies
may be compressed with Brotli.

The levels, their ranks and reaches are in [outcomes.md](outcomes.md#levels).
"""


def models_of(kind: Any) -> list[type[BaseModel]]:
    """The models that a type speaks of."""
    if isinstance(kind, type) and issubclass(kind, BaseModel):
        return [kind]
    return [model for part in get_args(kind) for model in models_of(part)]


def word(kind: Any) -> str:
    """A type in plain words."""
    if get_origin(kind) is Literal:
        return ", ".join(f"`{value}`" for value in get_args(kind))
    if isinstance(kind, UnionType):
        return word(next(part for part in get_args(kind) if part is not type(None)))
    if get_origin(kind) is list:
        return f"list of {word(get_args(kind)[0])}"
    if get_origin(kind) is dict:
        return f"table of {word(get_args(kind)[1])}"
    if isinstance(kind, type) and issubclass(kind, StrEnum):
        return "text"
    return WORDS.get(kind) or (word(get_args(kind)[0]) if get_args(kind) else "text")


def default(field: FieldInfo) -> str:
    if field.is_required():
        return "**needed**"
    value = field.get_default(call_default_factory=True)
    if value in (None, "", [], {}):
        return ""
    if isinstance(value, bool):
        return f"`{str(value).lower()}`"
    return f'`"{value}"`' if isinstance(value, str) else f"`{value}`"


def section(model: type[BaseModel], path: str) -> list[str]:
    """The keys of one table, then of the tables in it."""
    plain, inner = [], []
    for name, field in model.model_fields.items():
        below = models_of(field.annotation)
        if below:
            listed, keyed = get_origin(field.annotation) is list, get_origin(field.annotation) is dict
            place = ".".join(filter(None, [path, name])) + (".NAME" if keyed else "")
            inner += ["", f"## `[[{place}]]`" if listed else f"## `[{place}]`"]
            if field.description:
                inner += ["", field.description]
            inner += ["", AGAIN[place]] if place in AGAIN else section(below[0], place)
        else:
            plain.append(
                f"| `{field.alias or name}` | {word(field.annotation)} | {default(field)} | {field.description or ''} |"
            )
    text = (model.__doc__ or "").strip()
    own = [line.strip() for line in text.splitlines()] if path and "A whole" not in text else []
    table = ["", "| key | value | default | meaning |", "|---|---|---|---|", *plain] if plain else []
    return ["", *own, *table, *inner] if own else [*table, *inner]


def page(title: str, opening: str, model: type[BaseModel], examples: dict[str, str]) -> str:
    shown = [
        line
        for name, example in examples.items()
        for line in ("", f"## {name}", "", "```toml", (DATA / example).read_text(encoding="utf-8").rstrip(), "```")
    ]
    return "\n".join([HEAD, f"# {title}", "", opening, *section(model, ""), *shown, ""])


def outcomes() -> str:
    lines = [HEAD, "# Outcomes, kinds, levels and exit codes", "", "## Outcomes", ""]
    lines += [
        "Every record ends in exactly one; they add up to the records read.",
        "",
        "| outcome | meaning |",
        "|---|---|",
    ]
    lines += [f"| *{outcome}* | {outcome.meaning} |" for outcome in Outcome]
    lines += ["", "## Exit codes", "", "| code | meaning |", "|---|---|"]
    lines += [f"| {int(code)} | {code.meaning} |" for code in Exit]
    lines += ["", "## Kinds of reply", "", "| kind | asked again | ends the asking |", "|---|---|---|"]
    yes = {True: "yes", False: ""}
    lines += [f"| {kind} | {yes[kind.may_pass]} | {yes[kind.stops_service]} |" for kind in Kind]
    lines += ["", "## Levels", "", "The terms of INSPIRE's address data specification (D2.8.I.5), finest first; the"]
    lines += ["reach is what is assumed where a reply gives no box.", "", "| rank | level | reach |", "|---|---|---|"]
    lines += [f"| {level.rank} | {level} | {level.reach_m:,.0f} m |" for level in Level]
    return "\n".join([*lines, ""])


def main(folder: Path) -> None:
    job = "A job is a TOML file. Paths in it are taken from its own folder. Every key it may have:"
    service = (
        "A service description is a TOML file that says how to ask a service and how to read its reply; a person\n"
        "with the service's documentation open writes it, best from the one of those at the end of this page that\n"
        "is most like it. What comes of it can be seen without spending anything:\n\n"
        "- `yellowtor try ADDRESS --service FILE.toml --show request` shows the request and sends nothing;\n"
        "- `yellowtor try ADDRESS --service FILE.toml --save reply.http` asks once and keeps the reply;\n"
        "- `yellowtor try --service FILE.toml --reply reply.http` reads it again, as often as you change the\n"
        "  description: which rule said what the reply means, what each path found, which found nothing.\n\n"
        "What a description need not say: statuses mean what RFC 9110 says, Retry-After and RateLimit fields are\n"
        "heeded, problem details (RFC 9457) are read, a web page or half a reply is never taken for an answer, and\n"
        "neither is a position of 0,0 or off the globe.\n\n" + RULES + "\nEvery key it may have:"
    )
    (folder / "job-file.md").write_text(
        page("The job file", job, Job, {"The demo's own": "job.toml"}), encoding="utf-8"
    )
    text = page("The service description", service, Description, EXAMPLES)
    (folder / "service-description.md").write_text(text, encoding="utf-8")
    (folder / "outcomes.md").write_text(outcomes(), encoding="utf-8")
    (folder / "architecture.md").write_text(architecture(), encoding="utf-8")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent.parent / "docs")
