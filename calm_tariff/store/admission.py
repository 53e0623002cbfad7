"""Applications, requests for access, subscriptions and credentials."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base import Base, Hash, Id, Name, Prose, Word
from calm_tariff.store.catalogue import Plan, PlanRevision
from calm_tariff.store.people import Consumer, Member


class Application(Base):
    """A consumer's program that makes calls. `client_id` is its public name for Basic, OAuth 2 and outside
    issuers; `tags` are its own words, which back ends may be told."""

    __tablename__ = "application"
    __table_args__ = (UniqueConstraint("consumer_id", "name"),)
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"))
    name: Mapped[Name]
    description: Mapped[Prose] = mapped_column(default="")
    created_at: Mapped[datetime]
    client_id: Mapped[Word] = mapped_column(unique=True)
    tags: Mapped[dict[str, Any]] = mapped_column(default=dict)
    consumer: Mapped[Consumer] = relationship(lazy="joined")
    keys: Mapped[list[ApiKey]] = relationship(back_populates="application", order_by="ApiKey.id")


class AccessRequest(Base):
    """Somebody asks for a plan. States: core.lifecycles.REQUEST.

    Where a product is reviewed twice, `first_granted_by` has agreed and somebody else must, too: told apart by
    `first_granted_id`, because names can be alike. Where
    an outside system decides, `ticket` is the request's name there.
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
    application: Mapped[Application] = relationship(lazy="joined")
    plan: Mapped[Plan] = relationship(lazy="joined")
    member: Mapped[Member] = relationship(lazy="joined")


class Subscription(Base):
    """An application on a plan. States: core.lifecycles.SUBSCRIPTION."""

    __tablename__ = "subscription"
    id: Mapped[Id]
    application_id: Mapped[int] = mapped_column(ForeignKey("application.id"), index=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"), index=True)
    request_id: Mapped[int | None] = mapped_column(ForeignKey("access_request.id"))
    state: Mapped[Word] = mapped_column(index=True)
    started_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    application: Mapped[Application] = relationship(lazy="joined")
    plan: Mapped[Plan] = relationship(lazy="joined")
    stays: Mapped[list[Stay]] = relationship(back_populates="subscription", order_by="Stay.start_at, Stay.id")


class TermsAccepted(Base):
    """A consumer's member accepted a version of a product's terms of use."""

    __tablename__ = "terms_accepted"
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), primary_key=True)
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    member: Mapped[Name]
    accepted_at: Mapped[datetime]


class Stay(Base):
    """A stretch of a subscription under one revision, free where it is a trial; charges are cut
    along these. `spent` marks a trial that its units ended; `due_at` a stay that follows one whose units can still end
    it: not to begin before then (core.stays)."""

    __tablename__ = "stay"
    id: Mapped[Id]
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"), index=True)
    revision_id: Mapped[int] = mapped_column(ForeignKey("plan_revision.id"))
    start_at: Mapped[datetime]
    end_at: Mapped[datetime | None]
    trial: Mapped[bool] = mapped_column(default=False)
    spent: Mapped[bool] = mapped_column(default=False)
    due_at: Mapped[datetime | None]
    subscription: Mapped[Subscription] = relationship(back_populates="stays")
    revision: Mapped[PlanRevision] = relationship(lazy="joined")


class ApiKey(Base):
    """A credential: only its hash and a visible prefix are kept. States: core.lifecycles.KEY.

    `kind`: an API key, or the secret that belongs to the application's client id.
    """

    __tablename__ = "api_key"
    id: Mapped[Id]
    application_id: Mapped[int] = mapped_column(ForeignKey("application.id"), index=True)
    label: Mapped[Name]
    environment: Mapped[Word]
    prefix: Mapped[Word] = mapped_column(index=True)
    key_hash: Mapped[Hash] = mapped_column(unique=True)
    state: Mapped[Word]
    created_at: Mapped[datetime]
    kind: Mapped[Word] = mapped_column(default="key")
    starts_at: Mapped[datetime | None]
    expires_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]
    application: Mapped[Application] = relationship(back_populates="keys", lazy="joined")


class ApiKeyPlace(Base):
    """An address from which the secret of a client id was shown to the token endpoint."""

    __tablename__ = "api_key_place"
    secret_id: Mapped[int] = mapped_column(ForeignKey("api_key.id"), primary_key=True)
    address: Mapped[Word] = mapped_column(primary_key=True)
    first_at: Mapped[datetime]


class SubscriptionOverride(Base):
    """A limit of one subscription in place of its plan's limit of the same name, or beside the plan's.

    In force until `ends_at`, unless lifted before. Never updated otherwise.
    """

    __tablename__ = "subscription_override"
    id: Mapped[Id]
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"), index=True)
    limit: Mapped[dict[str, Any]]
    reason: Mapped[Prose]
    made_at: Mapped[datetime]
    made_by: Mapped[Name]
    ends_at: Mapped[datetime]
    lifted_at: Mapped[datetime | None]
    lifted_by: Mapped[str | None] = mapped_column(String(200))
