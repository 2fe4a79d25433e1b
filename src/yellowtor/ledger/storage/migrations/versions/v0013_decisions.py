"""People decide that no answer fits, choose a candidate, or correct an address. What was before is kept."""

from alembic import op

revision = "0013"
down_revision = "0012"

PIN = """
ALTER TABLE pin RENAME TO old_pin;
DROP INDEX pin_record;
CREATE TABLE pin (id INTEGER NOT NULL PRIMARY KEY, job_id INTEGER REFERENCES job (id), "key" TEXT,
    address_key TEXT UNIQUE, lat FLOAT, lon FLOAT, who TEXT NOT NULL, why TEXT NOT NULL, pinned_at TEXT NOT NULL);
INSERT INTO pin (id, job_id, "key", address_key, lat, lon, who, why, pinned_at)
    SELECT id, job_id, "key", address_key, lat, lon, who, why, pinned_at FROM old_pin;
DROP TABLE old_pin;
CREATE UNIQUE INDEX pin_record ON pin (job_id, "key");
"""
OTHERS = """
ALTER TABLE pin ADD COLUMN service TEXT NOT NULL DEFAULT '';
ALTER TABLE pin ADD COLUMN level TEXT NOT NULL DEFAULT '';
ALTER TABLE pin ADD COLUMN matched TEXT NOT NULL DEFAULT '';
CREATE TABLE correction (address_key TEXT NOT NULL PRIMARY KEY, corrected_key TEXT NOT NULL, parts TEXT NOT NULL,
    who TEXT NOT NULL, why TEXT NOT NULL, made_at TEXT NOT NULL);
CREATE INDEX correction_corrected ON correction (corrected_key);
ALTER TABLE answer ADD COLUMN since TEXT NOT NULL DEFAULT '';
CREATE TABLE past_answer (job_id INTEGER NOT NULL, address_id INTEGER NOT NULL, judged_by TEXT, since TEXT NOT NULL,
    until TEXT NOT NULL, service TEXT NOT NULL, asked_at TEXT NOT NULL, outcome TEXT NOT NULL, basis TEXT NOT NULL,
    level TEXT NOT NULL, matched TEXT NOT NULL, lat FLOAT, lon FLOAT, confidence FLOAT);
CREATE INDEX past_answer_address ON past_answer (job_id, address_id);
CREATE TABLE past_work (job_id INTEGER NOT NULL, "key" TEXT NOT NULL, address_id INTEGER NOT NULL,
    until TEXT NOT NULL);
CREATE INDEX past_work_key ON past_work (job_id, "key");
CREATE TABLE past_pin (job_id INTEGER, "key" TEXT, address_key TEXT, lat FLOAT, lon FLOAT, who TEXT NOT NULL,
    why TEXT NOT NULL, pinned_at TEXT NOT NULL, until TEXT NOT NULL);
CREATE INDEX past_pin_key ON past_pin (job_id, "key");
CREATE INDEX past_pin_address ON past_pin (address_key);
"""
NULLABLE = """
ALTER TABLE pin ALTER COLUMN lat DROP NOT NULL;
ALTER TABLE pin ALTER COLUMN lon DROP NOT NULL;
"""


def upgrade() -> None:
    first = PIN if op.get_bind().dialect.name == "sqlite" else NULLABLE
    for step in filter(str.strip, (first + OTHERS).split(";")):
        op.execute(step)
