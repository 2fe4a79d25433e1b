"""What a kept reply means by the rules it was read by; the machine of a run; until when an account is shut."""

from alembic import op

revision = "0009"
down_revision = "0008"

STEPS = """
ALTER TABLE candidates ADD COLUMN kind TEXT NOT NULL DEFAULT '';
ALTER TABLE candidates ADD COLUMN message TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN machine TEXT NOT NULL DEFAULT '';
ALTER TABLE pace ADD COLUMN shut_until TEXT NOT NULL DEFAULT '';
ALTER TABLE question ADD COLUMN left_open TEXT;
CREATE INDEX question_left_open ON question (key) WHERE left_open IS NOT NULL;
CREATE TABLE ticket (question_key TEXT NOT NULL PRIMARY KEY, ticket TEXT NOT NULL, place INTEGER NOT NULL,
    questions INTEGER NOT NULL);
DELETE FROM candidates;
"""


def upgrade() -> None:
    for step in filter(str.strip, STEPS.split(";")):
        op.execute(step)
