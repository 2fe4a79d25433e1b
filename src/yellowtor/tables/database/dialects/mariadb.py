"""MariaDB and MySQL, which share a dialect of SQL."""

import re
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects.mysql import FLOAT
from sqlalchemy.engine import URL

from yellowtor.tables.column_precision import SIX_DIGITS, Coarse
from yellowtor.tables.database.dialects.base import DatabaseDialect

DEFINES = r"\b(?:ALL PRIVILEGES|{})\b(?! (?:USER|ROUTINE|VIEW|TEMPORARY|TABLESPACE))"


class MariaDB(DatabaseDialect):
    """MariaDB by PyMySQL."""

    def __init__(self, driver: str) -> None:
        self.driver = driver

    def engine(self, url: URL) -> sa.Engine:
        """Through a socket of this machine without TLS, whose certificates would be read for each connection."""
        return super().engine(url.update_query_dict({"ssl_disabled": "1"}) if "unix_socket" in url.query else url)

    def lock_timeout(self, seconds: int) -> str:
        return f"SET innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}"

    def rounding(self, kind: Any) -> Coarse | None:
        if isinstance(kind, FLOAT) and kind.scale is None:
            return SIX_DIGITS
        return super().rounding(kind)

    def is_comparable(self, kind: Any) -> bool:
        """FLOAT is not: the server sends fewer digits than it stores."""
        return type(kind) is not FLOAT

    def as_double(self, value: Any) -> Any:
        return value.op("+")(sa.literal_column("0e0"))

    def exact(self, value: Any, kind: Any) -> Any:
        del kind
        return sa.cast(value, sa.BINARY)

    def may_define(self, connection: sa.Connection, statement: str) -> bool:
        grants = [str(row[0]) for row in connection.exec_driver_sql("SHOW GRANTS")]
        return any(re.search(DEFINES.format(statement), grant) for grant in grants)
