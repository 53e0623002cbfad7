"""Signing in through an outside provider of identities: where a portal has one, and who is known by it."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.columns import Base, Id, Name, Prose


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
