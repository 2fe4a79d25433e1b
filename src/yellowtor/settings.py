"""Reads a TOML file into a frozen pydantic model.

Every message about a job or a description has the same form: the file, the line if known, the key, the value, the
rule.
"""

import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from yellowtor.errors import BadJob

MOST_PARTS = 200  # of a key, between its points; reading one takes the square of their number


class Settings(BaseModel):
    """The base of every model that a person writes as TOML: frozen, and closed to unknown keys."""

    model_config = ConfigDict(frozen=True, extra="forbid", str_strip_whitespace=True, allow_inf_nan=False)


Model = TypeVar("Model", bound=Settings)


def read_settings(path: Path, model: type[Model], what: str) -> Model:
    """Read the file at path as model; what ("job", "service description") names it in messages.

    Raises BadJob with one line per mistake.
    """
    data = read_toml(path, what)
    return check_settings(data, model, what, path)


def read_toml(path: Path, what: str) -> dict[str, Any]:
    """The contents of the file. Raises BadJob if it can't be read or is not TOML."""
    try:
        data = parse_toml(path.read_text(encoding="utf-8-sig"))
        nul = any("\0" in text for text in _texts(data))
    except FileNotFoundError as error:
        raise BadJob(f"There is no {what} at {path}. Nothing was sent.") from error
    except tomllib.TOMLDecodeError as error:
        raise BadJob(f"The {what} {path} is not valid TOML: {error}. Nothing was sent.") from error
    except (OSError, UnicodeDecodeError) as error:
        raise BadJob(f"The {what} {path} can't be read: {error}. Nothing was sent.") from error
    except RecursionError as error:
        raise BadJob(f"The {what} {path} is nested too deep. Nothing was sent.") from error
    if nul:
        raise BadJob(f"The {what} {path} has the character U+0000 in it, which no name can have. Nothing was sent.")
    return data


def parse_toml(text: str) -> dict[str, Any]:
    """What TOML says. Raises TOMLDecodeError, also for a key with too many parts to read."""
    for number, line in enumerate(text.splitlines(), 1):
        if line.count(".") > MOST_PARTS and line.partition("=")[0].count(".") > MOST_PARTS:
            raise tomllib.TOMLDecodeError(
                f"it is nested too deep: a key has more than {MOST_PARTS} parts (at line {number})"
            )
    return tomllib.loads(text)


def _texts(value: object) -> Iterator[str]:
    """Every text in what a TOML file says."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict | list):
        for one in (*value, *value.values()) if isinstance(value, dict) else value:
            yield from _texts(one)


def check_settings(data: dict[str, Any], model: type[Model], what: str, path: Path | None = None) -> Model:
    """The data as model; path is its file. Raises BadJob with one line for each mistake."""
    try:
        return model.model_validate(data)
    except ValidationError as error:
        text = path.read_text(encoding="utf-8") if path else ""
        mistakes = [f"  {path or what}{_line(text, m['loc'])}: {_say(m, model)}" for m in error.errors()]
        count = "one mistake" if len(mistakes) == 1 else f"{len(mistakes)} mistakes"
        raise BadJob(f"The {what} has {count}. Nothing was sent, nothing written.\n" + "\n".join(mistakes)) from error


def _say(mistake: Any, model: type[BaseModel]) -> str:
    key = ".".join(str(step) for step in mistake["loc"]) or "the file"
    if mistake["type"] == "extra_forbidden":
        known = _known_keys(model, mistake["loc"][:-1])
        return f"{key} is not a key that is known here" + (f" (known: {', '.join(known)})" if known else "")
    if mistake["type"] == "missing":
        return f"{key} is missing"
    rule = mistake["msg"].removeprefix("Value error, ")
    value = "" if isinstance(mistake["input"], dict) else f" = {mistake['input']!r}"
    return f"{key}{value}: {rule[0].lower() + rule[1:]}"


def _known_keys(model: type[BaseModel], place: tuple[Any, ...]) -> list[str]:
    """The keys that a table at place may have; empty where the model doesn't say."""
    here: Any = model
    for step in place:
        if isinstance(step, int):
            continue
        field = getattr(here, "model_fields", {}).get(step)
        if field is None:
            return []
        kinds = [field.annotation, *getattr(field.annotation, "__args__", ())]
        here = next((k for k in kinds if isinstance(k, type) and issubclass(k, BaseModel)), None)
    return [f.alias or name for name, f in getattr(here, "model_fields", {}).items()]


def _line(text: str, place: tuple[Any, ...]) -> str:
    """The line of a key in the text, as ", line N"; empty if unknown."""
    names = [str(step) for step in place if not isinstance(step, int)]
    table: list[str] = []
    for number, line in enumerate(text.splitlines(), 1):
        if header := re.match(r"\s*\[{1,2}\s*([^\]]+?)\s*\]{1,2}", line):
            table = [part.strip().strip("\"'") for part in header[1].split(".")]
            if table == names:
                return f", line {number}"
        elif key := re.match(r"""\s*["']?([\w.-]+)["']?\s*=""", line):
            here = table + key[1].split(".")
            if here == names[: len(here)] and len(here) >= len(names) - 1:
                return f", line {number}"
    return ""
