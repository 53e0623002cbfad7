"""Where the units of each period are: the check *charges*.

Units of the calls are held against those on documents, those of which nothing was due, free ones, those that are not
charged yet, late ones that wait, and those that are billed outside; all but the first are read from the lines of
documents and from sums of days and hours, as whoever charges reads them.

Source: docs/arithmetic.md, section 7.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from sqlalchemy import case, func, select

from calm_tariff.core.billing.books.proof import Difference, Proof, Units
from calm_tariff.services.settle.books.looking import Looking
from calm_tariff.services.settle.books.recorded import Key, Recorded
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.handoff import plans_billed_outside
from calm_tariff.store.settle.money_documents import CreditNote, Invoice, MoneyDocument, MoneyLine

ZERO = Decimal(0)
# Where units are, in words.
WHERE = {
    "charged": "charged",
    "nothing_due": "nothing due",
    "free": "free",
    "running": "to charge",
    "late": "late, waiting",
    "outside": "billed outside",
}
_NOTHING = (Units(), Units(recorded=ZERO))
# By period, stay and meter.
StayKey = tuple[date, int, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Lines:
    """Units on documents: issued ones, and those of which nothing was due."""

    issued: dict[StayKey, Decimal]
    nothing_due: dict[StayKey, Decimal]


def units(of: Looking, recorded: Recorded) -> dict[Key, Units]:
    """Where the units of every period, subscription and meter are."""
    lines, whose, closed, outside = _lines(of), _subscriptions(of), _closed(of), _outside(of)
    found: dict[Key, Units] = {}
    for period, start, end in zip(of.periods, of.starts, of.starts[1:], strict=False):
        sums = usage_queries.units_by_stay(of.session, start, end)
        on_lines = {key[1:] for key in (*lines.issued, *lines.nothing_due) if key[0] == period}
        for stay, meter in {*sums, *on_lines}:
            key = (period, whose.get(stay, 0), meter)
            now = sums.get((stay, meter), ZERO)
            charged = lines.issued.get((period, stay, meter), ZERO)
            nothing_due = lines.nothing_due.get((period, stay, meter), ZERO)
            before = found.get(key, Units())
            if (stay, meter) in on_lines:
                late = now - charged - nothing_due
                before = replace(before, charged=before.charged + charged, late=before.late + late)
                before = replace(before, nothing_due=before.nothing_due + nothing_due)
            elif (period, key[1]) in outside:
                before = replace(before, outside=before.outside + now)
            elif (period, key[1]) in closed:
                before = replace(before, free=before.free + now)
            else:
                before = replace(before, running=before.running + now)
            found[key] = before
    return _with_calls(of, recorded, found)


def proof(found: dict[Key, Units]) -> Proof:
    """Whether the units of the calls are all somewhere, and none is twice."""
    differences = [
        Difference(
            check="charges",
            what=f"units of {period:%B %Y}",
            sums=(("calls", of.recorded or ZERO), ("accounted for", of.accounted)),
            period=period,
            subscription_id=subscription or None,
            meter_id=meter,
        )
        for (period, subscription, meter), of in found.items()
        if not of.agree
    ]
    told = [u for u in found.values() if u.recorded is not None]
    sums = [("calls", sum((u.recorded or ZERO for u in told), ZERO))]
    sums += [(words, sum((getattr(u, name) for u in told), ZERO)) for name, words in WHERE.items()]
    return Proof(check="charges", compared=len(found), sums=tuple(sums), differences=tuple(differences))


def _with_calls(of: Looking, recorded: Recorded, found: dict[Key, Units]) -> dict[Key, Units]:
    kept = {period for period, start in zip(of.periods, of.starts, strict=False) if of.is_kept(start)}
    every = {
        key: replace(found.get(key, Units()), recorded=recorded.units.get(key, ZERO) if key[0] in kept else None)
        for key in sorted({*found, *(key for key in recorded.units if key[0] in kept)})
    }
    return {key: units for key, units in every.items() if units not in _NOTHING}


def _lines(of: Looking) -> _Lines:
    """Units on documents that charge, less those credited that may be charged again."""
    back = func.ifnull(CreditNote.__table__.c.chargeable_again, True)
    signed = case((MoneyLine.sort == "credit", -MoneyLine.quantity), else_=MoneyLine.quantity)
    query = (
        select(
            MoneyLine.belongs_to,
            MoneyLine.stay_id,
            MoneyLine.meter_id,
            MoneyDocument.state == "nothing due",
            func.sum(signed),
        )
        .join(MoneyDocument, MoneyDocument.id == MoneyLine.document_id)
        .where(MoneyLine.kind == "usage", MoneyDocument.state != "draft", back)
        .where(MoneyLine.stay_id.is_not(None), MoneyLine.meter_id.is_not(None))
        .group_by(MoneyLine.belongs_to, MoneyLine.stay_id, MoneyLine.meter_id, MoneyDocument.state == "nothing due")
    )
    found = _Lines(issued=defaultdict(Decimal), nothing_due=defaultdict(Decimal))
    for period, stay, meter, nothing, amount in of.session.execute(query):
        (found.nothing_due if nothing else found.issued)[period, stay, meter] += amount
    return found


def _subscriptions(of: Looking) -> dict[int, int]:
    """Whose each stay is."""
    return dict(of.session.execute(select(Stay.id, Stay.subscription_id)).all())


def _outside(of: Looking) -> set[tuple[date, int]]:
    """The periods in which a subscription is billed outside."""
    found = set()
    for period in of.periods:
        query = select(Subscription.id).where(Subscription.plan_id.in_(plans_billed_outside(period)))
        found |= {(period, subscription) for subscription in of.session.scalars(query)}
    return found


def _closed(of: Looking) -> set[tuple[date, int]]:
    """The periods of which a subscription was charged: it, or whoever has it, has an invoice that is no draft."""
    session = of.session
    lined = select(MoneyLine.belongs_to, MoneyLine.subscription_id).join(
        MoneyDocument, MoneyDocument.id == MoneyLine.document_id
    )
    lined = lined.where(MoneyLine.sort == "own", MoneyDocument.state != "draft").distinct()
    found = {(period, subscription) for period, subscription in session.execute(lined) if subscription is not None}
    owners = select(Subscription.id, Application.consumer_id).join(Application)
    of_consumer: dict[int, list[int]] = defaultdict(list)
    for subscription, consumer in session.execute(owners):
        of_consumer[consumer].append(subscription)
    successors = merged.successors(session)
    invoiced = select(Invoice.period_start, Invoice.consumer_id).where(Invoice.state != "draft")
    for period, consumer in session.execute(invoiced):
        found |= {(period, each) for each in of_consumer.get(successors.get(consumer, consumer), ())}
    return found
