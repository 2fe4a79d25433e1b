"""Rolling windows count the requests themselves, by when their replies came."""

from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.execute("CREATE INDEX request_settled ON request (account, settled_at)")
