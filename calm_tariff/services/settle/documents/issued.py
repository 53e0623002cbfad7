"""An issued document with all that stands on it: who issued it to whom is kept as it was known then.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from dataclasses import asdict
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.bank.references import creditor_reference
from calm_tariff.core.billing.documents.issued import Buyer, Issued, IssuedGroup, IssuedLine, Seller
from calm_tariff.core.billing.documents.tax import treatment
from calm_tariff.core.money import rounded
from calm_tariff.core.periods import instant_of, local_day
from calm_tariff.services.base.context import provider_of, zone_of
from calm_tariff.services.settle.documents import views
from calm_tariff.services.settle.documents.views import LineView
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.settle.accounts import AccountEntry, Allocation
from calm_tariff.store.settle.money_documents import CreditNote, Invoice, MoneyDocument

ZERO = Decimal(0)
_CORRECTED = {"late": "late for {period}", "credit": "of {number}"}


def freeze(session: Session, document: MoneyDocument) -> None:
    """Keep with a document who issues it to whom, as they are known now."""
    document.parties = _known(session, document.consumer)


def issued(session: Session, document: MoneyDocument) -> Issued:
    """An issued document, whose lines are read from what was frozen."""
    kept = document.parties or _known(session, document.consumer)
    seller, buyer = Seller(**kept["seller"]), Buyer(**kept["buyer"])
    where = zone_of(session)
    currency, number = document.currency, document.number or ""
    correcting: dict[str, Any] = {}
    if isinstance(document, CreditNote):
        correcting = {
            "corrects": document.corrects.number or "",
            "corrects_of": _day(document.corrects.issued_at, where),
            "reason": document.reason,
        }
    elif isinstance(document, Invoice):
        correcting = {
            "due_on": document.due_on,
            "order_number": document.order_number,
            "used": rounded(_used(session, document), currency),
            "paid_by": _paid_by(document.payment_method),
            "reference": creditor_reference(number),
        }
    day = _day(document.issued_at, where)
    assert day is not None
    lines = views.lines(session, document, {}, {})
    return Issued(
        **{"due_on": None, "order_number": "", **correcting},
        kind="credit note" if isinstance(document, CreditNote) else "invoice",
        number=number,
        issued_on=day,
        first=document.period_start,
        last=document.period_end - timedelta(days=1),
        currency=currency,
        seller=seller,
        buyer=buyer,
        lines=tuple(_line(x, document, where) for x in lines),
        groups=tuple(
            IssuedGroup(
                treatment=treatment(g.treatment),
                percent=g.percent,
                base=rounded(g.base, currency),
                tax=rounded(g.tax, currency),
                note=g.note,
            )
            for g in views.tax_groups(document, kept.get("exempt_because", ""))
        ),
        subtotal=rounded(document.subtotal, currency),
        tax=rounded(document.tax, currency),
        total=rounded(document.total, currency),
    )


def _known(session: Session, consumer: Consumer) -> dict[str, Any]:
    provider = provider_of(session)
    seller = Seller(
        name=provider.name,
        address=provider.address,
        country=provider.country,
        tax_number=provider.tax_number,
        iban=provider.iban,
        bic=provider.bic,
    )
    buyer = Buyer(
        name=consumer.name, address=consumer.address, country=consumer.country, tax_number=consumer.tax_number
    )
    return {"seller": asdict(seller), "buyer": asdict(buyer), "exempt_because": consumer.tax_note}


def _line(x: LineView, document: MoneyDocument, where: ZoneInfo) -> IssuedLine:
    charged = x.charged
    subscription = f"{charged.application} on {charged.product} · {charged.plan}" if charged else ""
    first, last = document.period_start, document.period_end - timedelta(days=1)
    if charged is not None:
        first = local_day(instant_of(charged.segment_start), where)
        # A stretch ends before its end: at midnight, with the day before.
        last = max(first, local_day(instant_of(charged.segment_end) - 1, where))
    note = ""
    if x.sort in _CORRECTED and x.corrects is not None:
        note = _CORRECTED[x.sort].format(period=f"{x.belongs_to:%B %Y}", number=x.corrects.number)
    elif x.sort == "late":
        note = f"late for {x.belongs_to:%B %Y}"
    return IssuedLine(
        label=x.label,
        subscription=subscription,
        rule=x.rule,
        quantity=x.quantity,
        days=charged.days if charged and x.kind == "fee" else 0,
        first=first,
        last=last,
        amount=rounded(x.amount, document.currency),
        treatment=treatment(x.treatment),
        percent=x.percent,
        note=note,
    )


def _used(session: Session, invoice: Invoice) -> Decimal:
    """Credit on account that went to an invoice when it was issued: by its own entry, and never changed since."""
    query = (
        select(func.sum(Allocation.amount))
        .join(AccountEntry, AccountEntry.id == Allocation.by_id)
        .where(AccountEntry.document_id == invoice.id, Allocation.invoice_id == invoice.id)
    )
    return session.scalar(query) or ZERO


def _paid_by(method: str | None) -> Literal["transfer", "card", ""]:
    return "card" if method == "card" else "transfer" if method == "transfer" else ""


def _day(at: datetime | None, where: ZoneInfo) -> date | None:
    return None if at is None else local_day(instant_of(at), where)
