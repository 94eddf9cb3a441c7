"""Alembic's entry: migrations run on the connection the store hands over."""

from alembic import context

from vastmesh.store._tables import Base

context.configure(connection=context.config.attributes["connection"], target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
context.config.attributes["connection"].commit()
