"""Bringing a schema up to date (Alembic)."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config

MIGRATIONS = Path(__file__).parent / "migrations"


def configuration(url: str) -> Config:
    """Alembic's configuration for a database address."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config


def upgrade(url: str) -> None:
    """Apply every migration that is missing."""
    command.upgrade(configuration(url), "head")
