"""What the other records of a job say of an answer; where a record was before it moved."""

from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.execute("ALTER TABLE answer ADD COLUMN town TEXT NOT NULL DEFAULT ''")
    op.execute("ALTER TABLE answer ADD COLUMN streets INTEGER NOT NULL DEFAULT '0'")
    op.execute("ALTER TABLE work ADD COLUMN moved_from TEXT")
    op.execute("ALTER TABLE answer ADD COLUMN away_m FLOAT NOT NULL DEFAULT '0'")
