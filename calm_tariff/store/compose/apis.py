"""APIs, their versions, operations and documents."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base.columns import Base, Id, Long, LongJson, Name, Prose, Word

# What is recorded of a call's fields unless its API's owner says otherwise.
TRIES_AN_HOUR = 30
KEPT_HEADERS = ("accept", "content-type", "user-agent")


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
    `kept_headers` are recorded with each call, `keeps_bodies` the beginnings of a sandbox call's bodies for some days.
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
    kept_headers: Mapped[list[Any]] = mapped_column(default=lambda: list(KEPT_HEADERS))
    keeps_bodies: Mapped[bool] = mapped_column(default=False)
    tries_an_hour: Mapped[int] = mapped_column(default=TRIES_AN_HOUR)
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
    document gives for it: status, type, body. With `tried_by_anyone`, calls without a credential may ask for its
    sandbox.
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
    tried_by_anyone: Mapped[bool] = mapped_column(default=False)
    retired_at: Mapped[datetime | None]
    api_version: Mapped[ApiVersion] = relationship(back_populates="operations", lazy="joined")

    @property
    def label(self) -> str:
        """How rules and receipts name it: `GET /stations/{id}/tides`."""
        return f"{self.method} {self.path}"
