"""Telling the gateways that something they must know has changed."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import event, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.services.base.context import Context
from calm_tariff.store.base.locking import in_turn
from calm_tariff.store.base.record import Stamp

SNAPSHOT = "snapshot"
_TOUCHED = "touched"
# Who ships calls holds this; so does who changes the stays they belong to.
SHIPPING = "shipping"


def touch(session: Session, ctx: Context) -> None:
    """Have the snapshot's number raised at the end of the transaction of the change: nobody else who changes something
    waits before."""
    session.info[_TOUCHED] = ctx.now


@event.listens_for(Session, "before_commit")
def _raise_touched(session: Session) -> None:
    moment = session.info.pop(_TOUCHED, None)
    if moment is not None:
        _raise(session, SNAPSHOT, moment)


@event.listens_for(Session, "after_soft_rollback")
def _forget_touched(session: Session, _: object) -> None:
    session.info.pop(_TOUCHED, None)


def hold(session: Session, ctx: Context, name: str) -> None:
    """Raise a number and hold its row until the transaction ends, before any other row is: others who do so wait."""
    in_turn(session, Stamp.__tablename__, [name])
    _raise(session, name, ctx.now)


def _raise(session: Session, name: str, moment: datetime) -> None:
    raised = insert(Stamp).values(name=name, number=1, changed_at=moment)
    session.execute(raised.on_duplicate_key_update(number=Stamp.number + 1, changed_at=raised.inserted.changed_at))


def number(ctx: Context) -> int:
    """The snapshot's present number."""
    with ctx.transaction() as session:
        return session.scalar(select(Stamp.number).where(Stamp.name == SNAPSHOT)) or 0
