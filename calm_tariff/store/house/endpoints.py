"""Where outside systems are told what happens, and what they answered."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word


class EventEndpoint(Base):
    """An address that events are sent to: those that it `wants` (core.events), as signed webhooks or as messages of a
    chat room (`form`). It has been told all of them up to the event `told_until`. The address and what its webhooks
    are signed with are sealed; `shown` is what of the address is no secret. After a change of the secret, webhooks
    are signed with the former one as well until `former_until`. `off_why` says why it is off, where nobody turned it
    off."""

    __tablename__ = "event_endpoint"
    id: Mapped[Id]
    name: Mapped[Name]
    form: Mapped[Word]
    shown: Mapped[Prose]
    address: Mapped[Prose]
    wants: Mapped[list[Any]]
    secret: Mapped[Prose]
    former_secret: Mapped[Prose | None]
    former_until: Mapped[datetime | None]
    on: Mapped[bool]
    off_why: Mapped[Name] = mapped_column(default="")
    told_until: Mapped[int] = mapped_column(BigInteger)
    made_by: Mapped[Name]
    made_at: Mapped[datetime]
    edition: Mapped[int] = mapped_column(default=1)


class EventDelivery(Base):
    """One attempt to tell an endpoint of an event, and what it answered: `what` is sent, sent again (somebody asked for
    it) or passed over (somebody wanted it left out). `taken` is whether the endpoint has it."""

    __tablename__ = "event_delivery"
    __table_args__ = (Index("ix_event_delivery_endpoint", "endpoint_id", "id"),)
    id: Mapped[Id]
    endpoint_id: Mapped[int] = mapped_column(ForeignKey("event_endpoint.id"))
    event_id: Mapped[int] = mapped_column(ForeignKey("event.id"), index=True)
    what: Mapped[Word]
    at: Mapped[datetime] = mapped_column(index=True)
    status: Mapped[int | None]
    answer: Mapped[Prose]
    took_ms: Mapped[int]
    taken: Mapped[bool]
