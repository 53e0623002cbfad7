"""The provider."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import JSON, Numeric, String
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Money, Name, Prose, Word


class Provider(Base):
    """The one organisation whose APIs are sold. `country` and `tax_number` are as a consumer's. `tax_changes` are days
    from which another percent holds (core.billing.documents.tax). Where nothing is due no invoice is issued, unless it
    wants `zero_invoices`. An adjustment above `adjustment_limit` takes a second person; None for never. A charge that
    differs by more than `review_percent` from the last months' is out of the ordinary. Months are drafted by themselves
    `charge_after_days` after their end; None for never. What is not paid is reminded of and paused for by
    core.billing.accounts.reminders, and taken from cards by core.billing.accounts.collecting; giving up more than
    `write_off_limit` takes a second person. Transfers go to its `iban`; `bank_columns` is which column of its bank's
    CSV files is what. `factor_required`: its people show a second factor at the sign-in. `settled_at` is when its
    settings were first looked through, `charged_at` when money was first charged. Calls before the day `calls_from`
    were thrown away."""

    __tablename__ = "provider"
    id: Mapped[Id]
    name: Mapped[Name]
    time_zone: Mapped[Word]
    currency: Mapped[str] = mapped_column(String(3))
    tax_percent: Mapped[Decimal] = mapped_column(Numeric(7, 4))
    mail_from: Mapped[Name]
    payment_days: Mapped[int] = mapped_column(default=14)
    factor_required: Mapped[bool] = mapped_column(default=False)
    address: Mapped[Prose] = mapped_column(default="")
    working_days: Mapped[list[Any]] = mapped_column(default=lambda: [0, 1, 2, 3, 4])
    target_days: Mapped[int] = mapped_column(default=2)
    invoice_prefix: Mapped[str] = mapped_column(String(10), default="INV")
    credit_note_prefix: Mapped[str] = mapped_column(String(10), default="CN")
    country: Mapped[str] = mapped_column(String(2), default="")
    tax_number: Mapped[Word] = mapped_column(default="")
    tax_changes: Mapped[list[Any]] = mapped_column(default=list)
    zero_invoices: Mapped[bool] = mapped_column(default=False)
    adjustment_limit: Mapped[Money | None]
    review_percent: Mapped[int] = mapped_column(default=30)
    charge_after_days: Mapped[int | None]
    reminders_after_days: Mapped[list[Any]] = mapped_column(default=lambda: [3, 10, 20])
    pause_after_days: Mapped[int | None] = mapped_column(default=30)
    tries_after_days: Mapped[list[Any]] = mapped_column(default=lambda: [0, 1, 3, 7])
    write_off_limit: Mapped[Money | None]
    iban: Mapped[Word] = mapped_column(default="")
    bic: Mapped[Word] = mapped_column(default="")
    bank_columns: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    body_days: Mapped[int] = mapped_column(default=7)
    call_months: Mapped[int] = mapped_column(default=0)
    calls_from: Mapped[date | None]
    settled_at: Mapped[datetime | None]
    charged_at: Mapped[datetime | None]
    edition: Mapped[int] = mapped_column(default=1)
