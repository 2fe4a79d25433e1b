"""Run by Alembic for each of its commands: gives it the connection of the ledger, whose transaction is open already."""

from alembic import context

context.configure(connection=context.config.attributes["connection"], transactional_ddl=False)
context.run_migrations()
