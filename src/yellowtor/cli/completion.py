"""What a shell can complete beside commands and options: jobs, descriptions, names of services, parts of an address.

Only files in the folder that is being typed are looked at.
"""

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated

import typer

PARTS = ("whole", "number", "street", "town", "postcode", "region", "country")
LARGEST = 1 << 20  # bytes of a file that is read


def job_files(incomplete: str) -> list[str]:
    """Job files, and folders that may hold some."""
    return list(_files(incomplete, "records"))


JobArgument = Annotated[Path, typer.Argument(metavar="JOB.toml", help="The job file.", autocompletion=job_files)]


AsJson = Annotated[bool, typer.Option("--json", help="Print it as JSON on standard output.")]


def description_files(incomplete: str) -> list[str]:
    """Service descriptions, and folders that may hold some."""
    return list(_files(incomplete, "service"))


def service_names(incomplete: str) -> list[str]:
    """The names of the services that are described in the current folder."""
    found = [_read(path).get("service", {}) for path in sorted(Path().glob("*.toml"))]
    names = [str(about["name"]) for about in found if isinstance(about, dict) and "name" in about]
    return [name for name in dict.fromkeys(names) if name.startswith(incomplete)]


def address_parts(incomplete: str) -> list[str]:
    """The names of an address's parts, each with its equals sign."""
    return [f"{part}=" for part in PARTS if f"{part}=".startswith(incomplete)]


def _files(incomplete: str, table: str) -> Iterator[str]:
    """Folders, and TOML files with this table, whose path begins like this."""
    folder, _, name = incomplete.rpartition("/")
    before = f"{folder}/" if "/" in incomplete else ""
    try:
        there = sorted(Path(before or ".").iterdir())
    except OSError:
        return
    for path in there:
        if not path.name.startswith(name) or (path.name.startswith(".") and not name):
            continue
        if path.is_dir():
            yield f"{before}{path.name}/"
        elif path.suffix == ".toml" and table in _read(path):
            yield f"{before}{path.name}"


def _read(path: Path) -> dict[str, object]:
    """What a TOML file says; nothing if it can't be read."""
    import tomllib

    try:
        return tomllib.loads(path.read_text(encoding="utf-8-sig")) if path.stat().st_size < LARGEST else {}
    except (OSError, ValueError, RecursionError):
        return {}
