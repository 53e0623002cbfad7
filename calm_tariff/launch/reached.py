"""Reaching the installation that runs in this folder, for commands that ask it something."""

from __future__ import annotations

from calm_tariff.core.errors import Invalid
from calm_tariff.launch.database import Database
from calm_tariff.launch.folder import running_in
from calm_tariff.services.base.context import Actor, Context, context_for
from calm_tariff.settings import settings_now
from calm_tariff.store.base.connecting import engine


def reached(actor: Actor) -> Context:
    """The context of what runs in this folder. Raises `Invalid` where nothing does."""
    base = settings_now()
    schema = running_in(base.var)
    if schema is None:
        raise Invalid(f"nothing runs in {base.var.resolve()}; start it with ./calm start or ./calm demo")
    database = Database((base.var / "mariadb").resolve(), base.database_port)
    return context_for(engine(database.serving_url(schema)), actor=actor)
