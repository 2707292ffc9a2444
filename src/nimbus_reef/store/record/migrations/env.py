"""Alembic's entry: the connection is handed in by `store.schema`."""

from alembic import context

from nimbus_reef.store.record.models import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, compare_type=True)
with context.begin_transaction():
    context.run_migrations()
