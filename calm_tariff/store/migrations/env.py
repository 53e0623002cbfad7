"""Runs the migrations against the address it is given."""

from alembic import context
from sqlalchemy import create_engine, pool

from calm_tariff.store.base.columns import Moment
from calm_tariff.store.tables import metadata


def render_item(kind, value, autogen_context):
    """Write our moment columns as the database's own type."""
    if kind == "type" and isinstance(value, Moment):
        autogen_context.imports.add("from sqlalchemy.dialects import mysql")
        return "mysql.DATETIME(fsp=6)"
    return False


connectable = create_engine(context.config.get_main_option("sqlalchemy.url") or "", poolclass=pool.NullPool)
with connectable.connect() as connection:
    context.configure(connection=connection, target_metadata=metadata, compare_type=True, render_item=render_item)
    with context.begin_transaction():
        context.run_migrations()
