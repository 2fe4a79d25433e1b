"""The variables of a description: where their values come from, and how secret ones stay secret."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from dotenv import dotenv_values
from pydantic import Field, model_validator

from yellowtor.contracts.ambient import Ambient
from yellowtor.contracts.secret import Secret
from yellowtor.errors import BadJob, KeyRefused
from yellowtor.services.masking import SHORTEST
from yellowtor.settings import Settings


class Variable(Settings):
    """A variable of the templates. Its value is looked for in the order of these keys."""

    environment: str | None = Field(
        None, description="Name of the environment variable (or line of `.env`) with its value."
    )
    file: Path | None = Field(
        None, description="Or a file that contains only the value, relative to the description's folder, or `~/…`."
    )
    keyring: str | None = Field(
        None,
        description="Or an entry of the system's keyring, `service/user` (`pip install 'yellowtor[keyring]'`).",
    )
    default: str | None = Field(None, description="The value if no other place has one.")
    secret: bool = Field(False, description="Masked in everything that is printed, logged or stored.")

    @model_validator(mode="after")
    def _somewhere(self) -> "Variable":
        if not (self.environment or self.file or self.keyring or self.default):
            raise ValueError("needs environment, file, keyring or default: where its value is")
        if self.keyring and "/" not in self.keyring:
            raise ValueError(f"keyring = {self.keyring!r} is not service/user")
        return self

    def place(self) -> str:
        """The variable's name for people."""
        return self.environment or str(self.file or "") or self.keyring or "a default"


@dataclass(frozen=True)
class Values:
    """The values of a description's variables, and remarks about them.

    unset names the variables without a value: their names stand for the values, and nothing can be sent.
    """

    values: Mapping[str, str | Secret]
    remarks: Sequence[str] = ()
    unset: Sequence[str] = ()

    @cached_property
    def plain(self) -> Mapping[str, str]:
        """The values as a request needs them."""
        return {name: value.reveal() if isinstance(value, Secret) else value for name, value in self.values.items()}

    @property
    def secret_names(self) -> frozenset[str]:
        """The variables whose values are secret."""
        return frozenset(name for name, value in self.values.items() if isinstance(value, Secret))

    def shown(self) -> dict[str, str]:
        """The values as they may be printed."""
        return {name: str(value) for name, value in self.values.items()}

    def secrets(self) -> list[str]:
        """The secret values, to be masked."""
        return [self.plain[name] for name in self.secret_names]


def find_values(
    variables: Mapping[str, Variable],
    ambient: Ambient,
    folder: Path,
    whose: str = "service",
    *,
    unset_is_shown: bool = False,
) -> Values:
    """Look up every variable: the environment, `.env` here, `.env` in the folder, file, keyring, default.

    Raises KeyRefused for a secret without a value and BadJob for any other; the message names each place.
    unset_is_shown: the name replaces a missing value instead.
    """
    files = list(dict.fromkeys([ambient.folder / ".env", folder / ".env"]))
    places: list[Mapping[str, str | None]] = [ambient.environment]
    places += [_lines(file) for file in files if file.is_file()]
    plain: dict[str, str] = {}
    unset: dict[str, str] = {}
    remarks: list[str] = []
    for name, variable in variables.items():
        looked: list[str] = []
        value = None
        if variable.environment:
            looked += ["the environment", *map(str, files)]
            value = next((v for place in places if (v := place.get(variable.environment)) and v.strip()), None)
        value = value or _from_file(variable, folder, looked) or _from_keyring(variable, looked) or variable.default
        if variable.secret and value and (open_ := _open_to_others(variable, files, folder)):
            remarks.append(f"{open_} holds a key, and every user of this machine can read it: chmod 600 {open_}")
        if not value and unset_is_shown:
            value = f"<{variable.place()}>"
            unset[name] = variable.place()
        if not value:
            error = KeyRefused if variable.secret else BadJob
            raise error(
                f"{variable.place()} has no value (it is the variable {name!r} of the {whose}). Looked in: "
                f"{', '.join(looked)}. Set it there. Nothing was sent."
            )
        if not value.isascii() and any("\ud800" <= character <= "\udfff" for character in value):
            raise BadJob(f"{variable.place()} is not text in UTF-8. Nothing was sent.")
        if variable.secret and whose == "service" and name not in unset and len(value.strip()) < SHORTEST:
            raise KeyRefused(
                f"{variable.place()} is shorter than {SHORTEST} characters. A secret so short can't be masked: it "
                "occurs in other texts. Nothing was sent."
            )
        if value != value.strip():
            remarks.append(f"{variable.place()} had blanks around its value; they were left out")
        plain[name] = value.strip()
    secret = {name for name, variable in variables.items() if variable.secret and name not in unset}
    values = {name: Secret(text) if name in secret else text for name, text in plain.items()}
    return Values(values, remarks, tuple(unset.values()))


def _open_to_others(variable: Variable, files: Sequence[Path], folder: Path) -> Path | None:
    """The file that a secret may be from, if others than its owner can read it."""
    if os.name != "posix":
        return None
    named = [folder / variable.file.expanduser()] if variable.file else []
    for file in [*named, *(files if variable.environment else ())]:
        try:
            if file.is_file() and file.stat().st_mode & 0o004 and (file in named or _holds(file, variable)):
                return file
        except OSError:
            continue
    return None


def _holds(file: Path, variable: Variable) -> bool:
    return bool(_lines(file).get(variable.environment or ""))


def _lines(file: Path) -> Mapping[str, str | None]:
    """What a `.env` says."""
    try:
        return dotenv_values(file, interpolate=False, encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise BadJob(f"{file} can't be read: {error}. Save it as UTF-8. Nothing was sent.") from error


def _from_file(variable: Variable, folder: Path, looked: list[str]) -> str | None:
    if variable.file is None:
        return None
    path = folder / variable.file.expanduser()
    looked.append(str(path))
    try:
        return path.read_text(encoding="utf-8-sig").rstrip("\r\n")
    except FileNotFoundError:
        return None
    except (OSError, UnicodeDecodeError) as error:
        raise BadJob(f"{path}, which holds a variable, can't be read: {error}. Nothing was sent.") from error


def _from_keyring(variable: Variable, looked: list[str]) -> str | None:
    if variable.keyring is None:
        return None
    looked.append(f"the keyring's entry {variable.keyring}")
    try:
        import keyring
    except ImportError as error:
        raise BadJob(
            f"{variable.keyring} is in the keyring, which needs: pip install 'yellowtor[keyring]'. Nothing was sent."
        ) from error
    service, _, user = variable.keyring.rpartition("/")
    try:
        return keyring.get_password(service, user)
    except keyring.errors.KeyringError as error:
        raise BadJob(f"The keyring can't be asked for {variable.keyring}: {error}. Nothing was sent.") from error
