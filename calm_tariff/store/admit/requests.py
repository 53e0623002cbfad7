"""Requests for access, and the terms of use accepted with them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, String
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word
from calm_tariff.store.compose.products import Plan


class AccessRequest(Base):
    """Somebody asks for a plan. States: core.lifecycles.REQUEST.

    Where a product is reviewed twice, `first_granted_by` has agreed and somebody else must, too: told apart by
    `first_granted_id`, because names can be alike. Where
    an outside system decides, `ticket` is the request's name there. One for a move of plan names the subscription
    that moves, and when: `now` or `later` (core.moves). `expected` are the units of a month that are expected:
    each with its meter's `key`, its `name` as it was then, and `units`.
    """

    __tablename__ = "access_request"
    id: Mapped[Id]
    application_id: Mapped[int] = mapped_column(ForeignKey("application.id"), index=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"), index=True)
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"))
    purpose: Mapped[Prose]
    terms_accepted: Mapped[datetime]
    state: Mapped[Word] = mapped_column(index=True)
    created_at: Mapped[datetime]
    decided_at: Mapped[datetime | None]
    decided_by: Mapped[str | None] = mapped_column(String(200))
    note: Mapped[Prose] = mapped_column(default="")
    first_granted_by: Mapped[str | None] = mapped_column(String(200))
    first_granted_id: Mapped[str | None] = mapped_column(String(60))
    first_note: Mapped[Prose] = mapped_column(default="")
    ticket: Mapped[str | None] = mapped_column(String(40), index=True)
    expected: Mapped[list[Any]] = mapped_column(default=list)
    moves_id: Mapped[int | None] = mapped_column(ForeignKey("subscription.id", use_alter=True))
    moves_when: Mapped[str | None] = mapped_column(String(10))
    application: Mapped[Application] = relationship(lazy="joined")
    plan: Mapped[Plan] = relationship(lazy="joined")
    member: Mapped[Member] = relationship(lazy="joined")
    moves: Mapped[Subscription | None] = relationship(foreign_keys=[moves_id], lazy="joined")


class TermsAccepted(Base):
    """A consumer's member accepted a version of a product's terms of use."""

    __tablename__ = "terms_accepted"
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), primary_key=True)
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    member: Mapped[Name]
    accepted_at: Mapped[datetime]
