"""Meters."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Column, ForeignKey, String, Table
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base.columns import Base, Id, Name, Word
from calm_tariff.store.compose.apis import Operation

MeterOperation = Table(
    "meter_operation",
    Base.metadata,
    Column("meter_id", ForeignKey("meter.id"), primary_key=True),
    Column("operation_id", ForeignKey("operation.id"), primary_key=True),
)


class Meter(Base):
    """What counts. Sealed once a published revision uses it."""

    __tablename__ = "meter"
    id: Mapped[Id]
    key: Mapped[Word] = mapped_column(unique=True)
    name: Mapped[Name]
    measure: Mapped[Word]
    outcomes: Mapped[list[Any]]
    environments: Mapped[list[Any]]
    header: Mapped[str | None] = mapped_column(String(200))
    credentials: Mapped[list[Any]] = mapped_column(default=list)
    state: Mapped[Word] = mapped_column(default="active")
    created_at: Mapped[datetime]
    sealed_at: Mapped[datetime | None]
    edition: Mapped[int] = mapped_column(default=1)
    operations: Mapped[list[Operation]] = relationship(secondary=MeterOperation, order_by="Operation.id")
