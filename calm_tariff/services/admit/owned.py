"""One's own applications and keys, found: another's are as if they were not there."""

from __future__ import annotations

from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.base.locking import locked


def application(session: Session, ctx: Context, application_id: int, lock: bool = False) -> Application:
    """One's own application, held until the transaction ends where `lock` says so. Raises `NotFound` for another's,
    just as for none."""
    found = locked(session, Application, application_id) if lock else session.get(Application, application_id)
    if found is None or found.consumer_id != ctx.actor.consumer_to("run applications"):
        raise NotFound("there is no such application", str(application_id))
    return found


def key(session: Session, ctx: Context, key_id: int) -> ApiKey:
    """One's own key, held. Raises `NotFound` for another's, just as for none."""
    found = locked(session, ApiKey, key_id)
    if found is None or found.application.consumer_id != ctx.actor.consumer_to("run applications"):
        raise NotFound("there is no such key", str(key_id))
    return found
