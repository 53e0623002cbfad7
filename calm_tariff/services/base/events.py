"""Events, written in the transaction of what happened: with its entry of the record, or by itself."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.core.events import Thing
from calm_tariff.core.names import cut
from calm_tariff.services.base.context import Context
from calm_tariff.store.base import recording
from calm_tariff.store.base.events import Event


def write(session: Session, ctx: Context, of_type: str, thing: Thing, said: str, **detail: Any) -> None:
    """Write that something happened which is not on the record by itself."""
    recording.keep(session, None, made(ctx, of_type, thing, said, detail))


def made(ctx: Context, of_type: str, thing: Thing, said: str, detail: Mapping[str, Any]) -> Event:
    """The event that something happened, at this moment and by whoever acts; a consumer's, where the thing is one's,
    or one's member acts."""
    own = thing.id if thing.kind == "consumer" else ctx.actor.consumer_id
    return Event(
        type=of_type,
        at=ctx.now,
        subject_kind=thing.kind,
        subject_id=thing.id,
        subject=cut(thing.name),
        consumer_id=thing.consumer_id if thing.consumer_id is not None else own,
        by=cut(ctx.actor.identity),
        actor=cut(who(ctx)),
        said=said,
        detail=dict(detail),
    )


def who(ctx: Context) -> str:
    """Who acts, as the record and events name them."""
    return ctx.actor.name + (f", {ctx.actor.consumer}" if ctx.actor.consumer else "")
