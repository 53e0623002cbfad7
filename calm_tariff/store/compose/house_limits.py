"""Limits above all plans."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id


class HouseLimits(Base):
    """Limits above all plans: provider-wide (no API version), or of one API version."""

    __tablename__ = "house_limits"
    id: Mapped[Id]
    api_version_id: Mapped[int | None] = mapped_column(ForeignKey("api_version.id"), unique=True)
    limits: Mapped[list[Any]]
    edition: Mapped[int] = mapped_column(default=1)
