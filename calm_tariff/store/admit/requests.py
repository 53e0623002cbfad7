"""Requests for access, and the terms of use accepted with them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.columns import Base, Id, Money, Name, Prose, Word
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.house.people import Person


class AccessRequest(Base):
    """Somebody asks for a plan. States: core.lifecycles.REQUEST.

    `way` is how it is decided (core.routes.Way), as its product's route said when it was made; `weight` is what a month
    of it was expected to be charged then, before tax, and `due_at` by when it is to be answered. `assigned_id` is who
    of the provider's people has it in hand. Where it is to be granted otherwise than asked, `grant` says how (Grant of
    services.admit.desk.grants). Until `undo_until`, `undo` is what takes a decision back. `edition` rises with all that
    is done with it, for those who work on it at once.

    Where an outside system decides, `ticket` is the request's name there and `ticket_state` how it stands by its own
    word; `told_outside` is the last message it was told of, and `reminded_at` when it was reminded last. One for a move
    of plan names the subscription that moves, and when: `now` or `later` (core.moves). `expected` are the units of a
    month that are expected: each with its meter's `key`, its `name` as it was then, and `units`.
    """

    __tablename__ = "access_request"
    id: Mapped[Id]
    application_id: Mapped[int] = mapped_column(ForeignKey("application.id"), index=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"), index=True)
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"))
    purpose: Mapped[Prose]
    terms_accepted: Mapped[datetime]
    state: Mapped[Word] = mapped_column(index=True)
    way: Mapped[dict[str, Any]]
    weight: Mapped[Money]
    created_at: Mapped[datetime]
    due_at: Mapped[datetime | None]
    asked_back_at: Mapped[datetime | None]
    assigned_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    decided_at: Mapped[datetime | None]
    decided_by: Mapped[str | None] = mapped_column(String(200))
    reason: Mapped[Name] = mapped_column(default="")
    note: Mapped[Prose] = mapped_column(default="")
    grant: Mapped[dict[str, Any] | None]
    undo: Mapped[dict[str, Any] | None]
    undo_until: Mapped[datetime | None]
    ticket: Mapped[str | None] = mapped_column(String(40), index=True)
    ticket_state: Mapped[Word] = mapped_column(default="")
    told_outside: Mapped[int | None] = mapped_column(BigInteger)
    reminded_at: Mapped[datetime | None]
    expected: Mapped[list[Any]] = mapped_column(default=list)
    edition: Mapped[int] = mapped_column(default=1)
    moves_id: Mapped[int | None] = mapped_column(ForeignKey("subscription.id", use_alter=True))
    moves_when: Mapped[str | None] = mapped_column(String(10))
    application: Mapped[Application] = relationship(lazy="joined")
    plan: Mapped[Plan] = relationship(lazy="joined")
    member: Mapped[Member] = relationship(lazy="joined")
    assigned: Mapped[Person | None] = relationship(lazy="joined")
    moves: Mapped[Subscription | None] = relationship(foreign_keys=[moves_id], lazy="joined")
    agreed: Mapped[list[RequestAgreement]] = relationship(
        order_by="RequestAgreement.id", lazy="selectin", cascade="all, delete-orphan"
    )


class RequestAgreement(Base):
    """Somebody has agreed to a request that others must agree to as well: known by `identity`, because names can be
    alike, and counted as `seat` (core.routes.Seat)."""

    __tablename__ = "request_agreement"
    __table_args__ = (UniqueConstraint("request_id", "identity"),)
    id: Mapped[Id]
    request_id: Mapped[int] = mapped_column(ForeignKey("access_request.id"))
    identity: Mapped[str] = mapped_column(String(60))
    name: Mapped[Name]
    seat: Mapped[Word]
    note: Mapped[Prose]
    at: Mapped[datetime]


class RequestMessage(Base):
    """Something that was said or done about a request: by a member, one of the provider's people, the outside desk, or
    nobody but us. Kinds: services.admit.desk.conversation. With `inside`, the consumer never sees it."""

    __tablename__ = "request_message"
    id: Mapped[Id]
    request_id: Mapped[int] = mapped_column(ForeignKey("access_request.id"), index=True)
    at: Mapped[datetime]
    kind: Mapped[Word]
    by: Mapped[Name]
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"))
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    text: Mapped[Prose]
    inside: Mapped[bool] = mapped_column(default=False)


class RequestViewer(Base):
    """Somebody of the provider has a request open, or had it until `seen_at`."""

    __tablename__ = "request_viewer"
    request_id: Mapped[int] = mapped_column(ForeignKey("access_request.id"), primary_key=True, autoincrement=False)
    identity: Mapped[str] = mapped_column(String(60), primary_key=True)
    name: Mapped[Name]
    seen_at: Mapped[datetime]


class DeclineReason(Base):
    """A reason for declining that the provider gives more than once; `place` is its place in their list."""

    __tablename__ = "decline_reason"
    id: Mapped[Id]
    text: Mapped[Name] = mapped_column(unique=True)
    place: Mapped[int]


class TermsAccepted(Base):
    """A consumer's member accepted a version of a product's terms of use."""

    __tablename__ = "terms_accepted"
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), primary_key=True)
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    member: Mapped[Name]
    accepted_at: Mapped[datetime]
