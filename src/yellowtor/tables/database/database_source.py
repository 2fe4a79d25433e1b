"""Where the records are in a database, and the connection to it through SQLAlchemy.

The database's errors become ours here; each says what was and was not written. No message contains a password.
"""

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa
from sqlalchemy.engine import URL
from sqlalchemy.exc import DBAPIError, NoSuchModuleError, SQLAlchemyError

from yellowtor.database_url import DatabaseUrl
from yellowtor.errors import BadSource
from yellowtor.tables.database.dialects.registry import dialect_of

_NAME = re.compile(r"""(?:("(?:[^"]|"")+"|`[^`]+`|.*?[^"`])\.)?("(?:[^"]|"")+"|`[^`]+`|[^."`]+)""", re.DOTALL)


def _unquoted(name: str) -> str:
    return name[1:-1].replace('""', '"') if name[0] in '"`' else name


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"' if set(name) & set('."`') else name


@dataclass(frozen=True, slots=True)
class Named:
    """The name of a table, with its schema if stated."""

    table: str
    schema: str | None = None

    @classmethod
    def parse(cls, text: str) -> "Named":
        """A table as people write it: sites, public.sites, or in quotes (as SQL has them) where a name has a point."""
        found = _NAME.fullmatch(text.strip())
        if found is None:
            raise BadSource(
                f'{text!r} is not a table name: write sites, public.sites, or "my.sites" in quotes. Nothing was sent.'
            )
        schema, table = (name and _unquoted(name) for name in found.groups())
        return cls(table, schema or None)

    def __str__(self) -> str:
        return ".".join(_quoted(name) for name in (self.schema, self.table) if name)


@dataclass(frozen=True, slots=True)
class DatabaseLocation:
    """Where records are in a database: a table or a query.

    keys identify records (default: the primary key), only is a SQL condition, first a SQL order, results another table
    for the answers.
    """

    url: DatabaseUrl
    table: Named | None
    query: str | None = None
    keys: tuple[str, ...] = ()
    only: str | None = None
    first: str | None = None
    results: Named | None = None

    def full_url(self, folder: Path) -> URL:
        """The URL with its password and its driver; an SQLite file is looked for from the job's folder."""
        url = self.url.read()
        if url is None:
            raise BadSource(
                f"records.database = {self.url.as_written()!r} is not the URL of a database, such as "
                "postgresql://user@host/name or sqlite:///file.db. Nothing was sent."
            )
        dialect = dialect_of(url.drivername)
        return dialect.located(url.set(drivername=dialect.driver or url.drivername), folder)

    def shown(self) -> str:
        """The URL without password, driver and options."""
        return str(self.url)


def open_engine(url: URL) -> sa.Engine:
    """An engine that keeps no connection open between its uses."""
    try:
        return dialect_of(url.get_backend_name()).engine(url)
    except (NoSuchModuleError, ModuleNotFoundError) as error:
        raise BadSource(
            f"No driver for {url.drivername} is installed ({error}). For PostgreSQL: pip install "
            "'yellowtor[postgres]', for MariaDB: pip install 'yellowtor[mariadb]'. Nothing was sent."
        ) from error


@contextmanager
def translated(name: str, what: str, written: Callable[[], int] | None = None) -> Iterator[None]:
    """The database's errors, as ours. written tells how many rows are there already, while rows are written."""
    try:
        yield
    except DBAPIError as error:
        count = written() if written else 0
        fate = f"{count:,} rows before are written, each whole" if count else "Nothing was written"
        later = "; the answers are kept in the ledger, and the next run goes on without asking again" if written else ""
        raise BadSource(f"{name} {what}: {database_message(error.orig)}. {fate}{later}.") from error
    except SQLAlchemyError as error:
        raise BadSource(f"{name} {what}: {error}. Nothing was written.") from error
    except OSError as error:  # of the temporary file
        raise BadSource(f"{name} {what}: {error.strerror or error}. Nothing was written.") from error


def database_message(error: BaseException | None) -> str:
    """What the database says, on one line: PyMySQL's errors are a number and a text."""
    parts = getattr(error, "args", ())
    text = str(parts[-1]) if parts and isinstance(parts[0], int) else str(error)
    return next((line.strip().rstrip(".") for line in text.splitlines() if line.strip()), type(error).__name__)
