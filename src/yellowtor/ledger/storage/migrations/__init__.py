"""Brings an older ledger up to date: Alembic's numbered steps, all of them in one transaction.

A step is never changed once it has been released. It speaks SQL of its own time, not of schema.py, which goes on.
"""

from pathlib import Path

from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.operations import Operations
from alembic.script import ScriptDirectory
from sqlalchemy import Connection

FOLDER = Path(__file__).parent


def upgrade(connection: Connection, version: int) -> None:
    """Take a ledger of this version to the newest, in the transaction that the connection is in."""
    config = Config()
    config.set_main_option("script_location", str(FOLDER))
    config.set_main_option("path_separator", "os")
    scripts = ScriptDirectory.from_config(config)
    steps = {
        "fn": lambda revision, _: scripts._upgrade_revs("head", revision),  # noqa: SLF001 - as its command does
        "transactional_ddl": False,
    }
    context = MigrationContext.configure(connection, opts=steps)
    context.stamp(scripts, f"{version:04d}")
    with Operations.context(context):
        context.run_migrations()
