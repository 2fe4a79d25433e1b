"""The ledger: every request, reply, judgement and pin, in SQLite or PostgreSQL. Knows SQL."""
