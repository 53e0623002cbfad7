"""Groups of consumers, by name: who may see what others may not."""

from __future__ import annotations

from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name


class ConsumerGroup(Base):
    """Consumers that may see what others may not."""

    __tablename__ = "consumer_group"
    id: Mapped[Id]
    name: Mapped[Name] = mapped_column(unique=True)
