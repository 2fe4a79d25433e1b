"""Requests have a cost."""

from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.execute("ALTER TABLE request ADD COLUMN cost INTEGER DEFAULT '0' NOT NULL")
