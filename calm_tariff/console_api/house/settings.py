"""The provider's settings."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.billing.accounts.collecting import TRIES_AFTER_DAYS
from calm_tariff.core.billing.accounts.reminders import Policy
from calm_tariff.core.billing.documents.review import USUAL_CHANGE
from calm_tariff.core.billing.documents.tax import Rate
from calm_tariff.core.provider import ProviderSettings
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.services.house import settings
from calm_tariff.services.house.settings import SettingsView

router = APIRouter(tags=["house"], route_class=Again)


class TaxChangeIn(BaseModel):
    """Another percent of tax from a day on."""

    since: date
    percent: Decimal


class SettingsIn(BaseModel):
    """All of the provider's settings; `working_days` are numbers of days of the week, of which Monday is 0."""

    name: str = Field(max_length=1000)
    address: str = Field(default="", max_length=2000)
    country: str = Field(default="", max_length=2)
    tax_number: str = Field(default="", max_length=100)
    time_zone: str = Field(max_length=100)
    currency: str = Field(max_length=10)
    tax_percent: Decimal
    tax_changes: list[TaxChangeIn] = Field(default=[], max_length=1000)
    payment_days: int
    mail_from: str = Field(max_length=1000)
    working_days: list[int]
    target_days: int = 2
    invoice_prefix: str = Field(default="INV", max_length=100)
    credit_note_prefix: str = Field(default="CN", max_length=100)
    zero_invoices: bool = False
    adjustment_limit: Decimal | None = None
    review_percent: int = USUAL_CHANGE
    charge_after_days: int | None = None
    reminders_after_days: list[int] = Field(default=[*Policy().reminders_after_days], max_length=1000)
    pause_after_days: int | None = Policy().pause_after_days
    tries_after_days: list[int] = Field(default=[*TRIES_AFTER_DAYS], max_length=1000)
    write_off_limit: Decimal | None = None
    iban: str = Field(default="", max_length=100)
    bic: str = Field(default="", max_length=100)
    body_days: int
    call_months: int = 0


@router.get("/house/settings")
def everything(ctx: Asking) -> SettingsView:
    """The provider's settings, what each changes and from when, and which are locked."""
    return settings.everything(ctx)


@router.put("/house/settings")
def change(ctx: Asking, edition: Edition, typed: SettingsIn) -> SettingsView:
    """Have other settings; what money was charged in stays as it is."""
    wanted = typed.model_dump()
    wanted["working_days"] = tuple(sorted(set(typed.working_days)))
    wanted["tax_changes"] = tuple(Rate(since=each.since, percent=each.percent) for each in typed.tax_changes)
    wanted["reminders_after_days"] = tuple(typed.reminders_after_days)
    wanted["tries_after_days"] = tuple(typed.tries_after_days)
    return settings.change(ctx, ProviderSettings(**wanted), edition)
