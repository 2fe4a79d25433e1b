"""A job asks several services about an address: judgements are of addresses, questions know how they are asked.

Judgements are made anew from the kept replies at the next run.
"""

from alembic import op

revision = "0004"
down_revision = "0003"

STEPS = """
CREATE TABLE asking (id INTEGER NOT NULL PRIMARY KEY, "key" TEXT NOT NULL UNIQUE, service TEXT NOT NULL);
ALTER TABLE question ADD COLUMN asking_id INTEGER REFERENCES asking (id);
CREATE INDEX question_address ON question (address_id, asking_id);
CREATE TABLE judged (job_id INTEGER NOT NULL, address_id INTEGER NOT NULL, reply_id INTEGER, newest INTEGER,
  judged_by TEXT, enough INTEGER NOT NULL, outcome TEXT NOT NULL, lat FLOAT, lon FLOAT, confidence FLOAT,
  basis TEXT NOT NULL, level TEXT NOT NULL, matched TEXT NOT NULL, parts TEXT NOT NULL, reasons TEXT NOT NULL,
  PRIMARY KEY (job_id, address_id)) WITHOUT ROWID;
INSERT OR REPLACE INTO judged SELECT answer.job_id, asked.address_id, reply_id, NULL, NULL, 0, outcome, lat, lon,
  confidence, basis, level, matched, parts, reasons FROM
  (SELECT DISTINCT job_id, address_id, question_id FROM work WHERE question_id IS NOT NULL) AS asked
  JOIN answer ON answer.job_id = asked.job_id AND answer.question_id = asked.question_id;
DROP TABLE answer;
ALTER TABLE judged RENAME TO answer;
DROP INDEX work_question;
DROP INDEX work_state;
ALTER TABLE work DROP COLUMN question_id;
CREATE INDEX work_state ON work (job_id, state, address_id, pin_id);
UPDATE job SET composed_by = '', judged_by = '';
DELETE FROM last_scan
"""


def upgrade() -> None:
    for statement in STEPS.split(";"):
        op.execute(statement)
