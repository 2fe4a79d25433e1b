"""The texts of a page in its language: TOML files in assets/texts, or one of the job's own."""

import tomllib
from collections.abc import Mapping
from importlib.resources import files
from pathlib import Path

from yellowtor.errors import BadJob

USUAL = "en"


def texts_in(language: str) -> Mapping[str, str]:
    """The texts that ship with the program."""
    file = files("yellowtor.markers") / "assets" / "texts" / f"{language}.toml"
    return tomllib.loads(file.read_text(encoding="utf-8"))


def own_texts(path: Path) -> Mapping[str, str]:
    """The texts of a file; those that it does not have are English.

    Raises BadJob if it can't be read, has a name that is unknown, or a text that is none.
    """
    usual = texts_in(USUAL)
    try:
        found = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except (OSError, ValueError) as error:
        said = getattr(error, "strerror", None) or error
        raise BadJob(f"{path}, the texts of markers.map, can't be read: {said}. Nothing was sent.") from error
    if unknown := sorted(found.keys() - usual.keys()):
        names = ", ".join(usual)
        raise BadJob(f"{path} has {', '.join(unknown)}, which is no text of the page (there are: {names}).")
    if wrong := [name for name, text in found.items() if not isinstance(text, str)]:
        raise BadJob(f"{path}: {', '.join(wrong)} must be a text.")
    return {**usual, **found}
