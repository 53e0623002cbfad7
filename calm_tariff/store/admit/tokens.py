"""Tokens of our own: the keys that sign them, and what was revoked."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import Text
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Word


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
