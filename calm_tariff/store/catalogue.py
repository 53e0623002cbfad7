"""APIs, meters, products, plans and their revisions."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Column, ForeignKey, String, Table, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base import Base, Id, Long, LongJson, Name, Prose, Word
from calm_tariff.store.people import ConsumerGroup

MeterOperation = Table(
    "meter_operation",
    Base.metadata,
    Column("meter_id", ForeignKey("meter.id"), primary_key=True),
    Column("operation_id", ForeignKey("operation.id"), primary_key=True),
)
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


class Api(Base):
    """An API as people speak of it; what can be called are its versions."""

    __tablename__ = "api"
    id: Mapped[Id]
    name: Mapped[Name] = mapped_column(unique=True)
    description: Mapped[Prose]
    versions: Mapped[list[ApiVersion]] = relationship(back_populates="api", order_by="ApiVersion.id")


class ApiVersion(Base):
    """A version: its operations answer under `base_path`, from `back_end_url`. States:
    core.lifecycles.API_VERSION.

    `chosen_by` says how a call picks it among versions with the same base path: by the path alone,
    by a header of a value, or by the host. `sandbox_url` is the back end of the sandbox, if it has one. What they
    are asked with, a name and a password, is sealed.
    The back end is waited for as long as `connect_ms` and `answer_ms` say; after `breaker_failures` in a
    row (0: never) it is left alone for `breaker_seconds`. `passes_caller` tells it who calls.
    """

    __tablename__ = "api_version"
    __table_args__ = (
        UniqueConstraint("api_id", "version"),
        UniqueConstraint("base_path", "chosen_by", "chosen_name", "chosen_value"),
    )
    id: Mapped[Id]
    api_id: Mapped[int] = mapped_column(ForeignKey("api.id"))
    version: Mapped[Word]
    state: Mapped[Word]
    base_path: Mapped[Name]
    chosen_by: Mapped[Word] = mapped_column(default="path")
    chosen_name: Mapped[str] = mapped_column(String(100), default="")
    chosen_value: Mapped[str] = mapped_column(String(100), default="")
    back_end_url: Mapped[Name]
    sandbox_url: Mapped[Name] = mapped_column(default="")
    back_end_login: Mapped[Prose] = mapped_column(default="")
    sandbox_login: Mapped[Prose] = mapped_column(default="")
    health_path: Mapped[Name] = mapped_column(default="")
    capacity_per_second: Mapped[int | None]
    deprecated_at: Mapped[datetime | None]
    sunset_at: Mapped[datetime | None]
    connect_ms: Mapped[int] = mapped_column(default=3000)
    answer_ms: Mapped[int] = mapped_column(default=30_000)
    most_body_bytes: Mapped[int] = mapped_column(BigInteger, default=10_000_000)
    cors_origins: Mapped[list[Any]] = mapped_column(default=list)
    passes_caller: Mapped[bool] = mapped_column(default=False)
    lets_through: Mapped[list[Any]] = mapped_column(default=list)
    breaker_failures: Mapped[int] = mapped_column(default=5)
    breaker_seconds: Mapped[int] = mapped_column(default=10)
    edition: Mapped[int] = mapped_column(default=1)
    api: Mapped[Api] = relationship(back_populates="versions", lazy="joined")
    operations: Mapped[list[Operation]] = relationship(
        back_populates="api_version",
        order_by="Operation.path, Operation.method",
        primaryjoin="and_(ApiVersion.id == Operation.api_version_id, Operation.retired_at.is_(None))",
    )


class ApiDocument(Base):
    """The OpenAPI document a version was last imported from, as JSON."""

    __tablename__ = "api_document"
    api_version_id: Mapped[int] = mapped_column(ForeignKey("api_version.id"), primary_key=True)
    name: Mapped[Name]
    text: Mapped[Long]
    imported_at: Mapped[datetime]


class DocumentReading(Base):
    """An OpenAPI document being read or waiting to be applied. `stage`: reading, read, stopped, failed.

    `operations` and `findings` hold what was found; `done` of `total` operations are looked at.
    """

    __tablename__ = "document_reading"
    id: Mapped[Id]
    name: Mapped[Name]
    stage: Mapped[Word]
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    title: Mapped[Name] = mapped_column(default="")
    version: Mapped[Name] = mapped_column(default="")
    servers: Mapped[list[Any]]
    operations: Mapped[LongJson]
    findings: Mapped[LongJson]
    text: Mapped[Long]
    started_at: Mapped[datetime]
    touched_at: Mapped[datetime]
    started_by: Mapped[Name]


class BackEndHealth(Base):
    """What a version's back end last answered, by environment."""

    __tablename__ = "back_end_health"
    api_version_id: Mapped[int] = mapped_column(ForeignKey("api_version.id"), primary_key=True)
    environment: Mapped[Word] = mapped_column(primary_key=True)
    well: Mapped[bool]
    answer: Mapped[Name]
    took_ms: Mapped[int]
    checked_at: Mapped[datetime]
    since: Mapped[datetime]


class Operation(Base):
    """A method on a path template. A retired one answers no more but keeps its history explicable.

    `answers`: back end, example, or sandbox example (the back end when live). `example` is what its
    document gives for it: status, type, body.
    """

    __tablename__ = "operation"
    __table_args__ = (UniqueConstraint("api_version_id", "method", "path"),)
    id: Mapped[Id]
    api_version_id: Mapped[int] = mapped_column(ForeignKey("api_version.id"))
    method: Mapped[str] = mapped_column(String(10))
    path: Mapped[Name]
    summary: Mapped[Name] = mapped_column(default="")
    groups: Mapped[list[Any]] = mapped_column(default=list)
    answers: Mapped[Word] = mapped_column(default="back end")
    example: Mapped[dict[str, Any] | None]
    retired_at: Mapped[datetime | None]
    api_version: Mapped[ApiVersion] = relationship(back_populates="operations", lazy="joined")

    @property
    def label(self) -> str:
        """How rules and receipts name it: `GET /stations/{id}/tides`."""
        return f"{self.method} {self.path}"


class Meter(Base):
    """What counts. Sealed once a published revision uses it."""

    __tablename__ = "meter"
    id: Mapped[Id]
    key: Mapped[Word] = mapped_column(unique=True)
    name: Mapped[Name]
    measure: Mapped[Word]
    outcomes: Mapped[list[Any]]
    environments: Mapped[list[Any]]
    header: Mapped[str | None] = mapped_column(String(200))
    credentials: Mapped[list[Any]] = mapped_column(default=list)
    state: Mapped[Word] = mapped_column(default="active")
    created_at: Mapped[datetime]
    sealed_at: Mapped[datetime | None]
    edition: Mapped[int] = mapped_column(default=1)
    operations: Mapped[list[Operation]] = relationship(secondary=MeterOperation, order_by="Operation.id")


class Product(Base):
    """A bundle of operations that is sold. `access_route`: open, reviewed, reviewed twice, outside.

    With `groups`, only consumers of these groups see it. `terms_of_use` are the newest version's.
    `credential_kinds`: key, basic, client, token; a key comes in `key_header`, or in the query parameter
    `key_query` where that is not empty. `older_fields` adds X-RateLimit fields to replies.
    With `moves_anew`, allowances start anew when a subscription moves to another plan.
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
    access_route: Mapped[Word]
    credential_kinds: Mapped[list[Any]] = mapped_column(default=lambda: ["key"])
    key_header: Mapped[str] = mapped_column(String(100), default="X-API-Key")
    key_query: Mapped[str] = mapped_column(String(100), default="")
    older_fields: Mapped[bool] = mapped_column(default=False)
    moves_anew: Mapped[bool] = mapped_column(default=False)
    edition: Mapped[int] = mapped_column(default=1)
    operations: Mapped[list[Operation]] = relationship(secondary=ProductOperation, order_by="Operation.id")
    groups: Mapped[list[ConsumerGroup]] = relationship(secondary=ProductGroup, order_by="ConsumerGroup.name")
    plans: Mapped[list[Plan]] = relationship(back_populates="product", order_by="Plan.place")


class TermsOfUse(Base):
    """A version of a product's terms of use. Never updated."""

    __tablename__ = "terms_of_use"
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    text: Mapped[Prose]
    dated: Mapped[datetime]
    written_by: Mapped[Name]


class HouseLimits(Base):
    """Limits above all plans: provider-wide (no API version), or of one API version."""

    __tablename__ = "house_limits"
    id: Mapped[Id]
    api_version_id: Mapped[int | None] = mapped_column(ForeignKey("api_version.id"), unique=True)
    limits: Mapped[list[Any]]
    edition: Mapped[int] = mapped_column(default=1)


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
    product: Mapped[Product] = relationship(back_populates="plans", lazy="joined")
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
