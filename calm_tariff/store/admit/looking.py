"""The provider's people who look at a portal as a consumer does."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Hash


class LookedAs(Base):
    """Somebody of the provider's looks at a consumer's portal as it does, or is about to: until `opened_at` the token
    is good for beginning, once, and from then on for looking. Nothing can be changed with it."""

    __tablename__ = "looked_as"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), index=True)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    opened_at: Mapped[datetime | None]
    expires_at: Mapped[datetime] = mapped_column(index=True)
