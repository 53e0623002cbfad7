"""Products, their plans, and the terms of both."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Column, ForeignKey, String, Table, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.groups import ConsumerGroup

PlanGroup = Table(
    "plan_group",
    Base.metadata,
    Column("plan_id", ForeignKey("plan.id"), primary_key=True),
    Column("group_id", ForeignKey("consumer_group.id"), primary_key=True),
)


ProductGroup = Table(
    "product_group",
    Base.metadata,
    Column("product_id", ForeignKey("product.id"), primary_key=True),
    Column("group_id", ForeignKey("consumer_group.id"), primary_key=True),
)


ProductOperation = Table(
    "product_operation",
    Base.metadata,
    Column("product_id", ForeignKey("product.id"), primary_key=True),
    Column("operation_id", ForeignKey("operation.id"), primary_key=True),
)


class Product(Base):
    """A bundle of operations that is sold. `route` says how requests for its plans are decided (core.routes), within
    `target_days` working days, where it is meant to be within so many.

    With `groups`, only consumers of these groups see it. `terms_of_use` are the newest version's.
    `credential_kinds`: key, basic, client, token; a key comes in `key_header`, or in the query parameter
    `key_query` where that is not empty. `older_fields` adds X-RateLimit fields to replies.
    With `moves_anew`, allowances start anew when a subscription moves to another plan. Where it is sold open, calls
    without a credential are let in under the limits of `strangers_plan_id`. Where there is a `subscribing_site`, plans
    are chosen there.
    """

    __tablename__ = "product"
    id: Mapped[Id]
    slug: Mapped[Word] = mapped_column(unique=True)
    name: Mapped[Name] = mapped_column(unique=True)
    description: Mapped[Prose]
    contact: Mapped[Prose] = mapped_column(default="")
    terms_of_use: Mapped[Prose]
    terms_number: Mapped[int] = mapped_column(default=1)
    terms_dated: Mapped[datetime]
    route: Mapped[dict[str, Any]]
    target_days: Mapped[int | None]
    credential_kinds: Mapped[list[Any]] = mapped_column(default=lambda: ["key"])
    key_header: Mapped[str] = mapped_column(String(100), default="X-API-Key")
    key_query: Mapped[str] = mapped_column(String(100), default="")
    older_fields: Mapped[bool] = mapped_column(default=False)
    moves_anew: Mapped[bool] = mapped_column(default=False)
    strangers_plan_id: Mapped[int | None] = mapped_column(ForeignKey("plan.id", use_alter=True))
    subscribing_site: Mapped[Name] = mapped_column(default="")
    edition: Mapped[int] = mapped_column(default=1)
    operations: Mapped[list[Operation]] = relationship(secondary=ProductOperation, order_by="Operation.id")
    groups: Mapped[list[ConsumerGroup]] = relationship(secondary=ProductGroup, order_by="ConsumerGroup.name")
    plans: Mapped[list[Plan]] = relationship(
        back_populates="product", order_by="Plan.place", foreign_keys="Plan.product_id"
    )


class TermsOfUse(Base):
    """A version of a product's terms of use. Never updated."""

    __tablename__ = "terms_of_use"
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    text: Mapped[Prose]
    dated: Mapped[datetime]
    written_by: Mapped[Name]


class Plan(Base):
    """A column of a tariff sheet. With `groups`, only consumers of these groups see it. `edition` rises whenever its
    draft is begun, saved, discarded or published, for those who work on it at once."""

    __tablename__ = "plan"
    __table_args__ = (UniqueConstraint("product_id", "name"),)
    id: Mapped[Id]
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"))
    name: Mapped[Name]
    place: Mapped[int]
    state: Mapped[Word]
    edition: Mapped[int] = mapped_column(default=1)
    product: Mapped[Product] = relationship(back_populates="plans", lazy="joined", foreign_keys=product_id)
    groups: Mapped[list[ConsumerGroup]] = relationship(secondary=PlanGroup, order_by="ConsumerGroup.name")
    draft: Mapped[PlanDraft | None] = relationship(back_populates="plan", cascade="all, delete-orphan")
    revisions: Mapped[list[PlanRevision]] = relationship(back_populates="plan", order_by="PlanRevision.number")


class PlanDraft(Base):
    """Terms being worked on."""

    __tablename__ = "plan_draft"
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"), primary_key=True)
    terms: Mapped[dict[str, Any]]
    saved_at: Mapped[datetime]
    saved_by: Mapped[Name]
    plan: Mapped[Plan] = relationship(back_populates="draft")


class PlanRevision(Base):
    """Terms as published. Never updated."""

    __tablename__ = "plan_revision"
    __table_args__ = (UniqueConstraint("plan_id", "number"),)
    id: Mapped[Id]
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"))
    number: Mapped[int]
    terms: Mapped[dict[str, Any]]
    published_at: Mapped[datetime]
    published_by: Mapped[Name]
    plan: Mapped[Plan] = relationship(back_populates="revisions", lazy="joined")
