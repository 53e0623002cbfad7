"""Signing in through an outside provider of identities: who is on the way, which one the house has, and which of its
people are known by it."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Hash, Id, Name, Prose


class OutsideSignIn(Base):
    """Somebody was sent to an outside provider, of a portal or, without one, of the house, and may come back with its
    answer: by the state that their browser holds. Once the answer is there, `subject`, `email`, `name` and `claimed`
    (the values of the claim that gives roles) are what it says, until it is known who they are here."""

    __tablename__ = "outside_sign_in"
    state_hash: Mapped[Hash] = mapped_column(primary_key=True)
    portal_id: Mapped[int | None] = mapped_column(ForeignKey("portal.id"), index=True)
    issuer: Mapped[str] = mapped_column(String(200))
    nonce: Mapped[str] = mapped_column(String(100))
    verifier: Mapped[str] = mapped_column(String(100))
    expires_at: Mapped[datetime] = mapped_column(index=True)
    subject: Mapped[str | None] = mapped_column(String(255))
    email: Mapped[Name] = mapped_column(default="")
    name: Mapped[Name] = mapped_column(default="")
    claimed: Mapped[list[Any]] = mapped_column(default=list)


class HouseIdentityProvider(Base):
    """Who tells the house who somebody is (OpenID Connect), one at most. The client's secret is sealed. `role_claim` is
    the claim whose values give roles, by `roles_by`; empty where it gives none."""

    __tablename__ = "house_identity_provider"
    id: Mapped[Id]
    name: Mapped[Name]
    issuer: Mapped[str] = mapped_column(String(200))
    client_id: Mapped[Name]
    client_secret: Mapped[Prose]
    role_claim: Mapped[Name]
    roles_by: Mapped[dict[str, Any]]


class OutsideIdentity:
    """Who somebody is by an outside provider's word: `subject` names them at `issuer` for good."""

    id: Mapped[Id]
    provider: Mapped[Name]
    issuer: Mapped[str] = mapped_column(String(200))
    subject: Mapped[str] = mapped_column(String(255, collation="utf8mb4_bin"))
    linked_at: Mapped[datetime]


class PersonIdentity(OutsideIdentity, Base):
    """Who one of the provider's people is."""

    __tablename__ = "person_identity"
    __table_args__ = (UniqueConstraint("issuer", "subject"),)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), index=True)
