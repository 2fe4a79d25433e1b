"""Updates an older ledger: Alembic's numbered steps, all of them in one transaction.

A released step is never changed. It contains its own SQL and does not use schema.py, which changes later.
"""

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection

FOLDER = Path(__file__).parent


def upgrade(connection: Connection, version: int) -> None:
    """Update a ledger of this version to the newest, in the transaction of the connection."""
    config = Config(attributes={"connection": connection})
    config.set_main_option("script_location", str(FOLDER))
    config.set_main_option("path_separator", "os")
    command.stamp(config, f"{version:04d}")
    command.upgrade(config, "head")
