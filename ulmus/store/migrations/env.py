"""Runs migrations on the connection the store hands over (`Store.migrate`)."""

from alembic import context

from ulmus.store.tables import Base

context.configure(connection=context.config.attributes["connection"], target_metadata=Base.metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
