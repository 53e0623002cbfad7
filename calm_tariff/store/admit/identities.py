"""Signing in through an outside provider of identities: where a portal has one, and who is known by it."""

from __future__ import annotations

from sqlalchemy import ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.columns import Base, Name, Prose
from calm_tariff.store.house.identities import OutsideIdentity


class IdentityProvider(Base):
    """Who tells a portal who somebody is (OpenID Connect). The client's secret is sealed."""

    __tablename__ = "identity_provider"
    portal_id: Mapped[int] = mapped_column(ForeignKey("portal.id"), primary_key=True, autoincrement=False)
    name: Mapped[Name]
    issuer: Mapped[str] = mapped_column(String(200))
    client_id: Mapped[Name]
    client_secret: Mapped[Prose]
    portal: Mapped[Portal] = relationship()


class MemberIdentity(OutsideIdentity, Base):
    """Who a member is."""

    __tablename__ = "member_identity"
    __table_args__ = (UniqueConstraint("issuer", "subject"),)
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"), index=True)
