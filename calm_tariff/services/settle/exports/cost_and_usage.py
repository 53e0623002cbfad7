"""What a period's issued documents charge, as cost and usage rows (FOCUS 1.0): one for each line, and one for the tax
of each group."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from calm_tariff.core.money import rounded
from calm_tariff.core.periods import day_start, moment_of, month_starting
from calm_tariff.formats.money_documents.focus import Category, FocusRow, Frequency
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle.documents import views
from calm_tariff.services.settle.documents.views import LineView
from calm_tariff.services.settle.exports import lines
from calm_tariff.store.settle.money_documents import CreditNote, MoneyDocument

_CATEGORIES: dict[str, Category] = {"usage": "Usage", "fee": "Purchase", "setup": "Purchase"}
_FREQUENCIES: dict[str, Frequency] = {"usage": "Usage-Based", "fee": "Recurring"}


def of_period(ctx: Context, start: date) -> Iterator[FocusRow]:
    """The rows of all documents that were issued for a period, by document."""
    ctx.actor.must_be(*ROLES)
    return every(ctx, start)


def every(ctx: Context, start: date) -> Iterator[FocusRow]:
    """The same for whoever was asked for them."""
    ids = lines.documents(ctx, start)
    for first in range(0, len(ids), lines.AT_ONCE):
        with ctx.reading() as session:
            documents = lines.loaded(session, ids[first : first + lines.AT_ONCE])
            by_document = views.lines_of(session, documents)
            for document in documents:
                yield from _rows(session, document, by_document[document.id])


def _rows(session: Session, document: MoneyDocument, of: list[LineView]) -> Iterator[FocusRow]:
    seller, where = (
        (document.parties or {}).get("seller", {}).get("name") or provider_of(session).name,
        zone_of(session),
    )
    sign = -1 if isinstance(document, CreditNote) else 1
    for x in of:
        yield _row(document, x, seller, where, sign)
    for group in document.tax_groups:
        if group.tax:
            yield _tax(document, group.treatment, sign * group.tax, seller, where)


def _row(document: MoneyDocument, x: LineView, seller: str, where: ZoneInfo, sign: int) -> FocusRow:
    begin, end = _bounds(x.belongs_to, where)
    charged, usage = x.charged, x.kind == "usage"
    words = f"{x.label}: {x.rule}" if x.rule else x.label
    sku = f"{charged.product} · {charged.plan} · {x.label}" if charged else None
    return FocusRow(
        **_same(document, sign * x.amount, seller, where),
        charge_category=_CATEGORIES.get(x.kind, "Adjustment"),
        charge_class="Correction" if sign < 0 or x.sort == "late" else None,
        charge_description=words,
        charge_frequency=_FREQUENCIES.get(x.kind, "One-Time"),
        charge_period_start=charged.segment_start if charged else begin,
        charge_period_end=charged.segment_end if charged else end,
        consumed_quantity=x.quantity if usage else None,
        consumed_unit=x.meter if usage else None,
        pricing_category="Standard" if usage or x.kind in ("fee", "setup") else None,
        pricing_quantity=x.priced if usage else (Decimal(1) if charged else None),
        pricing_unit=x.meter if usage else ("Months" if x.kind == "fee" else "Units" if charged else None),
        resource_id=f"subscription-{charged.subscription_id}" if charged else None,
        resource_name=charged.application if charged else None,
        resource_type="Application" if charged else None,
        service_name=charged.product if charged else seller,
        sku_id=sku,
        sku_price_id=f"{sku} · revision {charged.revision}" if charged else None,
        x_tax_treatment=x.treatment,
    )


def _tax(document: MoneyDocument, treatment: str, amount: Decimal, seller: str, where: ZoneInfo) -> FocusRow:
    begin, end = _bounds(document.period_start, where)
    return FocusRow(
        **_same(document, amount, seller, where),
        charge_category="Tax",
        charge_class="Correction" if isinstance(document, CreditNote) else None,
        charge_description="Tax",
        charge_frequency="One-Time",
        charge_period_start=begin,
        charge_period_end=end,
        consumed_quantity=None,
        consumed_unit=None,
        pricing_category=None,
        pricing_quantity=None,
        pricing_unit=None,
        resource_id=None,
        resource_name=None,
        resource_type=None,
        service_name=seller,
        sku_id=None,
        sku_price_id=None,
        x_tax_treatment=treatment,
    )


def _same(document: MoneyDocument, amount: Decimal, seller: str, where: ZoneInfo) -> dict[str, Any]:
    """What every row of a document says. A price is what it is: no other was agreed, and none is listed beside it."""
    begin, end = _bounds(document.period_start, where)
    cost = rounded(amount, document.currency)
    return {
        "billed_cost": cost,
        "contracted_cost": cost,
        "effective_cost": cost,
        "list_cost": cost,
        "billing_account_id": str(document.consumer_id),
        "billing_account_name": document.consumer.name,
        "billing_currency": document.currency,
        "billing_period_start": begin,
        "billing_period_end": end,
        "invoice_issuer_name": seller,
        "provider_name": seller,
        "publisher_name": seller,
        "x_document": document.number or "",
    }


def _bounds(start: date, where: ZoneInfo) -> tuple[datetime, datetime]:
    """The instants that bound a month."""
    period = month_starting(start)
    begin, end = (moment_of(day_start(day, where)).astimezone(UTC) for day in (period.start, period.end))
    return begin, end
