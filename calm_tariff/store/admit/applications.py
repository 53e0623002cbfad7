"""Applications and their keys."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.columns import Base, Hash, Id, Micros, Name, Prose, Word
from calm_tariff.store.house.service_tokens import SecretPlace


class Application(Base):
    """A consumer's program that makes calls: its `purpose`, a mail address in `contact` of whoever knows about it, and
    whether it is for the sandbox alone. `client_id` is its public name for Basic, OAuth 2 and outside issuers; `tags`
    are its own words, which back ends may be told."""

    __tablename__ = "application"
    __table_args__ = (UniqueConstraint("consumer_id", "name"),)
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"))
    name: Mapped[Name]
    purpose: Mapped[Prose] = mapped_column(default="")
    environment: Mapped[Word] = mapped_column(default="live")
    contact: Mapped[Name] = mapped_column(default="")
    created_at: Mapped[datetime]
    client_id: Mapped[Word] = mapped_column(unique=True)
    tags: Mapped[dict[str, Any]] = mapped_column(default=dict)
    consumer: Mapped[Consumer] = relationship(lazy="joined")
    keys: Mapped[list[ApiKey]] = relationship(back_populates="application", order_by="ApiKey.id")


class ApplicationBefore(Base):
    """Whose an application was, until its consumer was merged into another: what was counted and charged until then is
    that consumer's."""

    __tablename__ = "application_before"
    application_id: Mapped[int] = mapped_column(ForeignKey("application.id"), primary_key=True, autoincrement=False)
    until_at: Mapped[datetime] = mapped_column(primary_key=True)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)


class ApiKey(Base):
    """A credential: only its hash and a visible prefix are kept. States: core.lifecycles.KEY.

    `kind`: an API key, or the secret that belongs to the application's client id. `addresses` and `operations` are what
    its calls are narrowed to (core.bounds); `tags` are its owner's own words, told to nobody.
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
    addresses: Mapped[list[Any]] = mapped_column(default=list)
    operations: Mapped[list[Any]] = mapped_column(default=list)
    tags: Mapped[dict[str, Any]] = mapped_column(default=dict)
    application: Mapped[Application] = relationship(back_populates="keys", lazy="joined")


class ApiKeyUse(Base):
    """When a key was last used by a recorded call, and from which address, where that was recorded."""

    __tablename__ = "api_key_use"
    key_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    last_at_us: Mapped[Micros]
    address: Mapped[str] = mapped_column(String(60))


class ApiKeyPlace(SecretPlace, Base):
    """An address from which the secret of a client id was shown to the token endpoint."""

    __tablename__ = "api_key_place"
    secret_id: Mapped[int] = mapped_column(ForeignKey("api_key.id"), primary_key=True)
