"""Subscriptions, their stays, and limits of single ones."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, String
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.applications import Application
from calm_tariff.store.base.columns import Base, Id, LongJson, Name, Prose, Word
from calm_tariff.store.compose.products import Plan, PlanRevision


class Subscription(Base):
    """An application on a plan. States: core.lifecycles.SUBSCRIPTION. `end_told`: its members were told that its trial
    ends soon. `undone`: its grant was taken back before anybody was told; what was called meanwhile is free."""

    __tablename__ = "subscription"
    id: Mapped[Id]
    application_id: Mapped[int] = mapped_column(ForeignKey("application.id"), index=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"), index=True)
    request_id: Mapped[int | None] = mapped_column(ForeignKey("access_request.id"))
    state: Mapped[Word] = mapped_column(index=True)
    started_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    end_told: Mapped[bool] = mapped_column(default=False)
    undone: Mapped[bool] = mapped_column(default=False)
    application: Mapped[Application] = relationship(lazy="joined")
    plan: Mapped[Plan] = relationship(lazy="joined")
    stays: Mapped[list[Stay]] = relationship(back_populates="subscription", order_by="Stay.start_at, Stay.id")
    pauses: Mapped[list[Pause]] = relationship(order_by="Pause.start_at")
    coming: Mapped[ComingMove | None] = relationship()


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


class Pause(Base):
    """A stretch in which a subscription lets no calls through, whichever stay it is in."""

    __tablename__ = "pause"
    id: Mapped[Id]
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"), index=True)
    start_at: Mapped[datetime]
    end_at: Mapped[datetime | None]


class ComingMove(Base):
    """A move that a consumer made for later: the stays say already what holds from then on. `kind`: core.moves.
    `rest` is what of the stays it cut off, as the core's values, should it be taken back."""

    __tablename__ = "coming_move"
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"), primary_key=True, autoincrement=False)
    kind: Mapped[Word]
    at: Mapped[datetime]
    plan_id: Mapped[int | None] = mapped_column(ForeignKey("plan.id"))
    made_at: Mapped[datetime]
    made_by: Mapped[Name]
    rest: Mapped[LongJson]
    plan: Mapped[Plan | None] = relationship(lazy="joined")


class TrialHad(Base):
    """A consumer's one trial of a product began."""

    __tablename__ = "trial_had"
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), primary_key=True, autoincrement=False)
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), primary_key=True, autoincrement=False)
    begun_at: Mapped[datetime]


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
