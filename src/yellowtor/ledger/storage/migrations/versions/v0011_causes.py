"""Why an answer is doubtful, in a word: the report groups by it."""

from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.execute("ALTER TABLE answer ADD COLUMN cause TEXT NOT NULL DEFAULT ''")
