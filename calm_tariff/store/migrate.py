"""Bringing a schema up to date (Alembic), with partitions for the months to come."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine
from sqlalchemy.pool import NullPool

from calm_tariff.store.serve import partitions

MIGRATIONS = Path(__file__).parent / "migrations"


def configuration(url: str) -> Config:
    """Alembic's configuration for a database address."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config


def upgrade(url: str) -> None:
    """Apply every migration that is missing, before anything runs that uses the schema."""
    command.upgrade(configuration(url), "head")
    with create_engine(url, poolclass=NullPool).connect() as connection:
        partitions.ensure(connection, datetime.now(UTC).date())
