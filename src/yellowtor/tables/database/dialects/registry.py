"""Which dialect a database has, by the first part of its URL. A new database is a file here and a line below."""

from yellowtor.tables.database.dialects.base import DatabaseDialect
from yellowtor.tables.database.dialects.mariadb import MariaDB
from yellowtor.tables.database.dialects.postgresql import PostgreSQL
from yellowtor.tables.database.dialects.sqlite import SQLite

DIALECTS: dict[str, DatabaseDialect] = {
    "sqlite": SQLite(),
    "postgresql": PostgreSQL(),
    "mariadb": MariaDB("mariadb+pymysql"),
    "mysql": MariaDB("mysql+pymysql"),
}
STANDARD = DatabaseDialect()  # of a database that is not registered


def dialect_of(backend: str) -> DatabaseDialect:
    """The dialect by SQLAlchemy's name of the database (URL.get_backend_name(), Engine.dialect.name)."""
    return DIALECTS.get(backend, STANDARD)
