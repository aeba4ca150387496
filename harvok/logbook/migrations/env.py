"""Alembic runs this for every migration, on the connection that harvok.logbook.migrate hands over."""

from alembic import context

context.configure(connection=context.config.attributes["connection"])
with context.begin_transaction():
    context.run_migrations()
