"""What is ours: every position that was written, whichever record has it now; and every file, as it was written."""

from alembic import op

revision = "0008"
down_revision = "0007"

STEPS = """
ALTER TABLE work ADD COLUMN sent TEXT;
CREATE TABLE written_position (coordinates TEXT NOT NULL PRIMARY KEY);
INSERT INTO written_position SELECT DISTINCT written FROM work WHERE written IS NOT NULL;
CREATE TABLE written_file (digest TEXT NOT NULL PRIMARY KEY, path TEXT NOT NULL, state TEXT NOT NULL);
CREATE INDEX written_file_path ON written_file (path);
"""


def upgrade() -> None:
    for step in filter(str.strip, STEPS.split(";")):
        op.execute(step)
