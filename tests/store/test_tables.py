"""The tables are what the migrations make."""

from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import Engine

from calm_tariff.store.tables import metadata


def test_the_migrations_make_the_schema_the_tables_describe(migrated: Engine) -> None:
    with migrated.connect() as connection:
        context = MigrationContext.configure(connection, opts={"compare_type": True})
        differences = [d for d in compare_metadata(context, metadata) if d[0] not in ("remove_table",)]
    assert differences == []
