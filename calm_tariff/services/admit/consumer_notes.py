"""What the provider's people note about a consumer, for each other; no consumer ever sees it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.consumers import Consumer, ConsumerNote
from calm_tariff.store.base.locking import locked

LONGEST = 5_000


@dataclass(frozen=True, slots=True, kw_only=True)
class ConsumerNoteView:
    """A note; `mine` may be taken away by whoever asks."""

    id: int
    at: datetime
    by: str
    text: str
    mine: bool


def of_consumer(session: Session, ctx: Context, consumer_id: int) -> list[ConsumerNoteView]:
    """The notes about a consumer, the latest first."""
    query = select(ConsumerNote).where(ConsumerNote.consumer_id == consumer_id).order_by(ConsumerNote.id.desc())
    me = ctx.actor.identity
    return [
        ConsumerNoteView(id=n.id, at=n.at, by=n.by, text=n.text, mine=n.identity == me) for n in session.scalars(query)
    ]


def write(ctx: Context, consumer_id: int, text: str) -> list[ConsumerNoteView]:
    """Note something about a consumer. Raises `NotFound`, `Invalid` for no words."""
    ctx.actor.must_be(*ROLES)
    text = text.strip()
    if not 1 <= len(text) <= LONGEST:
        raise Invalid(f"must be 1 to {LONGEST:,} characters long", "text")
    with ctx.transaction() as session:
        consumer = session.get(Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        made = ConsumerNote(
            consumer_id=consumer_id, at=ctx.now, by=ctx.actor.name[:200], identity=ctx.actor.identity, text=text
        )
        session.add(made)
        subject = ("consumer", consumer.id, consumer.name)
        auditing.note(session, ctx, "noted something about a consumer", subject)
        session.flush()
        return of_consumer(session, ctx, consumer_id)


def take_away(ctx: Context, consumer_id: int, note_id: int) -> list[ConsumerNoteView]:
    """Take away a note of one's own. Raises `NotFound` for another's, just as for none."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, consumer_id)
        note = session.get(ConsumerNote, note_id)
        own = note is not None and (note.consumer_id, note.identity) == (consumer_id, ctx.actor.identity)
        if consumer is None or note is None or not own:
            raise NotFound("there is no such note of yours", str(note_id))
        session.delete(note)
        auditing.note(session, ctx, "took a note away", ("consumer", consumer.id, consumer.name))
        session.flush()
        return of_consumer(session, ctx, consumer_id)
