"""Letting new organisations in, where a portal leaves that to a person."""

from __future__ import annotations

from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.core.lifecycles import CONSUMER, move
from calm_tariff.core.notices import Kind
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import locked

Answer = Literal["let in", "turned away"]


def answer(ctx: Context, consumer_id: int, to: Answer, note: str = "") -> None:
    """Let an organisation in, or turn it away with a reason; its members are told. Raises `NotFound`, `Invalid` for no
    reason, or `Conflict` where that cannot be any more."""
    ctx.actor.must_be("reviewer", "product manager")
    note = note.strip()
    if to == "turned away" and not note:
        raise Invalid("say why, so that they can act on it", "note")
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        before = consumer.state
        consumer.state = move(CONSUMER, "the organisation", before, to)
        did = "let an organisation in" if to == "let in" else "turned an organisation away"
        subject = ("consumer", consumer.id, consumer.name)
        auditing.note(session, ctx, did, subject, before={"state": before}, after={"state": to}, why=note)
        kind: Kind = "account let in" if to == "let in" else "account turned away"
        fields = {"organisation": consumer.name, "portal": consumer.portal.name, "note": note}
        notice = Notice(kind=kind, fields=fields, page="/applications")
        notify(session, ctx, members(subscribers.members_of(session, [consumer.id])), notice)


def waiting(session: Session) -> int:
    """How many organisations wait to be let in."""
    return session.scalar(select(func.count()).where(Consumer.state == "waiting")) or 0
