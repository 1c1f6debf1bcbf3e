"""Runs migrations on the connection that is handed over (`store.upgrade`), each in a transaction with its revision's number."""

from alembic import context

from ulmus.store.tables import Base

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=Base.metadata,
    render_as_batch=True,
    transaction_per_migration=True,
    transactional_ddl=True,
)
with context.begin_transaction():
    context.run_migrations()
