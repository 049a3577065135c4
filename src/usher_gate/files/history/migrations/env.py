"""Runs the upgrades on the connection that is handed in, within its transaction."""

from alembic import context

context.configure(connection=context.config.attributes["connection"])
context.run_migrations()
