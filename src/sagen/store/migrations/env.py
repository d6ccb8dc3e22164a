"""Run by Alembic inside the connection that the job log hands over."""

from alembic import context

from sagen.store.tables import Base

context.configure(
    connection=context.config.attributes["connection"], target_metadata=Base.metadata, render_as_batch=True
)
with context.begin_transaction():
    context.run_migrations()
