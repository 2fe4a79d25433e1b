"""The variables of a description: where their values come from, and how secret ones stay secret."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from urllib.parse import quote, quote_plus

from dotenv import dotenv_values
from pydantic import Field

from yellowtor.errors import BadJob, KeyRefused
from yellowtor.settings import Settings

MASK = "•••"


class Variable(Settings):
    """One `[variables.NAME]` of a service description."""

    environment: str = Field(description="Name of the environment variable (or line of `.env`) with its value.")
    default: str | None = Field(None, description="The value when the environment has none.")
    secret: bool = Field(False, description="Masked in everything that is printed, logged or kept.")


@dataclass(frozen=True)
class Values:
    """The values of a description's variables. repr shows no value."""

    plain: Mapping[str, str] = field(repr=False)
    secret_names: frozenset[str] = frozenset()
    remarks: Sequence[str] = ()
    derived: Sequence[str] = field(default=(), repr=False)  # made of secrets, and as secret

    def shown(self) -> dict[str, str]:
        """The values as they may be printed."""
        return {name: MASK if name in self.secret_names else value for name, value in self.plain.items()}

    def mask(self, body: bytes) -> bytes:
        """The bytes with every secret, in each form it may take in a reply, replaced."""
        for form in self._forms:
            body = body.replace(form, MASK.encode())
        return body

    @cached_property
    def _forms(self) -> list[bytes]:
        forms = set(filter(None, self.derived))
        for name in self.secret_names:
            value = self.plain[name]
            forms |= {value, quote(value, safe=""), quote_plus(value), value.replace("/", "\\/")}
        return sorted((form.encode() for form in forms), key=len, reverse=True)

    def mask_text(self, text: str) -> str:
        return self.mask(text.encode()).decode()


def find_values(
    variables: Mapping[str, Variable],
    environment: Mapping[str, str],
    folder: Path,
    whose: str = "service",
    *,
    unset_is_shown: bool = False,
) -> Values:
    """Look every variable up: the environment, `.env` here, `.env` beside the description, its default.

    Raises KeyRefused for a secret without a value and BadJob for any other, naming each place that was
    looked in; unless they are wanted only to be shown: then the name stands for the value.
    """
    files = list(dict.fromkeys([Path.cwd() / ".env", folder / ".env"]))
    places: list[tuple[str, Mapping[str, str | None]]] = [("the environment", environment)]
    places += [(str(file), dotenv_values(file, interpolate=False)) for file in files if file.is_file()]
    looked = "the environment, " + ", ".join(map(str, files))
    plain: dict[str, str] = {}
    remarks: list[str] = []
    for name, variable in variables.items():
        found = next((v for _, place in places if (v := place.get(variable.environment)) and v.strip()), None)
        value = found if found is not None else variable.default
        if not value and unset_is_shown:
            value = f"<{variable.environment}>"
        if not value:
            error = KeyRefused if variable.secret else BadJob
            raise error(
                f"{variable.environment} has no value (it is the variable {name!r} of the {whose}). Looked in: "
                f"{looked}. Set it there. Nothing was sent."
            )
        if value != value.strip():
            remarks.append(f"{variable.environment} had blanks around its value; they were left out")
        plain[name] = value.strip()
    return Values(plain, frozenset(n for n, v in variables.items() if v.secret), remarks)


def environment() -> Mapping[str, str]:
    return os.environ
