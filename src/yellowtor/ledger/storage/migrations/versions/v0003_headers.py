"""Replies keep the header fields that something is read from: a character set, what a rule looks at."""

from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.execute("ALTER TABLE reply ADD COLUMN headers TEXT DEFAULT '{}' NOT NULL")
