"""A source may have parts, which are scanned apart: places are wider, and each part has a last scan of its own."""

from alembic import op

revision = "0014"
down_revision = "0013"

STEPS = """
DROP TABLE last_scan;
CREATE TABLE last_scan (job_id INTEGER NOT NULL, part INTEGER NOT NULL DEFAULT '0', source TEXT NOT NULL,
    PRIMARY KEY (job_id, part));
CREATE TABLE part (job_id INTEGER NOT NULL, name TEXT NOT NULL, number INTEGER NOT NULL, PRIMARY KEY (job_id, name));
"""
WIDER = """ALTER TABLE work SET (fillfactor = 50);
ALTER TABLE work ALTER COLUMN place TYPE BIGINT;"""


def upgrade() -> None:
    """The next run reads its source once more: what the last scans found is not taken over."""
    wider = "" if op.get_bind().dialect.name == "sqlite" else WIDER
    for step in filter(str.strip, (STEPS + wider).split(";")):
        op.execute(step)
