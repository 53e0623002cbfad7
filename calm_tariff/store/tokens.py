"""Signed tokens: our own signing keys, what was revoked, and the outside issuers that are trusted."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Text
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base import Base, Id, Name, Word


class SigningKey(Base):
    """A key our tokens are signed with (ES256): its public half as a JWK, its private half sealed (JWE). The newest
    signs, all verify."""

    __tablename__ = "signing_key"
    kid: Mapped[Word] = mapped_column(primary_key=True)
    public: Mapped[str] = mapped_column(Text)
    sealed: Mapped[str] = mapped_column(Text)
    made_at: Mapped[datetime]


class RevokedToken(Base):
    """A token revoked before its end, by its `jti`; of no interest once it would have expired."""

    __tablename__ = "revoked_token"
    jti: Mapped[Word] = mapped_column(primary_key=True)
    expires_at: Mapped[datetime] = mapped_column(index=True)
    revoked_at: Mapped[datetime]


class OutsideIssuer(Base):
    """An issuer whose signed tokens are credentials. `claim` names the application by its client id."""

    __tablename__ = "outside_issuer"
    id: Mapped[Id]
    name: Mapped[Name] = mapped_column(unique=True)
    issuer: Mapped[Name] = mapped_column(unique=True)
    jwks_url: Mapped[Name]
    audience: Mapped[Name]
    algorithms: Mapped[list[Any]]
    claim: Mapped[Word]
    environment: Mapped[Word]
    trusted: Mapped[bool] = mapped_column(default=True)
    edition: Mapped[int] = mapped_column(default=1)
