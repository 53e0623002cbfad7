"""From where secrets of scripts are used: somewhere new goes on the record and into the log."""

from __future__ import annotations

import logging

from sqlalchemy import select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.events import Thing
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.store.house.service_tokens import SecretPlace

log = logging.getLogger("calm_tariff.sign_in")
# So many places of one secret are kept and told; of a secret that is used from everywhere, no more is learned by more.
MOST = 50
LONGEST = 40


def note(session: Session, ctx: Context, kept: type[SecretPlace], subject: Thing, address: str) -> None:
    """Note that the secret `subject` is used from an address, where that is new."""
    address = address[:LONGEST]
    known = session.scalars(select(kept.address).where(kept.secret_id == subject.id)).all()
    if address in known or len(known) >= MOST:
        return
    # Ignored where another request of the same script was first.
    made = insert(kept).values(secret_id=subject.id, address=address, first_at=ctx.now).prefix_with("IGNORE")
    if not session.execute(made).rowcount:  # type: ignore[attr-defined]
        return
    auditing.note(session, ctx, "was used from a new place", subject, why=f"from {address}" if address else "")
    log.warning("%s %d was used from a new place: %s", subject.kind, subject.id, address)
