"""Runs the migrations on the connection that the logbook gives."""

from __future__ import annotations

from alembic import context

from juxtum.logbook.tables import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True, transactional_ddl=True)
with context.begin_transaction():
    context.run_migrations()
