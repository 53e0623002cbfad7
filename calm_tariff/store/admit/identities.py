"""Signing in through an outside provider of identities: where a portal has one, who is known by it, and who is on the
way."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.columns import Base, Hash, Id, Name, Prose


class IdentityProvider(Base):
    """Who tells a portal who somebody is (OpenID Connect). The client's secret is sealed."""

    __tablename__ = "identity_provider"
    portal_id: Mapped[int] = mapped_column(ForeignKey("portal.id"), primary_key=True, autoincrement=False)
    name: Mapped[Name]
    issuer: Mapped[str] = mapped_column(String(200))
    client_id: Mapped[Name]
    client_secret: Mapped[Prose]
    portal: Mapped[Portal] = relationship()


class MemberIdentity(Base):
    """Who a member is by an outside provider's word: `subject` names them at `issuer` for good."""

    __tablename__ = "member_identity"
    __table_args__ = (UniqueConstraint("issuer", "subject"),)
    id: Mapped[Id]
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"), index=True)
    provider: Mapped[Name]
    issuer: Mapped[str] = mapped_column(String(200))
    subject: Mapped[str] = mapped_column(String(255, collation="utf8mb4_bin"))
    linked_at: Mapped[datetime]


class OutsideSignIn(Base):
    """Somebody was sent to an outside provider, and may come back with its answer: by the state that their browser
    holds. Once the answer is there, `subject`, `email` and `name` are what it says, until it is known who they are
    here."""

    __tablename__ = "outside_sign_in"
    state_hash: Mapped[Hash] = mapped_column(primary_key=True)
    portal_id: Mapped[int] = mapped_column(ForeignKey("portal.id"), index=True)
    issuer: Mapped[str] = mapped_column(String(200))
    nonce: Mapped[str] = mapped_column(String(100))
    verifier: Mapped[str] = mapped_column(String(100))
    expires_at: Mapped[datetime] = mapped_column(index=True)
    subject: Mapped[str | None] = mapped_column(String(255))
    email: Mapped[Name] = mapped_column(default="")
    name: Mapped[Name] = mapped_column(default="")
