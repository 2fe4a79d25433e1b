"""Addresses, questions and judgements get tables of their own, so that a record is narrow; people can pin positions.

Judgements are made anew from the kept replies at the next run, since the parts of a matched address were not kept.
"""

from alembic import op

revision = "0002"
down_revision = "0001"

STEPS = """
CREATE TABLE address (id INTEGER NOT NULL PRIMARY KEY, "key" TEXT NOT NULL UNIQUE, parts TEXT NOT NULL);
CREATE TABLE question (id INTEGER NOT NULL PRIMARY KEY, "key" TEXT NOT NULL UNIQUE,
  address_id INTEGER NOT NULL REFERENCES address (id));
CREATE TABLE pin (id INTEGER NOT NULL PRIMARY KEY, job_id INTEGER REFERENCES job (id), "key" TEXT,
  address_key TEXT UNIQUE, lat FLOAT NOT NULL, lon FLOAT NOT NULL, who TEXT NOT NULL, why TEXT NOT NULL,
  pinned_at TEXT NOT NULL);
CREATE UNIQUE INDEX pin_record ON pin (job_id, "key");
CREATE TABLE answer (job_id INTEGER NOT NULL, question_id INTEGER NOT NULL, reply_id INTEGER, judged_by TEXT,
  outcome TEXT NOT NULL, lat FLOAT, lon FLOAT, confidence FLOAT, basis TEXT NOT NULL, level TEXT NOT NULL,
  matched TEXT NOT NULL, parts TEXT NOT NULL, reasons TEXT NOT NULL, PRIMARY KEY (job_id, question_id)) WITHOUT ROWID;
CREATE TABLE record (id INTEGER NOT NULL PRIMARY KEY, job_id INTEGER NOT NULL, "key" TEXT NOT NULL, place INTEGER,
  raw_hash TEXT NOT NULL, held TEXT, held_hash TEXT NOT NULL, written TEXT, state TEXT NOT NULL,
  reasons TEXT NOT NULL, address_id INTEGER NOT NULL, question_id INTEGER, pin_id INTEGER);
INSERT INTO address ("key", parts) SELECT address_key, min(address) FROM work GROUP BY address_key;
INSERT INTO question ("key", address_id) SELECT asked.question_key, address.id FROM
  (SELECT question_key, min(address_key) AS address_key FROM work WHERE question_key IS NOT NULL GROUP BY question_key)
  AS asked JOIN address ON address."key" = asked.address_key;
INSERT INTO answer SELECT work.job_id, question.id, max(work.reply_id), NULL, max(work.outcome), max(work.lat),
  max(work.lon), max(work.confidence), max(work.basis), max(work.level), max(work.matched), '{}', max(work.reasons)
  FROM work JOIN question ON question."key" = work.question_key WHERE work.outcome IS NOT NULL
  GROUP BY work.job_id, question.id;
INSERT INTO record (job_id, "key", raw_hash, held, held_hash, written, state, reasons, address_id, question_id)
  SELECT work.job_id, work."key", work.raw_hash, work.held, work.held_hash, work.written, work.state,
  CASE WHEN work.question_key IS NULL THEN work.reasons ELSE '[]' END, address.id, question.id
  FROM work JOIN address ON address."key" = work.address_key
  LEFT JOIN question ON question."key" = work.question_key ORDER BY work.job_id, work."key";
DROP TABLE work;
ALTER TABLE record RENAME TO work;
CREATE UNIQUE INDEX work_key ON work (job_id, "key");
CREATE INDEX work_place ON work (job_id, place);
CREATE INDEX work_question ON work (job_id, question_id, pin_id);
CREATE INDEX work_state ON work (job_id, state);
CREATE INDEX work_pin ON work (job_id) WHERE pin_id IS NOT NULL;
UPDATE job SET judged_by = '';
DELETE FROM last_scan;
DROP TABLE last_order
"""


def upgrade() -> None:
    for statement in STEPS.split(";"):
        op.execute(statement)
