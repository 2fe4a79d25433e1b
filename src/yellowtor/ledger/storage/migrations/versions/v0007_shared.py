"""A ledger may be shared: who runs, and what is in flight; a pace that was learned; how long replies are kept."""

from alembic import op

revision = "0007"
down_revision = "0006"

STEPS = """
ALTER TABLE run ADD COLUMN seen_at TEXT DEFAULT '' NOT NULL;
ALTER TABLE run ADD COLUMN who TEXT DEFAULT '' NOT NULL;
ALTER TABLE run ADD COLUMN host TEXT DEFAULT '' NOT NULL;
ALTER TABLE run ADD COLUMN process INTEGER DEFAULT '0' NOT NULL;
ALTER TABLE request ADD COLUMN took_ms INTEGER;
CREATE INDEX request_flying ON request (question_key) WHERE state = 'reserved';
CREATE INDEX reply_age ON reply (service, kind, received_at);
ALTER TABLE asking ADD COLUMN keep_days INTEGER;
ALTER TABLE asking ADD COLUMN keep_nothing_days INTEGER;
ALTER TABLE pace ADD COLUMN learned FLOAT DEFAULT '0' NOT NULL;
ALTER TABLE pace ADD COLUMN learned_at FLOAT DEFAULT '0' NOT NULL;
"""


def upgrade() -> None:
    for step in filter(str.strip, STEPS.split(";")):
        op.execute(step)
