"""Alembic's entry: migrations run on the connection that session.migrate hands over."""

from alembic import context

from pelvrak.server.db.models import Base

context.configure(connection=context.config.attributes["connection"], target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
