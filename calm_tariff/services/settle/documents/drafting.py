"""What stands on a draft: the period's own lines, late lines, adjustments, and what they come to.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.documents import tax
from calm_tariff.core.billing.documents.tax import Taxed, TaxRule
from calm_tariff.core.billing.documents.totals import Totals, totals
from calm_tariff.core.periods import Period
from calm_tariff.core.rating import rate
from calm_tariff.formats.values import write
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.documents import late_lines
from calm_tariff.services.settle.documents.late_lines import LatePeriod
from calm_tariff.services.settle.rating_cases import ConsumerCase
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import local_days
from calm_tariff.store.settle.money_documents import (
    Adjustment,
    DocumentTax,
    Invoice,
    MoneyDocument,
    MoneyLine,
)

# Units by (stay, meter) and local day.
DaysOf = Mapping[tuple[int, int], Mapping[date, Decimal]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Content:
    """All that is to stand on one consumer's draft of a period, and the days that its usage lines open into."""

    case: ConsumerCase
    late: tuple[LatePeriod, ...]
    adjustments: tuple[Adjustment, ...]
    percent: Decimal
    meters: Mapping[str, int]
    days: DaysOf


# A row of a table that is still to be kept, by column.
Row = dict[str, Any]


@dataclass(frozen=True, slots=True, kw_only=True)
class Drafted:
    """One consumer's draft as it is to be kept: what it says as a whole, its lines, and what those come to."""

    consumer_id: int
    head: Row
    lines: tuple[Row, ...]
    sums: Totals


@dataclass(frozen=True, slots=True, kw_only=True)
class Planned:
    """Who is to have a draft of a period, in the order of their ids, and of which periods something is charged late."""

    consumers: tuple[int, ...]
    late_of: tuple[date, ...]


def planned(session: Session, period: Period) -> Planned:
    """Everybody with a stay in a period, or something late or adjusted to be charged with it."""
    late = late_lines.waiting_for(session, period.start)
    successors = merged.successors(session)
    owing = {successors.get(consumer, consumer) for consumers in late.values() for consumer in consumers}
    adjusted = {each.consumer_id for each in agreed(session, period.start)}
    staying = rating_cases.plans_in(session, period).keys()
    return Planned(consumers=tuple(sorted({*staying, *owing, *adjusted})), late_of=tuple(late))


def contents(session: Session, period: Period, consumers: Collection[int], late_of: Collection[date]) -> list[Content]:
    """What is to stand on some consumers' drafts of a period, with what of some earlier ones is charged late."""
    days = _Days()
    charged = rating_cases.cases(session, period, list(consumers), counted=days.counted)
    cases = {case.consumer_id: case for case in charged}
    late: dict[int, list[LatePeriod]] = {}
    successors = merged.successors(session)
    for each in late_lines.waiting(session, period.start, consumers, late_of) if late_of else ():
        if each.parted.late:
            owner = each.invoice.consumer_id
            late.setdefault(successors.get(owner, owner), []).append(each)
    added: dict[int, list[Adjustment]] = {}
    for adjustment in agreed(session, period.start, consumers):
        added.setdefault(adjustment.consumer_id, []).append(adjustment)
    provider = provider_of(session)
    percent = rating_cases.percent_of(provider, period)
    others = (late.keys() | added.keys()) - cases.keys()
    for consumer in session.scalars(select(Consumer).where(Consumer.id.in_(others))):
        treatment = tax.treatment(consumer.tax_treatment)
        empty = rating_cases.case_of(provider, period, treatment)
        cases[consumer.id] = ConsumerCase(consumer.id, consumer.name, empty, (), treatment)
    meters = dict(session.execute(select(Meter.key, Meter.id)).all())
    return [
        Content(
            case=case,
            late=tuple(late.get(case.consumer_id, ())),
            adjustments=tuple(added.get(case.consumer_id, ())),
            percent=percent,
            meters=meters,
            days=days.found,
        )
        for case in sorted(cases.values(), key=lambda c: c.consumer)
    ]


def agreed(session: Session, start: date, consumers: Collection[int] | None = None) -> Sequence[Adjustment]:
    """The adjustments that go onto a period's invoices, in the order in which they were made."""
    query = select(Adjustment).where(Adjustment.period_start == start, Adjustment.state == "agreed")
    if consumers is not None:
        query = query.where(Adjustment.consumer_id.in_(consumers))
    return session.scalars(query.order_by(Adjustment.id)).all()


def drafted(session: Session, ctx: Context, content: Content) -> Drafted:
    """A draft that holds this."""
    case = content.case
    lines = _own(content)
    for period in content.late:
        lines += [_row(line) for line in late_lines.made(session, period, content.meters)]
    lines += [_adjusted(each, content.percent) for each in content.adjustments]
    sums = totals([_taxed(x["treatment"], x["percent"], x["amount"]) for x in lines], case.case.currency)
    head = {
        "currency": case.case.currency,
        "created_at": ctx.now,
        "evidence": write(case.case),
        "late_cases": {str(x.invoice.id): late_lines.kept(x) for x in content.late},
        "subtotal": sums.subtotal,
        "tax": sums.tax,
        "total": sums.total,
    }
    placed = tuple({**line, "place": place} for place, line in enumerate(lines))
    return Drafted(consumer_id=case.consumer_id, head=head, lines=placed, sums=sums)


def _row(line: MoneyLine) -> Row:
    return {name: value for name, value in vars(line).items() if not name.startswith("_")}


def adjusted_anew(session: Session, ctx: Context, draft: Invoice) -> None:
    """Have a draft hold the adjustments that are agreed now; all else on it stays as it is."""
    kept = [line for line in draft.lines if line.sort != "adjustment"]
    percent = rating_cases.percent_of(provider_of(session), Period(draft.period_start, draft.period_end))
    for line in [line for line in draft.lines if line.sort == "adjustment"]:
        draft.lines.remove(line)
    draft.tax_groups.clear()
    session.flush()
    for each in agreed(session, draft.period_start, [draft.consumer_id]):
        line = MoneyLine(**_adjusted(each, percent), place=len(kept))
        kept.append(line)
        draft.lines.append(line)
    draft.created_at = ctx.now
    summed(draft)


def summed(document: MoneyDocument) -> None:
    """Write down what a document's lines come to."""
    taxed = [_taxed(line.treatment, line.percent, line.amount) for line in document.lines]
    sums = totals(taxed, document.currency)
    document.subtotal, document.tax, document.total = sums.subtotal, sums.tax, sums.total
    document.tax_groups = [DocumentTax(**group) for group in group_rows(sums)]


def group_rows(sums: Totals) -> list[Row]:
    """The tax groups of a document, in order."""
    return [
        {
            "place": place,
            "treatment": group.rule.treatment,
            "percent": group.rule.percent,
            "base": group.base,
            "tax": group.tax,
        }
        for place, group in enumerate(sums.groups)
    ]


def _taxed(treatment: str, percent: Decimal, amount: Decimal) -> Taxed:
    return Taxed(rule=TaxRule(treatment=tax.treatment(treatment), percent=percent), amount=amount)


def _own(content: Content) -> list[Row]:
    case = content.case
    found: list[Row] = []
    counted: dict[tuple[int, str, str | None], int] = {}
    for line in rate(case.case).lines:
        origin = case.segments[line.segment]
        meter = content.meters[line.meter] if line.meter else None
        rule = tax.rule_of(case.case.segments[line.segment].plan.tax, case.treatment, content.percent)
        alike = (line.segment, line.kind, line.meter)
        counted[alike] = counted.get(alike, -1) + 1
        days = content.days.get((origin.stay_id, meter), {}) if meter else {}
        found.append(
            {
                "sort": "own",
                "belongs_to": case.case.period.start,
                "kind": line.kind,
                "nth": counted[alike],
                "amount": line.amount,
                "treatment": rule.treatment,
                "percent": rule.percent,
                "segment": line.segment,
                "subscription_id": origin.subscription_id,
                "revision_id": origin.revision_id,
                "stay_id": origin.stay_id,
                "segment_start": origin.start,
                "segment_end": origin.end,
                "meter_id": meter,
                "quantity": line.quantity,
                "included": line.included,
                "priced": line.priced,
                "days": line.days,
                "slices": write(line.slices),
                "by_day": [[day.isoformat(), str(n)] for day, n in sorted(days.items())] if meter else None,
            }
        )
    return found


def _adjusted(of: Adjustment, percent: Decimal) -> Row:
    return {
        "sort": "adjustment",
        "belongs_to": of.period_start,
        "kind": "adjustment",
        "amount": of.amount,
        "treatment": of.treatment,
        "percent": percent if of.treatment == "standard" else Decimal(0),
        "words": of.words,
        "adjustment_id": of.id,
    }


class _Days:
    """What usage lines open into, as recorded now: read once, and summed up for what is charged."""

    def __init__(self) -> None:
        self.found: DaysOf = {}

    def counted(
        self, session: Session, start_us: int, end_us: int, subscriptions: Sequence[int]
    ) -> Mapping[tuple[int, int], Decimal]:
        """Units in [start, end) by (stay, meter), whose days are kept."""
        self.found = local_days.units_by_day(session, start_us, end_us, subscriptions, zone_of(session))
        return {key: sum(days.values(), Decimal(0)) for key, days in self.found.items()}
