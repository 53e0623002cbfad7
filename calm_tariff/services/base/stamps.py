"""Telling the gateways that something they must know has changed."""

from __future__ import annotations

from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.services.base.context import Context
from calm_tariff.store.base.record import Stamp

SNAPSHOT = "snapshot"
# Who ships calls holds this; so does who changes the stays they belong to.
SHIPPING = "shipping"


def touch(session: Session, ctx: Context) -> None:
    """Raise the snapshot's number, in the transaction of the change."""
    hold(session, ctx, SNAPSHOT)


def hold(session: Session, ctx: Context, name: str) -> None:
    """Raise a number and hold its row until the transaction ends: others who do so wait."""
    raised = insert(Stamp).values(name=name, number=1, changed_at=ctx.now)
    session.execute(raised.on_duplicate_key_update(number=Stamp.number + 1, changed_at=raised.inserted.changed_at))


def number(ctx: Context) -> int:
    """The snapshot's present number."""
    with ctx.transaction() as session:
        stamp = session.get(Stamp, SNAPSHOT)
        return stamp.number if stamp else 0
