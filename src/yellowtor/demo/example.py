"""Writes the example into a folder; changed files stay as they are."""

import shutil
import sqlite3
from contextlib import closing
from importlib.util import find_spec
from pathlib import Path

from yellowtor.errors import BadSource

SERVICES = ("stand-in.toml", "stand-in-xml.toml", "stand-in-text.toml", "stand-in-geojson.toml", "stand-in-many.toml")
JOBS = ("job.toml", "partners.toml", "lamps.toml", "register.toml")
REFERENCE = ("addresses.toml", "addresses.csv.gz")
FILES = (*JOBS, *SERVICES, *REFERENCE, "cabinets.xlsx", "lamps.csv", "coast.geojson", "roads.geojson")
DATABASE = "partners.sqlite"


def lay_out(data: Path, into: Path, key: str) -> bool:
    """Copy what is not there yet; whether the partners' database was made just now. Raises BadSource."""
    try:
        into.mkdir(parents=True, exist_ok=True)
        for name in FILES:
            if not (into / name).exists():
                shutil.copyfile(data / name, into / name)
                if name == "job.toml" and find_spec("matplotlib") is None:
                    without_pictures(into / name)
        if not (into / ".env").exists():
            (into / ".env").touch(mode=0o600)
            (into / ".env").write_text(f"YELLOWTOR_STANDIN_KEY={key}\n", encoding="utf-8")
        if (into / DATABASE).exists():
            return False
        run_sql(into / DATABASE, data / "partners.sql")
    except (OSError, sqlite3.Error) as error:
        said = getattr(error, "strerror", None) or error
        raise BadSource(
            f"The example can't be copied into {into}: {said}. Choose another folder with --into."
        ) from error
    return True


def without_pictures(job: Path) -> None:
    """Take out of the job what only Matplotlib can draw."""
    text = job.read_text(encoding="utf-8").replace(', "cabinets.png", "cabinets.labels.pdf"', "")
    job.write_text(text[: text.index("\n[markers.pictures]")], encoding="utf-8")


def run_sql(database: Path, script: Path) -> None:
    """Run a script of SQL on an SQLite database, whole or not at all."""
    with closing(sqlite3.connect(database)) as connection:
        connection.executescript(f"BEGIN;\n{script.read_text(encoding='utf-8')}COMMIT;")
