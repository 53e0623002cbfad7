"""Secrets with which scripts act."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base.columns import Base, Hash, Id, Name, Word
from calm_tariff.store.house.people import Person


class ServiceToken(Base):
    """A secret with which a script does what `roles` of its owner's may do, and of that what `scopes` name, or all
    where they name nothing. Made at the machine itself, it has no owner."""

    __tablename__ = "service_token"
    id: Mapped[Id]
    label: Mapped[Name]
    roles: Mapped[list[Any]]
    scopes: Mapped[list[Any]]
    token_hash: Mapped[Hash] = mapped_column(unique=True)
    owner_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    revoked_at: Mapped[datetime | None]
    used_at: Mapped[datetime | None]
    used_from: Mapped[Word] = mapped_column(default="")
    owner: Mapped[Person | None] = relationship(lazy="joined")


class SecretPlace:
    """An address from which a secret was used."""

    secret_id: Mapped[int] = mapped_column(primary_key=True)
    address: Mapped[Word] = mapped_column(primary_key=True)
    first_at: Mapped[datetime]


class ServiceTokenPlace(SecretPlace, Base):
    """An address a service token was used from."""

    __tablename__ = "service_token_place"
    secret_id: Mapped[int] = mapped_column(ForeignKey("service_token.id"), primary_key=True)
