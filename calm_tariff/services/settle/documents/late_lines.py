"""What issued periods have to be charged more, or credited, by all that is recorded for them now.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from calm_tariff.core.billing.documents import late
from calm_tariff.core.billing.documents.late import Charged, Difference, LateCase, LineKey, Of, Parted, Sum
from calm_tariff.core.errors import Conflict
from calm_tariff.core.periods import Period, day_start
from calm_tariff.formats.values import write
from calm_tariff.services.base.context import zone_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.documents import late_usage
from calm_tariff.services.settle.documents.late_usage import COUNTS, ZERO
from calm_tariff.store.admit import merged
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import local_days
from calm_tariff.store.settle.money_documents import Invoice, MoneyDocument, MoneyLine

OF: dict[str, Of] = {"own": "invoice", "late": "late", "credit": "credit"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A segment that a late case counts, as documents know it."""

    subscription_id: int
    revision_id: int
    stay_id: int | None
    start: datetime
    end: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class LatePeriod:
    """What has to be charged late or credited of one consumer's issued period. `places` are the segments by number,
    `lines` all that was charged and credited of the period before."""

    invoice: Invoice
    case: LateCase
    parted: Parted
    places: tuple[Place, ...]
    lines: tuple[MoneyLine, ...]


def waiting_for(session: Session, before: date) -> dict[date, set[int]]:
    """Who may have to be charged late or credited of issued periods that start before a day, by period: those of whom
    other units are recorded now than were charged, or something may be charged again."""
    found = {}
    for period in reversed(late_usage.issued_periods(session, before - timedelta(days=1))):
        invoices = _changed(session, period, None)
        if invoices:
            found[period.start] = {invoice.consumer_id for invoice in invoices}
    return found


def _changed(session: Session, period: Period, consumers: Collection[int] | None) -> set[Invoice]:
    differing = {invoice for invoice, _, _ in late_usage.differing(session, period, consumers)}
    again = late_usage.to_charge_again(session, period)
    return differing | {invoice for invoice in again if consumers is None or invoice.consumer_id in consumers}


def waiting(
    session: Session, before: date, consumers: Collection[int] | None = None, periods: Collection[date] | None = None
) -> list[LatePeriod]:
    """Of every issued period that starts before a day, or of some, what has to be charged late or credited: the oldest
    first, by consumer. `consumers` are those who go on, with those merged into them."""
    successors = merged.successors(session)
    charged = None if consumers is None else {*consumers, *(c for c, into in successors.items() if into in consumers)}
    found = []
    for period in reversed(late_usage.issued_periods(session, before - timedelta(days=1))):
        if periods is not None and period.start not in periods:
            continue
        invoices = {invoice.consumer_id: invoice for invoice in _changed(session, period, charged)}
        found.extend(_of_period(session, period, invoices))
    return found


def _of_period(session: Session, period: Period, invoices: dict[int, Invoice]) -> list[LatePeriod]:
    if not invoices:
        return []
    keys = dict(session.execute(select(Meter.id, Meter.key)).all())
    found = []
    for case in rating_cases.cases(session, period, list(invoices)):
        invoice = invoices[case.consumer_id]
        lines = charged_lines(session, invoice)
        places = [
            Place(
                subscription_id=s.subscription_id,
                revision_id=s.revision_id,
                stay_id=s.stay_id,
                start=s.start,
                end=s.end,
            )
            for s in case.segments
        ]
        known = LateCase(case=case.case, charged=_charged(lines, places, keys))
        parts = late.parted(late.differences(known))
        if parts.late or parts.credited:
            found.append(
                LatePeriod(invoice=invoice, case=known, parted=parts, places=tuple(places), lines=tuple(lines))
            )
    return found


def charged_lines(session: Session, invoice: Invoice) -> Sequence[MoneyLine]:
    """Every line that charges or credits what an issued invoice charges, on whatever document: the oldest first."""
    own = select(MoneyLine.subscription_id).where(MoneyLine.document_id == invoice.id, MoneyLine.sort == "own")
    query = (
        select(MoneyLine)
        .join(MoneyDocument, MoneyDocument.id == MoneyLine.document_id)
        .where(MoneyLine.belongs_to == invoice.period_start, MoneyLine.sort.in_(OF), COUNTS)
        .where(MoneyLine.subscription_id.in_(own))
        .options(joinedload(MoneyLine.document))
        .order_by(MoneyLine.document_id, MoneyLine.place)
    )
    return session.scalars(query).all()


def _charged(lines: Iterable[MoneyLine], places: list[Place], keys: dict[int, str]) -> tuple[Charged, ...]:
    """What was charged so far, line by line. Segments that are no more are added to the places."""
    number = {(place.subscription_id, place.start): n for n, place in enumerate(places)}
    sums: dict[Of, dict[LineKey, Sum]] = {"invoice": {}, "late": {}, "credit": {}}
    for line in lines:
        assert line.subscription_id is not None and line.segment_start is not None
        assert line.revision_id is not None and line.segment_end is not None
        where = (line.subscription_id, line.segment_start)
        if where not in number:
            number[where] = len(places)
            places.append(
                Place(
                    subscription_id=line.subscription_id,
                    revision_id=line.revision_id,
                    stay_id=line.stay_id,
                    start=line.segment_start,
                    end=line.segment_end,
                )
            )
        key: LineKey = (number[where], line.kind, keys[line.meter_id] if line.meter_id else None, line.nth)  # type: ignore[assignment]
        of = sums[OF[line.sort]]
        of[key] = of.get(key, Sum()).and_also(line.amount, line.quantity)
    return tuple(charged for of, each in sums.items() for charged in late.as_charged(of, each))


def kept(of: LatePeriod) -> dict[str, Any]:
    """What a draft keeps of a period of which it charges something late: the case it can be computed from again, and
    on which documents it was charged till then."""
    return {"charged_on": sorted({line.document_id for line in of.lines}), "case": write(of.case)}


def refuse_charged_since(session: Session, draft: Invoice, called: str) -> None:
    """Raise `Conflict` where what a draft charges late was charged or credited elsewhere since it was computed."""
    for invoice_id, kept in draft.late_cases.items():
        invoice = session.get_one(Invoice, int(invoice_id))
        if sorted({line.document_id for line in charged_lines(session, invoice)}) != kept["charged_on"]:
            month = f"{invoice.period_start:%B %Y}"
            raise Conflict(f"{month} was charged or credited on another document meanwhile: charge anew", called)


def alike(of: LatePeriod, difference: Difference, meter_id: int | None) -> list[MoneyLine]:
    """The lines that a difference corrects: that of the period's invoice first, then late ones."""
    place = of.places[difference.segment]
    return [
        line
        for line in of.lines
        if line.sort != "credit"
        and (line.subscription_id, line.segment_start) == (place.subscription_id, place.start)
        and (line.kind, line.meter_id, line.nth) == (difference.kind, meter_id, difference.nth)
    ]


def made(session: Session, of: LatePeriod, meters: Mapping[str, int]) -> list[MoneyLine]:
    """Late lines of the next invoice."""
    found = []
    for each in of.parted.late:
        line = line_of(of, each, meters[each.meter] if each.meter else None)
        if line.meter_id is not None and line.stay_id is not None:
            line.by_day = _by_day(session, of, line)
        found.append(line)
    return found


def line_of(of: LatePeriod, difference: Difference, meter_id: int | None) -> MoneyLine:
    """A difference as a line. It is taxed as the document it corrects."""
    place, now = of.places[difference.segment], difference.now
    corrected = alike(of, difference, meter_id)
    taxed = corrected[0] if corrected else _of_segment(of, place)
    return MoneyLine(
        sort="late",
        belongs_to=of.invoice.period_start,
        kind=difference.kind,
        nth=difference.nth,
        amount=difference.amount,
        before=(now.amount if now else ZERO) - difference.amount,
        treatment=taxed.treatment,
        percent=taxed.percent,
        origin_id=corrected[0].id if corrected else None,
        segment=difference.segment,
        subscription_id=place.subscription_id,
        revision_id=place.revision_id,
        stay_id=place.stay_id,
        segment_start=place.start,
        segment_end=place.end,
        meter_id=meter_id,
        quantity=difference.quantity,
        included=now.included if now else None,
        priced=now.priced if now else None,
        days=now.days if now else 0,
        slices=write(now.slices) if now else [],
    )


def _of_segment(of: LatePeriod, place: Place) -> MoneyLine:
    """A line of the same segment, or else of the same invoice: a new line is taxed as it is."""
    near = [x for x in of.lines if (x.subscription_id, x.segment_start) == (place.subscription_id, place.start)]
    return (near or [x for x in of.lines if x.document_id == of.invoice.id])[0]


def _by_day(session: Session, of: LatePeriod, late: MoneyLine) -> list[list[str]] | None:
    """The local days of the units that came, with how many on each; None where a line that was charged before does not
    know its own."""
    charged = [x for x in of.lines if (x.stay_id, x.meter_id, x.kind) == (late.stay_id, late.meter_id, "usage")]
    if any(line.by_day is None for line in charged):
        return None
    where = zone_of(session)
    span = day_start(of.invoice.period_start, where), day_start(of.invoice.period_end, where)
    recorded = local_days.units_by_day(session, *span, [late.subscription_id or 0], where)
    days = dict(recorded.get((late.stay_id or 0, late.meter_id or 0), {}))
    for line in charged:
        sign = -1 if line.sort != "credit" else 1
        for day, units in line.by_day or ():
            on = date.fromisoformat(day)
            days[on] = days.get(on, ZERO) + sign * Decimal(units)
    return [[day.isoformat(), str(units)] for day, units in sorted(days.items()) if units]
