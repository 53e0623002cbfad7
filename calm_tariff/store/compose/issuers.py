"""Outside issuers whose signed tokens are credentials."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Word


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
