"""A lock for each account of a shared ledger, in place of one for all; numbers of requests from a sequence."""

from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    if op.get_bind().dialect.name == "postgresql":
        op.execute("CREATE TABLE lock_turn (name text PRIMARY KEY, turn bigint NOT NULL)")
        op.execute("SELECT setval('request_id_seq', (SELECT coalesce(max(id), 0) + 1 FROM request), false)")
