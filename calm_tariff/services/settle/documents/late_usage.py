"""Usage that arrived for periods already issued: told, and shown apart, until it is charged.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session, load_only

from calm_tariff.core.periods import Period, day_start
from calm_tariff.services.base.context import zone_of
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.money_documents import Invoice, MoneyDocument, MoneyLine

ZERO = Decimal(0)
# What stands for the part of a charge: the line is on an issued document, or on a credit note that lets it be charged
# again.
COUNTS = (MoneyDocument.state != "draft") & func.ifnull(MoneyDocument.__table__.c.chargeable_again, True)
# Units and amounts of credit notes are taken back.
SIGN = case((MoneyLine.sort == "credit", -1), else_=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class LateUnits:
    """Units of one meter that arrived for a consumer's issued period and are on no document. Below 0 where fewer are
    recorded now."""

    consumer_id: int
    consumer: str
    invoice_id: int
    meter_id: int
    meter: str
    units: Decimal


def of_period(session: Session, period: Period) -> list[LateUnits]:
    """What is recorded now for a period's issued invoices and stands on no document, or differs from what stands
    there."""
    found: dict[tuple[int, int], Decimal] = {}
    for (invoice, _, meter), units in differing(session, period).items():
        found[invoice.id, meter] = found.get((invoice.id, meter), ZERO) + units
    return named(session, found)


def named(session: Session, units: Mapping[tuple[int, int], Decimal]) -> list[LateUnits]:
    """Units by invoice and meter as people see them, by consumer and meter; nothing of those that are 0."""
    query = select(Invoice.id, Invoice.consumer_id, Consumer.name).join(Consumer, Consumer.id == Invoice.consumer_id)
    whose = {row.id: row for row in session.execute(query.where(Invoice.id.in_({of for of, _ in units})))}
    meters = dict(session.execute(select(Meter.id, Meter.name)).all())
    late = [
        LateUnits(
            consumer_id=whose[invoice].consumer_id,
            consumer=whose[invoice].name,
            invoice_id=invoice,
            meter_id=meter,
            meter=meters[meter],
            units=amount,
        )
        for (invoice, meter), amount in units.items()
        if amount and invoice in whose
    ]
    return sorted(late, key=lambda each: (each.consumer, each.meter))


def differing(
    session: Session, period: Period, consumers: Collection[int] | None = None
) -> Mapping[tuple[Invoice, int, int], Decimal]:
    """Units recorded now less those on documents, by the period's issued invoice, stay and meter, where they differ;
    of all consumers, or of some."""
    own = (
        select(MoneyLine.stay_id, MoneyLine.document_id, MoneyLine.subscription_id)
        .join(Invoice, Invoice.id == MoneyLine.document_id)
        .where(Invoice.period_start == period.start, Invoice.state != "draft")
        .where(MoneyLine.sort == "own", MoneyLine.kind == "usage", MoneyLine.stay_id.is_not(None))
    )
    only_of = None
    if consumers is not None:
        own = own.where(Invoice.consumer_id.in_(consumers))
        only_of = sorted({row.subscription_id for row in session.execute(own) if row.subscription_id})
    charged = charged_units(session, period, only_of)
    if not charged:
        return {}
    where = zone_of(session)
    span = day_start(period.start, where), day_start(period.end, where)
    recorded = usage_queries.units_by_stay(session, *span, only_of)
    apart = {key: more for key, units in charged.items() if (more := recorded.get(key, ZERO) - units)}
    rows = session.execute(own.where(MoneyLine.stay_id.in_({stay for stay, _ in apart}))).all()
    only = load_only(Invoice.id, Invoice.consumer_id, Invoice.period_start, Invoice.period_end, Invoice.state)
    query = select(Invoice).where(Invoice.id.in_({row.document_id for row in rows})).options(only)
    invoices = {invoice.id: invoice for invoice in session.scalars(query)}
    invoice_of = {row.stay_id: invoices[row.document_id] for row in rows}
    return {(invoice_of[stay], stay, meter): more for (stay, meter), more in apart.items() if stay in invoice_of}


def to_charge_again(session: Session, period: Period) -> Sequence[Invoice]:
    """The period's issued invoices of which a credit note took back something that may be charged again."""
    back = (
        select(MoneyLine.subscription_id)
        .join(MoneyDocument, MoneyDocument.id == MoneyLine.document_id)
        .where(MoneyLine.belongs_to == period.start, MoneyLine.sort == "credit", COUNTS)
    )
    own = select(MoneyLine.document_id).where(MoneyLine.sort == "own", MoneyLine.subscription_id.in_(back))
    query = select(Invoice).where(Invoice.period_start == period.start, Invoice.state != "draft", Invoice.id.in_(own))
    return session.scalars(query).all()


def charged_units(
    session: Session, period: Period, subscriptions: Sequence[int] | None = None
) -> dict[tuple[int, int], Decimal]:
    """Units on documents that charge a period, less those credited, by stay and meter; of all subscriptions, or of
    some."""
    query = (
        select(MoneyLine.stay_id, MoneyLine.meter_id, func.sum(SIGN * MoneyLine.quantity))
        .join(MoneyDocument, MoneyDocument.id == MoneyLine.document_id)
        .where(MoneyLine.belongs_to == period.start, MoneyLine.kind == "usage", COUNTS)
        .where(MoneyLine.stay_id.is_not(None), MoneyLine.meter_id.is_not(None))
        .group_by(MoneyLine.stay_id, MoneyLine.meter_id)
    )
    if subscriptions is not None:
        query = query.where(MoneyLine.subscription_id.in_(subscriptions))
    return {(stay, meter): units for stay, meter, units in session.execute(query)}


def issued_periods(session: Session, until: date, at_most: int | None = None) -> list[Period]:
    """The periods with an issued invoice that start on a day or before, newest first."""
    query = (
        select(Invoice.period_start, Invoice.period_end)
        .where(Invoice.state != "draft", Invoice.period_start <= until)
        .distinct()
        .order_by(Invoice.period_start.desc())
        .limit(at_most)
    )
    return [Period(start, end) for start, end in session.execute(query)]
