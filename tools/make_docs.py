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
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import Exit
from yellowtor.run.jobs.job import Job
from yellowtor.services.description import Description
from yellowtor.services.reference_settings import ReferenceDescription

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
    "reverse.reply": "The keys are those of `[reply]` below.",
    "reverse.many": "The keys are those of `[forward.many]`.",
    "reverse.poll": "The keys are those of `[forward.poll]`.",
    "forward.many.reply": "The keys are those of `[reply]` below.",
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
        "Every record ends with exactly one outcome. The outcomes add up to the records read.",
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
    lines += ["reach is assumed if a reply has no bounding box.", "", "| rank | level | reach |", "|---|---|---|"]
    lines += [f"| {level.rank} | {level} | {level.reach_m:,.0f} m |" for level in Level]
    return "\n".join([*lines, ""])


def main(folder: Path) -> None:
    job = "A job is a TOML file. Its paths are relative to its own folder. All keys:"
    service = (Path(__file__).parent / "service-description-intro.md").read_text(encoding="utf-8").rstrip()
    (folder / "job-file.md").write_text(
        page("The job file", job, Job, {"The demo's own": "job.toml"}), encoding="utf-8"
    )
    text = page("The service description", service, Description, EXAMPLES)
    (folder / "service-description.md").write_text(text, encoding="utf-8")
    reference = (Path(__file__).parent / "reference-intro.md").read_text(encoding="utf-8").rstrip()
    text = page("Reference tables", reference, ReferenceDescription, {"The demo's own": "addresses.toml"})
    (folder / "reference.md").write_text(text, encoding="utf-8")
    (folder / "outcomes.md").write_text(outcomes(), encoding="utf-8")
    (folder / "architecture.md").write_text(architecture(), encoding="utf-8")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent.parent / "docs")
