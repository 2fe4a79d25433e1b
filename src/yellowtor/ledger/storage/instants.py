"""Instants as the ledger stores them."""

from datetime import UTC, datetime


def stamp(instant: datetime) -> str:
    """ISO 8601 in UTC with milliseconds: texts in this form sort by time."""
    return instant.astimezone(UTC).isoformat(timespec="milliseconds")
