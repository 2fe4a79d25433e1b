"""The first ledger. A new one gets its tables from schema.py."""

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Nothing comes before it."""
