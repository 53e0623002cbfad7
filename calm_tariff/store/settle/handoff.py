"""Usage that is handed on to whoever bills outside: which products, whom and what the outside knows them as, what was
told of each hour, and what the outside said by itself. Instants in µs since the epoch where they are named so."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Computed,
    ForeignKey,
    Index,
    Select,
    String,
    UniqueConstraint,
    or_,
    select,
)
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.core.billing.handoff import UsageHour, event_id
from calm_tariff.store.base.columns import Base, Hash, Id, Micros, Name, Prose, Units, Word
from calm_tariff.store.compose.products import Plan, Product


class OutsideProduct(Base):
    """A product is billed outside from the first day of a month on, until that of another, if any. It is `open` while
    there is no end: of one product, once at a time."""

    __tablename__ = "outside_product"
    id: Mapped[Id]
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), index=True)
    since: Mapped[date]
    until: Mapped[date | None]
    made_by: Mapped[Name]
    made_at: Mapped[datetime]
    open: Mapped[int | None] = mapped_column(
        BigInteger, Computed("if(until is null, product_id, null)", persisted=True), unique=True
    )
    product: Mapped[Product] = relationship(lazy="joined")

    @classmethod
    def holds_in(cls, period_start: date) -> ColumnElement[bool]:
        """Whether it holds in the period that begins on a day."""
        return (cls.since <= period_start) & or_(cls.until.is_(None), cls.until > period_start)


def plans_billed_outside(period_start: date) -> Select[int]:
    """The ids of the plans whose subscriptions are billed outside in the period that begins on a day."""
    of_product = OutsideProduct.product_id == Plan.product_id
    return select(Plan.id).join(OutsideProduct, of_product).where(OutsideProduct.holds_in(period_start))


class OutsideCustomer(Base):
    """What a consumer is known as outside: `customer` there, as what it was known `formerly`, where the outside gave it
    another number, and by which `name`. `standing` is what the outside said
    last of how it stands (good, unpaid, ended), as of `stood_at`; `unpaid_for` is what is not paid there."""

    __tablename__ = "outside_customer"
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), primary_key=True, autoincrement=False)
    customer: Mapped[str] = mapped_column(String(100), unique=True)
    formerly: Mapped[list[Any]] = mapped_column(default=list)
    name: Mapped[Name] = mapped_column(default="")
    standing: Mapped[Word] = mapped_column(default="good")
    stood_at: Mapped[datetime | None]
    unpaid_for: Mapped[Name] = mapped_column(default="")
    edition: Mapped[int] = mapped_column(default=1)


class PlanPrice(Base):
    """The price that subscriptions to a plan have outside, where they have none of their own."""

    __tablename__ = "outside_plan_price"
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"), primary_key=True, autoincrement=False)
    price: Mapped[str] = mapped_column(String(100))
    edition: Mapped[int] = mapped_column(default=1)


class SubscriptionPrice(Base):
    """The price that one subscription has outside, whatever its plan."""

    __tablename__ = "outside_subscription_price"
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"), primary_key=True, autoincrement=False)
    price: Mapped[str] = mapped_column(String(100))
    edition: Mapped[int] = mapped_column(default=1)


class HandedBatch(Base):
    """Events that are sent together, under one `key` until they are answered. `digest` is of their body, `units` what
    they come to, whatever they count; once it is answered, of those alone that were `accepted`: with both it can be
    seen that they are as they were."""

    __tablename__ = "handed_batch"
    id: Mapped[Id]
    key: Mapped[str] = mapped_column(String(40), unique=True)
    made_at: Mapped[datetime]
    answered_at: Mapped[datetime | None] = mapped_column(index=True)
    events: Mapped[int]
    units: Mapped[Units]
    digest: Mapped[Hash]
    accepted: Mapped[int] = mapped_column(default=0)
    refused: Mapped[int] = mapped_column(default=0)


class HandedUnits(Base):
    """What is told of an hour of one meter of one subscription: the first `revision` its units, each later one how many
    more or fewer. States: core.lifecycles.HANDED. `plan_id` and `trial` are those of the hour's end; `customer` and
    `price` are what it was told under, once it was. What was refused goes `anew`: as it is mapped now, and not where
    what was accepted of its hour went."""

    __tablename__ = "handed_units"
    __table_args__ = (
        UniqueConstraint("subscription_id", "meter_id", "hour_us", "revision"),
        Index("ix_handed_units_hour", "hour_us"),
        Index("ix_handed_units_state", "state", "hour_us", "id"),
    )
    id: Mapped[Id]
    hour_us: Mapped[Micros]
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"))
    meter_id: Mapped[int] = mapped_column(ForeignKey("meter.id"))
    revision: Mapped[int]
    units: Mapped[Units]
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"))
    trial: Mapped[bool]
    state: Mapped[Word]
    made_at: Mapped[datetime]
    customer: Mapped[str | None] = mapped_column(String(100))
    price: Mapped[str | None] = mapped_column(String(100))
    batch_id: Mapped[int | None] = mapped_column(ForeignKey("handed_batch.id"), index=True)
    answered_at: Mapped[datetime | None]
    refused_why: Mapped[Prose] = mapped_column(default="")
    anew: Mapped[bool] = mapped_column(default=False)

    @property
    def of(self) -> UsageHour:
        """What it tells of."""
        return UsageHour(self.hour_us, self.subscription_id, self.meter_id)

    @property
    def event_id(self) -> str:
        """What it is known by, here and outside."""
        return event_id(self.of, self.revision)


class HandedTry(Base):
    """One try to hand a batch on: whether it was taken, and in words what was answered."""

    __tablename__ = "handed_try"
    id: Mapped[Id]
    batch_id: Mapped[int] = mapped_column(ForeignKey("handed_batch.id"), index=True)
    at: Mapped[datetime]
    taken: Mapped[bool]
    said: Mapped[Prose]
    took_ms: Mapped[int]


class OutsideWord(Base):
    """What the outside said by itself, each once by its id: what has become of a customer there, as of `at`. `outcome`
    says in words what was done about it here; `done` whether anything was."""

    __tablename__ = "outside_word"
    id: Mapped[Id]
    word_id: Mapped[str] = mapped_column(String(100), unique=True)
    kind: Mapped[Word]
    customer: Mapped[str] = mapped_column(String(100))
    at: Mapped[datetime]
    heard_at: Mapped[datetime]
    consumer_id: Mapped[int | None] = mapped_column(ForeignKey("consumer.id"), index=True)
    done: Mapped[bool]
    outcome: Mapped[Prose]
