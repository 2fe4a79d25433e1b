"""The database behind the ledger: SQLite or PostgreSQL, schema, migrations, group commits."""
